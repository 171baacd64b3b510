"""When a maintenance window is. Times are unix seconds."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta
from zoneinfo import ZoneInfo

from dateutil.rrule import rrule, rrulestr

from balise.api.hours import zone_of
from balise.api.maintenance import MaintenanceBody
from balise.api.spans import instant

MOST = 1000
"""Times of one window that are looked at for one answer."""
KNOWN_FOR = 3600.0
"""Seconds for which it is known at most what goes on: working it out goes through all times since the first."""


@dataclass(frozen=True)
class Time:
    """One time of a window: from when until when."""

    start: float
    end: float


class Times:
    """The times of a window. What it says relative to now is relative to `said_at`."""

    def __init__(self, body: MaintenanceBody, said_at: float) -> None:
        self._zone = zone_of(body.zone)
        self._first = instant(body.from_, said_at)
        self._length = body.length(said_at)
        self._rule: rrule | None = None
        self._known: tuple[float, float, Time | None] = (0.0, 0.0, None)
        if body.repeat is not None:
            begin = datetime.fromtimestamp(self._first, self._zone).replace(tzinfo=None)
            self._rule = rrulestr(_local_until(body.repeat, self._zone), dtstart=begin)

    def at(self, moment: float) -> Time | None:
        """The time that goes on at a moment; of several the one that ends last."""
        since, until, known = self._known
        if since <= moment < until:
            return known
        going_on = [one for one in self.between(moment, moment + 1e-6) if one.start <= moment < one.end]
        found = max(going_on, key=lambda one: one.end, default=None)
        coming = self.next_after(moment)
        changes = [moment + KNOWN_FOR, *(one.end for one in going_on), *([coming.start] if coming else [])]
        self._known = (moment, min(changes), found)
        return found

    def next_after(self, moment: float) -> Time | None:
        """The next time that begins after a moment."""
        if self._rule is None:
            return Time(self._first, self._first + self._length) if self._first > moment else None
        # Two hours: what the clock on the wall may be put back by, and as much again.
        begin = self._wall(moment) - timedelta(hours=2)
        for shown in self._rule.xafter(begin, count=10, inc=True):
            start = self._stamp(shown)
            if start > moment:
                return Time(start, start + self._length)
        return None

    def between(self, start: float, end: float) -> Iterator[Time]:
        """The times that have something of [start, end), in order; at most `MOST`."""
        if self._rule is None:
            if self._first < end and self._first + self._length > start:
                yield Time(self._first, self._first + self._length)
            return
        begin = self._wall(start - self._length) - timedelta(hours=2)
        for shown in self._rule.xafter(begin, count=MOST, inc=True):
            one = self._stamp(shown)
            if one >= end:
                return
            if one + self._length > start:
                yield Time(one, one + self._length)

    def _wall(self, at: float) -> datetime:
        return datetime.fromtimestamp(at, self._zone).replace(tzinfo=None)

    def _stamp(self, shown: datetime) -> float:
        """A local time that comes twice is the first of both; one that is left out is as long after the change."""
        return shown.replace(tzinfo=self._zone).timestamp()


def _local_until(rule: str, zone: ZoneInfo) -> str:
    """The rule with an end that is said in UTC as the local time that it is: all of it is worked out in local time."""
    parts = []
    for part in rule.split(";"):
        key, _, value = part.partition("=")
        if key == "UNTIL" and value.endswith("Z"):
            moment = datetime.strptime(value, "%Y%m%dT%H%M%S%z").astimezone(zone)
            value = moment.strftime("%Y%m%dT%H%M%S")
        parts.append(f"{key}={value}")
    return ";".join(parts)
