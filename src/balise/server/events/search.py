"""Questions about events: which there are, how many, what they say, and which come."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from balise.api.events import (
    SEVERITIES,
    AroundAnswer,
    Event,
    EventQuery,
    EventsAsked,
    ExportQuery,
    HistogramAnswer,
    HistogramQuery,
)
from balise.api.lists import Page
from balise.core import filters
from balise.core.events.formats import FORMATS
from balise.core.moments import nanos, seconds_of
from balise.core.series.steps import steps_between
from balise.server.asking import read_filter, span_of
from balise.server.errors import bad_field, unknown
from balise.store.events.around import Around
from balise.store.events.day_search import BadCursor, Search
from balise.store.events.store import EventStore, read_event
from balise.store.events.words import WordMatch

EXPORTED = 1000
"""Events of an export that are read at once."""
AttributeOf = Callable[[str, str], Any]
"""What an attribute of a host is, by the host's name and the attribute's; None when there is none."""


class EventSearch:
    """Answers questions. All of them raise Refused 422 naming the field that cannot be read."""

    def __init__(self, *, events: EventStore, attribute_of: AttributeOf) -> None:
        self._events = events
        self._around = Around(events)
        self._attribute_of = attribute_of

    def find(self, query: EventQuery) -> Page[Event]:
        """Newest first."""
        try:
            items, cursor = self._events.find(search_of(query), query.limit, query.cursor)
        except BadCursor as error:
            raise bad_field("cursor", str(error)) from None
        except filters.FilterError as error:
            raise bad_field("where", str(error)) from None
        return Page[Event](items=items, next=cursor)

    def part(self, query: ExportQuery, cursor: str | None) -> tuple[bytes, str | None]:
        """Some of the events of an export, as bytes, and the cursor of what follows; with the head at the begin."""
        written = FORMATS[query.format]
        found = self.find(
            EventQuery(
                text=query.text, where=query.where, from_=query.from_, to=query.to, limit=EXPORTED, cursor=cursor
            )
        )
        return (b"" if cursor else written.begins) + written.write(found.items), found.next

    def one(self, number: str) -> Event:
        """Raises Refused 404 when there is no such event, or not any more."""
        day, row = self._row(number)
        return read_event(day, row)

    def around(self, number: str, lines: int, *, source: bool) -> AroundAnswer:
        """An event with the lines around it: those of its source on its host, or of everything on that host."""
        day, row = self._row(number)
        before, after = self._around.beside(day, row, lines, source=source)
        return AroundAnswer(
            before=[read_event(*one) for one in before],
            event=read_event(day, row),
            after=[read_event(*one) for one in after],
        )

    def _row(self, number: str) -> tuple[int, Any]:
        day, _, of_day = number.partition("-")
        row = self._around.one(int(day), int(of_day))
        if row is None:
            raise unknown("event", number)
        return int(day), row

    def count(self, query: HistogramQuery) -> HistogramAnswer:
        """How many there were over the span, by severity."""
        search = search_of(query)
        steps = steps_between(seconds_of(search.start), seconds_of(search.end), step=None, points=query.bars)
        try:
            bars = self._events.histogram(search, steps.start, steps.width, steps.count)
        except filters.FilterError as error:
            raise bad_field("where", str(error)) from None
        return HistogramAnswer(
            step_seconds=seconds_of(steps.width),
            times=[seconds_of(steps.start + i * steps.width) for i in range(steps.count)],
            counts={name: bars[code] for code, name in enumerate(SEVERITIES) if any(bars[code])},
            total=sum(map(sum, bars)),
        )

    def follows(self, where: str | None, text: str | None) -> Callable[[dict[str, Any]], bool]:
        """Says of each event that comes whether it is wanted."""
        node = read_filter(where, "where")
        has_words = WordMatch(text) if text and text.strip() else None

        def wants(event: dict[str, Any]) -> bool:
            if has_words is not None and not has_words(event["body"]):
                return False
            if node is None:
                return True
            own = filters.by_name(event["attributes"].items())
            return filters.matches(node, lambda name: self._attribute(event, own, name))

        return wants

    def _attribute(self, event: dict[str, Any], own: dict[str, Any], name: str) -> Any:
        if name in ("host", "severity", "source", "body"):
            return event[name]
        if name == "pattern":
            return [str(number) for number in self._events.book.family(int(event["pattern"] or 0))]
        if filters.is_of_host(name):
            return self._attribute_of(event["host"], name)
        return own.get(name)


def search_of(query: EventsAsked) -> Search:
    """What a question looks for. Raises Refused 422 naming the field that cannot be read."""
    start, end = span_of(query.from_, query.to, time.time())
    return Search(nanos(start), nanos(end), query.text or "", read_filter(query.where, "where"))
