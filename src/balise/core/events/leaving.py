"""What of a source leaves its host: the lines that pass a filter, with what is masked made unreadable."""

from __future__ import annotations

from collections.abc import Mapping

from balise.api.remote import FollowedFile
from balise.core import filters
from balise.core.events.masks import Masks
from balise.core.filters import Filter


class Leaving:
    """Decides for one followed path. The filter sees lines as they are, before anything is masked."""

    def __init__(self, file: FollowedFile) -> None:
        self._masks = Masks(file.mask) if file.mask else None
        self._send = _read(file.send)
        self.left_out = 0
        """How many lines did not pass."""

    def over(
        self, source: str, severity: str, body: str, attributes: Mapping[str, str]
    ) -> tuple[str, dict[str, str]] | None:
        """Text and attributes as they leave; None for a line that stays."""
        if self._send is not None:
            own = {"source": source, "severity": severity, "body": body}
            named = {**filters.by_name(attributes.items()), **own}
            if not filters.matches(self._send, named.get):
                self.left_out += 1
                return None
        return self._masks.over(body, attributes) if self._masks is not None else (body, dict(attributes))


def leaving(file: FollowedFile) -> Leaving | None:
    """None when every line leaves as it is."""
    return Leaving(file) if file.mask or file.send else None


def _read(text: str | None) -> Filter | None:
    if not text:
        return None
    try:
        return filters.parse(text)
    except filters.FilterError:
        # The console looks before it keeps a plan: what a newer one means is not known here, and is no reason to stop.
        return None
