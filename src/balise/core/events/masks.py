"""Making unreadable what must not leave a host."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from balise.api.parsers import Mask
from balise.core.filters import fold_name
from balise.core.kits.forms import PATTERN_SECONDS, compiled

MASKED = "•••"
SHORTEST = 3
"""Characters of an attribute's value from which on it is masked in the text, too."""
MARK = "balise.masked"
"""The attribute that says what of an event was masked: names of attributes, and `body`."""


class Masks:
    """All masks of a source. What cannot be looked through in time is masked wholly."""

    def __init__(self, masks: Sequence[Mask]) -> None:
        self._names = {fold_name(mask.attribute) for mask in masks if mask.attribute is not None}
        self._patterns = [compiled(mask.pattern) for mask in masks if mask.pattern is not None]

    def over(self, body: str, attributes: Mapping[str, str]) -> tuple[str, dict[str, str]]:
        """Text and attributes with what is masked made unreadable, and a mark of it."""
        hidden: list[str] = []
        kept: dict[str, str] = {}
        for name, value in attributes.items():
            shown = MASKED if fold_name(name) in self._names else self._masked(value)
            kept[name] = shown
            if shown != value:
                hidden.append(name)
                # What is masked as an attribute is no secret if the text still says it.
                if fold_name(name) in self._names and len(value) >= SHORTEST:
                    body = body.replace(value, MASKED)
        said = self._masked(body)
        if MASKED in said:
            hidden.append("body")
        if hidden:
            kept[MARK] = ", ".join(hidden)
        return said, kept

    def _masked(self, text: str) -> str:
        for pattern in self._patterns:
            try:
                text = pattern.sub(MASKED, text, timeout=PATTERN_SECONDS)
            except TimeoutError:
                return MASKED
        return text
