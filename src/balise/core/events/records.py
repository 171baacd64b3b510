"""How much there is in a logs request, found before any of it is unpacked."""

from __future__ import annotations

from collections.abc import Iterator

from balise.core.series.wire import Span, TooLarge, fields

MOST_RECORDS, MOST_PARTS = 100_000, 1_000_000
"""Records of a body, and the fields of all of them."""


def check_records(body: bytes) -> None:
    """Raises TooLarge when there is more in a body than is read at once, as `count_records`; a record, and a field of
    one, takes two bytes at least, so that ordinary bodies need no look."""
    if len(body) > 2 * MOST_RECORDS:
        count_records(body)


def count_records(body: bytes) -> int:
    """The records of an ExportLogsServiceRequest.

    Raises:
        WireError: the bytes are no such request.
        TooLarge: there are more records, or more in them, than are read at once.
    """
    count = parts = 0
    for resource in _within(body, (0, len(body)), 1):
        for scope in _within(body, resource, 2):
            for start, end in _within(body, scope, 2):
                count += 1
                parts += sum(1 for _ in fields(body, start, end))
                if count > MOST_RECORDS:
                    raise TooLarge(MOST_RECORDS, "records")
                if parts > MOST_PARTS:
                    raise TooLarge(MOST_PARTS, "fields")
    return count


def _within(body: bytes, span: Span, number: int) -> Iterator[Span]:
    """The messages of one field; each counts, also when it is empty."""
    for seen, (found, kind, start, end) in enumerate(fields(body, *span)):
        if seen > MOST_PARTS:
            raise TooLarge(MOST_PARTS, "fields")
        if found == number and kind == 2:
            yield start, end
