"""Whether an answer is what it has to be."""

from __future__ import annotations

import json
from typing import Any

from balise.api.probes import ProbeExpect
from balise.collect.probes.errors import ProbeFailed
from balise.core.kits.forms import FormError, select


def judge_text(expect: ProbeExpect, text: str) -> None:
    """Whether an answer has in it what it has to have. Raises ProbeFailed."""
    if expect.text is not None and expect.text not in text:
        raise ProbeFailed(f"the answer has not {expect.text!r} in it; it begins {' '.join(text[:80].split())!r}")
    if expect.not_text is not None and expect.not_text in text:
        raise ProbeFailed(f"the answer has {expect.not_text!r} in it")
    if expect.json_:
        try:
            held = json.loads(text)
        except (ValueError, RecursionError):
            raise ProbeFailed(f"the answer is no JSON; it begins {' '.join(text[:80].split())!r}") from None
        for path, wanted in expect.json_.items():
            try:
                found = select(held, path)
            except FormError as error:
                raise ProbeFailed(str(error)) from None
            if wanted not in found:
                said = "nothing" if not found else json.dumps(found[0])[:100]
                raise ProbeFailed(f"{path} is {said}; {json.dumps(wanted)} was expected")


def judge_value(expect: ProbeExpect, value: Any) -> None:
    """Whether a query's value is what it has to be. Raises ProbeFailed."""
    if expect.value is not None and str(value) != str(expect.value) and not _same_number(value, expect.value):
        raise ProbeFailed(f"it answers {str(value)[:100]!r}; {expect.value!r} was expected")
    for bound, word in ((expect.above, "above"), (expect.below, "below")):
        if bound is None:
            continue
        try:
            number = float(value)
        except (TypeError, ValueError):
            raise ProbeFailed(f"it answers {str(value)[:100]!r}, which is no number") from None
        if number <= bound if word == "above" else number >= bound:
            raise ProbeFailed(f"it answers {number:g}; a number {word} {bound:g} was expected")


def _same_number(one: Any, other: Any) -> bool:
    try:
        return float(one) == float(other)
    except (TypeError, ValueError):
        return False
