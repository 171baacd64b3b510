"""Adding up when something was there, and what it may still be away of a period."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from datetime import datetime, tzinfo

import numpy as np
from numpy.typing import NDArray

from balise.api.availability import Presence, TargetPer

F64 = NDArray[np.float64]
Change = tuple[float, Presence]
"""From when on, unix seconds, something is so."""


@dataclass(frozen=True)
class Away:
    """One outage: `end` is None while it goes on, or goes beyond the span."""

    start: float
    end: float | None
    seconds: float


@dataclass(frozen=True)
class Summed:
    """Seconds of each within a span, the outages in order, and the changes, of which none says what was already so."""

    seconds: dict[Presence, float]
    outages: list[Away]
    changes: list[Change]

    @property
    def between(self) -> float | None:
        """Mean time between failures, seconds: up for each outage; None where there was none."""
        return self.seconds["up"] / len(self.outages) if self.outages else None

    @property
    def repair(self) -> float | None:
        """Mean time to repair, seconds, of the outages that have ended."""
        ended = [away.seconds for away in self.outages if away.end is not None]
        return sum(ended) / len(ended) if ended else None


def summed(changes: Sequence[Change], start: float, end: float, now: float) -> Summed:
    """What was within [start, end), unix seconds; nothing is known before the first change, nor after `now`.

    What is not known does not end an outage: one that was down before and is down after was down all along.
    """
    return _added_up(_within(changes, start, min(end, now)), start, end, now)


def down_within(changes: Sequence[Change], start: float, end: float, now: float) -> tuple[float, int]:
    """For how many seconds something was down, and in how many outages: what `summed` says of that, in a part of the
    time, to put many in order."""
    last = min(end, now)
    if last <= start or not any(presence == "down" for _, presence in changes):
        return 0.0, 0
    seconds, outages, is_out = 0.0, 0, False
    for at, presence, after in _lasting(_within(changes, start, last), last):
        if presence == "down":
            seconds += after - at
            outages += not is_out
            is_out = True
        elif presence != "unknown":
            is_out = False
    return seconds, outages


def _added_up(inside: Sequence[Change], start: float, end: float, now: float) -> Summed:
    seconds: dict[Presence, float] = {"up": 0.0, "down": 0.0, "unknown": 0.0, "maintenance": 0.0}
    for at, presence, after in _lasting(inside, min(end, now)):
        seconds[presence] += after - at
    if end > now:
        seconds["unknown"] += end - max(start, now)
    return Summed(seconds, _outages(inside, min(end, now)), list(inside))


def _within(changes: Sequence[Change], start: float, end: float) -> list[Change]:
    before: Presence = "unknown"
    found: list[Change] = []
    for at, presence in changes:
        if at <= start:
            before = presence
        elif at < end:
            found.append((at, presence))
    told = [(start, before)] if end > start else []
    for at, presence in found:
        if presence != told[-1][1]:
            told.append((at, presence))
    return told


def _lasting(changes: Sequence[Change], end: float) -> Iterator[tuple[float, Presence, float]]:
    """Each change with when the next one is."""
    for place, (at, presence) in enumerate(changes):
        yield at, presence, changes[place + 1][0] if place + 1 < len(changes) else end


def _outages(changes: Sequence[Change], end: float) -> list[Away]:
    found: list[Away] = []
    start: float | None = None
    down = 0.0
    for at, presence, after in _lasting(changes, end):
        if presence == "down":
            start = at if start is None else start
            down += after - at
        elif presence != "unknown" and start is not None:
            found.append(Away(start, at, down))
            start, down = None, 0.0
    if start is not None:
        found.append(Away(start, None, down))
    return found


def with_gaps(changes: Sequence[Change], gaps: Iterable[tuple[float, float]]) -> list[Change]:
    """The same with stretches in which nobody was there to see, [from, to), not known."""
    found = list(changes)
    for start, end in gaps:
        if end <= start:
            continue
        after = next((presence for at, presence in reversed(found) if at <= end), None)
        found = [(at, presence) for at, presence in found if not start <= at <= end]
        found.append((start, "unknown"))
        if after is not None:
            found.append((end, after))
        found.sort(key=lambda change: change[0])
    return found


def lasted_before(gaps: Iterable[tuple[float, float]], moments: F64) -> F64:
    """Of moments, unix seconds, how much of some stretches, [from, to), lies before each, seconds."""
    edges: list[float] = []
    for start, end in sorted(gaps):
        if edges and start <= edges[-1]:
            edges[-1] = max(edges[-1], end)
        elif end > start:
            edges += [start, end]
    if not edges:
        return np.zeros_like(moments)
    lasted = np.diff(edges)
    lasted[1::2] = 0.0
    found: F64 = np.interp(moments, edges, np.concatenate([[0.0], np.cumsum(lasted)]))
    return found


def period_of(per: TargetPer, now: float, zone: tzinfo) -> tuple[float, float]:
    """The week (from Monday), month, quarter or year of a moment by the clock on the wall: its beginning and end."""
    here = datetime.fromtimestamp(now, zone)
    day = here.replace(hour=0, minute=0, second=0, microsecond=0)
    if per == "week":
        first = datetime.fromordinal(day.toordinal() - day.weekday())
        last = datetime.fromordinal(first.toordinal() + 7)
    else:
        months = {"month": 1, "quarter": 3, "year": 12}[per]
        month = (day.month - 1) // months * months
        first = datetime(day.year, month + 1, 1)
        last = datetime(day.year + (month + months) // 12, (month + months) % 12 + 1, 1)
    return first.replace(tzinfo=zone).timestamp(), last.replace(tzinfo=zone).timestamp()


def left_of(share: float, down: float, counted: float) -> tuple[float, float]:
    """What is left of what may be down in a period: as a share of it, and in seconds.

    Args:
        down: seconds down so far.
        counted: seconds of the whole period that count: without maintenance.
    """
    allowed = (1 - share) * counted
    return ((allowed - down) / allowed if allowed > 0 else 0.0), allowed - down
