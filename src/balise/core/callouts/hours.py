"""Whether it is within some hours of the week, and when that changes. Times are unix seconds."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import date, datetime, time, timedelta
from zoneinfo import ZoneInfo

from balise.api.hours import DAYS, Hours, time_of, zone_of

DAY = timedelta(days=1)


def holds(hours: Hours, at: float) -> bool:
    """Whether a moment is within the hours, by the clock on the wall: an hour that summer time leaves out is in
    nothing, one that comes twice is in twice."""
    here = datetime.fromtimestamp(at, zone_of(hours.zone))
    begin, end, now = time_of(hours.from_), time_of(hours.to), here.time()
    today, yesterday = DAYS[here.weekday()], DAYS[(here - DAY).weekday()]
    if begin < end:
        return today in hours.days and begin <= now < end
    return (today in hours.days and now >= begin) or (yesterday in hours.days and now < end)


def next_change(hours: Hours, at: float) -> float | None:
    """The first moment after `at` from which on `holds` answers something else; None when it always does."""
    zone = zone_of(hours.zone)
    before = holds(hours, at)
    today = datetime.fromtimestamp(at, zone).date()
    edges = sorted({moment for day in _days_around(today) for moment in _edges(hours, day, zone)})
    return next((moment for moment in edges if moment > at and holds(hours, moment) != before), None)


def _days_around(today: date) -> Iterator[date]:
    """A week and a day more on both sides: whatever comes in a week is there."""
    return (today + timedelta(days=shift) for shift in range(-1, 9))


def _edges(hours: Hours, day: date, zone: ZoneInfo) -> Iterator[float]:
    """Where hours may begin or end on a day. A time that comes twice may be either; one that summer time leaves out is
    passed when the clock is put forward."""
    for clock in (time_of(hours.from_), time_of(hours.to)):
        for fold in (0, 1):
            yield wall(day, clock, zone, fold)
    # Where the clock is put on or back, hours may begin or end as well.
    start, end = (wall(one, time(), zone) for one in (day, day + DAY))
    shift = _offset(start, zone) - _offset(end, zone)
    if shift:
        low, high = start, end
        while high - low > 1.0:
            middle = (low + high) // 2
            low, high = (middle, high) if _offset(middle, zone) == _offset(start, zone) else (low, middle)
        yield high


def wall(day: date, clock: time, zone: ZoneInfo, fold: int = 0) -> float:
    """When a clock on the wall shows a time on a day. `fold` 1 is the second time that it does, in autumn; a time that
    is left out in spring is as long after the change as it would have been."""
    return datetime.combine(day, clock, zone).replace(fold=fold).timestamp()


def _offset(at: float, zone: ZoneInfo) -> float:
    found = datetime.fromtimestamp(at, zone).utcoffset()
    return found.total_seconds() if found is not None else 0.0
