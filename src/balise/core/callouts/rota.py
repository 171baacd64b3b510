"""Who is on duty at a moment, and until when. Times are unix seconds."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from datetime import datetime, timedelta

from balise.api.hours import time_of, zone_of
from balise.api.rotas import RotaBody
from balise.api.spans import instant, seconds

MOST_EDGES = 2000
"""Changes that are looked at for one answer."""


@dataclass(frozen=True)
class Duty:
    """Who has a time of a rota from `start` on, and whose turn it would have been, if that is another."""

    person: str
    start: float
    end: float
    instead_of: str | None = None


class Rota:
    """A rota as it is worked with."""

    def __init__(self, body: RotaBody) -> None:
        self._people = body.people
        self._zone = zone_of(body.zone)
        self._begin = datetime.combine(body.begins, time_of(body.at))
        self._turn = timedelta(seconds=seconds(body.turn))
        self._overrides = [(instant(o.from_, 0.0), instant(o.to, 0.0), o.person) for o in body.overrides]

    def on_duty(self, at: float) -> Duty | None:
        """Who is on duty from a moment on, and until when; None before the first turn, unless somebody is there all
        the same."""
        person, own = self._holder(at)
        if person is None:
            return None
        end = self._next_edge(at)
        for _ in range(MOST_EDGES):
            if self._holder(end)[0] != person:
                break
            end = self._next_edge(end)
        return Duty(person, at, end, own if own != person else None)

    def stretches(self, start: float, end: float) -> Iterator[Duty]:
        """Who is on duty in [start, end), one after the other; at most `MOST_EDGES`."""
        at = start
        for _ in range(MOST_EDGES):
            if at >= end:
                return
            person, own = self._holder(at)
            until = min(self._next_edge(at), end)
            if person is not None:
                yield Duty(person, at, until, own if own != person else None)
            at = until

    def _holder(self, at: float) -> tuple[str | None, str | None]:
        """Who has a moment, and whose turn it is; None for nobody."""
        number = self._turn_of(at)
        own = self._people[number % len(self._people)] if number >= 0 else None
        others = [person for begin, end, person in self._overrides if begin <= at < end]
        return (others[-1] if others else own), own

    def _next_edge(self, at: float) -> float:
        """When somebody else may have it, after a moment."""
        change = self._change(max(self._turn_of(at) + 1, 0))
        edges = [edge for begin, end, _ in self._overrides for edge in (begin, end) if edge > at]
        return min([change, *edges])

    def _turn_of(self, at: float) -> int:
        """The number of the turn of a moment; negative before the first."""
        here = datetime.fromtimestamp(at, self._zone).replace(tzinfo=None)
        number = (here - self._begin) // self._turn
        # Where the clock is put on or back, a local time is not enough to tell.
        while self._change(number + 1) <= at:
            number += 1
        while self._change(number) > at:
            number -= 1
        return number

    def _change(self, number: int) -> float:
        """When a turn begins."""
        return (self._begin + number * self._turn).replace(tzinfo=self._zone).timestamp()
