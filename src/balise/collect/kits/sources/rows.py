"""Texts that become rows as a part says."""

from __future__ import annotations

import time
from collections.abc import Mapping
from typing import Any

from balise.api.kits import Target
from balise.collect.kits.sources.source import Rows, SourceProblem, filled
from balise.core.kits.forms import FormError, rows_of


def as_rows(text: str, question: Mapping[str, Any], target: Target) -> Rows:
    """A text as rows; fields of the target stand in the words of the question."""
    words = {k: filled(v, target) if isinstance(v, str) and k != "pattern" else v for k, v in question.items()}
    try:
        return rows_of(text, {**words, "now": time.time()})
    except FormError as error:
        raise SourceProblem(str(error)) from None
