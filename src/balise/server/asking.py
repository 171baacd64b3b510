"""Reading what people ask with: filters and spans of time."""

from __future__ import annotations

from abc import ABC, abstractmethod

from balise.api.spans import instant
from balise.core import filters
from balise.core.filters import Filter
from balise.server.errors import bad_field


def read_filter(text: str | None, field_name: str) -> Filter | None:
    """A filter out of a request; Refused 422 naming the field when it cannot be read."""
    if text is None or not text.strip():
        return None
    try:
        return filters.parse(text)
    except filters.FilterError as error:
        raise bad_field(field_name, str(error)) from None


class NamedFilters(ABC):
    """Filters that have a name, for what is kept below where they are kept."""

    @abstractmethod
    def text(self, where: str | None, name: str | None) -> str | None:
        """What passes a filter and the one of a name, as one filter; None for everything.

        Raises:
            Refused: 422 naming the field, when there is no filter of this name.
        """


def span_of(from_: str, to: str, now: float) -> tuple[float, float]:
    """The span as unix seconds; Refused 422 when it ends before it begins."""
    start, end = instant(from_, now), instant(to, now)
    if end <= start:
        raise bad_field("to", "the span ends before it begins: swap from and to")
    if start < 0 or end - start > 20 * 366 * 86_400:
        raise bad_field("from", "the span is longer than 20 years, or begins before 1970")
    return start, end
