"""What web requests took of a host over a span, from its access logs."""

from __future__ import annotations

from collections.abc import Iterator

from balise.api.processes import RequestOf, RequestSpan, RequestSpans
from balise.api.spans import instant, rfc3339
from balise.core import filters
from balise.core.moments import nanos
from balise.core.web_requests import RequestLine, Requests, added_up
from balise.server.errors import unknown
from balise.server.events.evidence import filters_text
from balise.server.hosts.directory import Directory
from balise.store.events.day_search import Search
from balise.store.events.store import EventStore

MOST_LINES = 20_000
"""Lines of a span that are read, the newest first."""
PAGE = 1000


class RequestHistory:
    """Answers which requests a host was busy with."""

    def __init__(self, *, directory: Directory, events: EventStore) -> None:
        self._directory = directory
        self._events = events

    def over(self, host: str, start: float, end: float, *, of: RequestOf, limit: int) -> RequestSpans:
        """Requests over [start, end), unix seconds. Raises Refused 404 for a host there is not."""
        known = self._directory.find(host)
        if known is None:
            raise unknown("host", host)
        node = filters.parse(f"host eq {filters_text(known.name)} and url.path ne null")
        lines = list(self._lines(Search(nanos(start), nanos(end), "", node)))
        found = added_up(lines[:MOST_LINES], of)
        return RequestSpans(
            items=[_answer(one) for one in found[:limit]],
            looked=min(len(lines), MOST_LINES),
            left_out=len(lines) > MOST_LINES,
        )

    def _lines(self, search: Search) -> Iterator[RequestLine]:
        """The newest lines, one more than are read where there are more."""
        cursor: str | None = None
        left = MOST_LINES + 1
        while left > 0:
            found, cursor = self._events.find(search, min(PAGE, left), cursor)
            for event in found:
                yield RequestLine(instant(event.time, 0.0), event.id, event.attributes)
            left -= len(found)
            if cursor is None:
                return


def _answer(one: Requests) -> RequestSpan:
    return RequestSpan(
        of=one.of,
        requests=one.count,
        refused=one.refused,
        failed=one.failed,
        seconds=round(one.seconds, 3) if one.seconds is not None else None,
        longest_seconds=one.longest,
        clients=len(one.clients),
        first_at=rfc3339(one.first),
        last_at=rfc3339(one.last),
        slowest=one.slowest,
    )
