"""A file on the service's own host."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from balise.api.credentials import CredentialBody
from balise.api.kits import Target
from balise.collect.kits.sources.rows import as_rows
from balise.collect.kits.sources.running import Here
from balise.collect.kits.sources.source import Hand, Rows, filled


class FileSource:
    """A question's `path`, which may name fields of the target, read whole."""

    def __init__(
        self, target: Target, credential: CredentialBody | None, time_limit: float, hand: Hand | None = None
    ) -> None:
        del credential, time_limit
        self._target = target
        self._hand = hand or Here()

    def ask(self, question: Mapping[str, Any]) -> Rows:
        path = filled(str(question.get("path") or ""), self._target)
        return as_rows(self._hand.read(path), question, self._target)

    def close(self) -> None:
        """Nothing is kept open."""
