"""What the log says, pattern by pattern, beside what it said before."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import replace

from balise.api.events import SEVERITIES, Change, Pattern, PatternAnswer, PatternQuery
from balise.api.spans import rfc3339
from balise.core import filters
from balise.core.moments import Nanos, seconds_of
from balise.server.errors import bad_field
from balise.server.events.search import search_of
from balise.store.events.day_search import DAY, Search
from balise.store.events.said import Key, SaidCounts, SaidOften
from balise.store.events.store import EventStore

MOST_HOSTS, LONGEST_EXAMPLE = 20, 1000
NOTHING_ALIKE = "(lines that are like no others)"
_ORDER: Mapping[Change, int] = {"new": 0, "more": 1, "same": 2, "less": 2}


class PatternSearch:
    """Answers what is said in a span, and what of it is new, or more or less than it was."""

    def __init__(self, events: EventStore) -> None:
        self._events = events
        self._counts = SaidCounts(events)

    def of(self, query: PatternQuery) -> PatternAnswer:
        """Raises Refused 422 naming the field that cannot be read."""
        search = search_of(query)
        try:
            now = self._counts.of(search)
            before = [self._before(search, days) for days in (1, 7)]
        except filters.FilterError as error:
            raise bad_field("where", str(error)) from None
        events = sum(one.count for one in now.values())
        told = [(one, self._change(search, key, one, before)) for key, one in now.items()]
        if query.order == "new":
            told.sort(key=lambda t: (_ORDER[t[1]], t[0].severity, -t[0].count))
        else:
            told.sort(key=lambda t: -t[0].count)
        chosen = told[: query.limit]
        items = [self._pattern(one, change, before, events) for one, change in chosen]
        return PatternAnswer(items=items, total=len(now), events=events)

    def _before(self, search: Search, days: int) -> dict[Key, SaidOften] | None:
        """The counts of the same time some days before; None when nothing is kept of then."""
        start, end = Nanos(search.start - days * DAY), Nanos(search.end - days * DAY)
        kept = self._events.days()
        if not kept or end <= kept[0] * DAY:
            return None
        return self._counts.of(replace(search, start=start, end=end))

    def _change(self, search: Search, key: Key, one: SaidOften, before: list[dict[Key, SaidOften] | None]) -> Change:
        held = self._events.book.root(one.pattern)
        if held is not None and held.first_seen >= search.start:
            return "new"
        usual = [counts[key].count if key in counts else 0 for counts in before if counts is not None]
        return change_of(one.count, usual)

    def _pattern(
        self, one: SaidOften, change: Change, before: list[dict[Key, SaidOften] | None], events: int
    ) -> Pattern:
        held = self._events.book.root(one.pattern)
        key = (one.pattern, one.severity, one.source)
        yesterday, last_week = (None if c is None else c[key].count if key in c else 0 for c in before)
        return Pattern(
            id=str(held.id) if held else None,
            pattern=held.text if held else NOTHING_ALIKE,
            severity=SEVERITIES[one.severity],
            source=one.source,
            hosts=[name for name, _ in one.hosts.most_common(MOST_HOSTS)],
            host_count=len(one.hosts),
            count=one.count,
            share=one.count / events,
            yesterday=yesterday,
            last_week=last_week,
            first_seen=rfc3339(seconds_of(held.first_seen)) if held else None,
            example=self._counts.body(one.last)[:LONGEST_EXAMPLE],
            change=change,
        )


def change_of(count: int, usual: list[int]) -> Change:
    """Whether a count is more or less than it was, twice at least and by more than chance makes of it.

    Chance is taken as that of events that come independently: three times the square root of how many are usual.
    """
    if not usual:
        return "same"
    most, least = max(usual), min(usual)
    if count > 2 * most and count - most > 3 * (math.sqrt(most) + 1):
        return "more"
    if 2 * count < least and least - count > 3 * (math.sqrt(least) + 1):
        return "less"
    return "same"
