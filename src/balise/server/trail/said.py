"""What hosts said: patterns that are new, and how often those were said that were known before, as series."""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from balise.core.moments import NS, nanos, seconds_of
from balise.core.series.steps import Steps
from balise.core.trail.things import Happening, Line, Sort, Thing
from balise.server.hosts.directory import Known
from balise.store.events.began import (
    NEVER,
    Around,
    Said,
    Sample,
    Step,
    said_around,
    said_by_hour,
    said_in_steps,
    samples,
)
from balise.store.events.day import HOUR
from balise.store.events.day_search import DAY
from balise.store.events.store import EventStore

F64 = NDArray[np.float64]
MOST_PATTERNS = 300
FAR = 3.0
"""Deviations, by chance alone, from which a pattern is looked at in steps."""
HOURS_BEFORE = 3
"""Whole hours of what was said before that tell how often is usual."""
FINEST = 30 * NS
AS_USUAL = 0.5
"""Of the lines in a stretch, how many at the same time a day before make it usual."""
OF_ONE = 0.6
"""Of the lines of a pattern, from how many on one address stands for it."""
FEWEST_OF_ONE = 10
SEVERE = 4
"""The severity code of a warning: what is worse is smaller."""
SMOOTHED = 600.0
"""Seconds over which what was said a day before is taken together."""
UNIT = "{line}/s"
OFTEN, MOST_LINES = 500, 60_000
"""Lines from which a pattern is said very often, and how many of all those are read."""
Hours = Mapping[Said, Mapping[int, int]]
_ADDRESS = re.compile(r"(?<![\w.])(?:\d{1,3}\.){3}\d{1,3}(?![\w.])")


@dataclass(frozen=True)
class Heard:
    """Patterns known before as lines on a grid, those that are new, and how many lines of logs there were."""

    lines: Sequence[Line]
    values: F64
    usual: F64
    spread: F64
    happenings: Sequence[Happening]
    events: int


class SaidReader:
    """Reads the events of some hosts."""

    def __init__(self, events: EventStore) -> None:
        self._events = events

    def read(self, hosts: Sequence[Known], machines: Collection[str], steps: Steps, start: float, end: float) -> Heard:
        """What was said on the steps of a grid, of which `start` to `end`, unix seconds, are asked about."""
        at, hi = nanos(start), nanos(end)
        names = {known.name for known in hosts}
        hours = said_by_hour(self._events, names, min(steps.start, at - HOURS_BEFORE * HOUR), hi)
        around: dict[Said, Around] = {}
        for chosen, every in _by_how_often(_chosen(hours, at, hi), hours):
            around |= said_around(self._events, chosen, steps.start, at, hi, every=every)
        length = (at - steps.start) / (hi - at)
        far = {said: one for said, one in around.items() if one.far(length) >= FAR}
        told = samples(self._events, far, at, hi)
        things = {said: _thing(said, told.get(said, ()), machines) for said in far}
        lines, values, usual = self._often([said for said, one in far.items() if one.before], hours, things, steps, hi)
        yesterday = said_around(self._events, far, steps.start - DAY, at - DAY, hi - DAY)
        new = [
            _new(said, *things[said], self._text(said), one, yesterday.get(said, NEVER), length)
            for said, one in far.items()
            if one.since and (not one.before or things[said][1])
        ]
        return Heard(
            lines,
            values,
            usual,
            np.full(len(lines), np.nan),
            [one for one in new if one is not None],
            sum(n for counts in hours.values() for hour, n in counts.items() if hour >= steps.start // HOUR),
        )

    def _often(
        self, known: Sequence[Said], hours: Hours, things: Mapping[Said, tuple[Thing, float]], steps: Steps, end: int
    ) -> tuple[list[Line], F64, F64]:
        """How often those were said that were known before, on the grid, and a day before around the same moments."""
        width = max(steps.width, FINEST)
        found: dict[Said, dict[int, Step]] = {}
        yesterday: dict[Said, dict[int, Step]] = {}
        for chosen, every in _by_how_often(known, hours):
            found |= said_in_steps(self._events, chosen, steps.start, end, width, every=every)
            yesterday |= said_in_steps(self._events, chosen, steps.start - DAY, end - DAY, width, every=every)
        days = self._events.days()
        is_known = bool(days) and days[0] * DAY <= steps.start - DAY
        lines = [Line(things[said][0], "", UNIT, _sort(said), {}, f"“{self._text(said)}”") for said in found]
        values = np.array([_rates(of_step, steps, width) for of_step in found.values()])
        usual = np.full((len(lines), steps.count), np.nan)
        if is_known and lines:
            usual = np.array([_smooth(_rates(yesterday.get(said, {}), steps, width), steps) for said in found])
        return lines, values.reshape(len(lines), steps.count), usual

    def _text(self, said: Said) -> str:
        held = self._events.book.root(said.pattern)
        return (held.text if held is not None else said.source)[:160]


def _by_how_often(chosen: Sequence[Said], hours: Hours) -> list[tuple[list[Said], int]]:
    """Those of which every line is read, and those of which one of so many is."""
    lines = {said: sum(hours[said].values()) for said in chosen}
    often = [said for said in chosen if lines[said] > OFTEN]
    every = -(-sum(lines[said] for said in often) // MOST_LINES)
    return [(part, by) for part, by in (([s for s in chosen if lines[s] <= OFTEN], 1), (often, every)) if part]


def _chosen(hours: Hours, at: int, hi: int) -> list[Said]:
    """Those that may be new, more or less than before: by whole hours, the farthest first."""
    first, last = (at - 600 * NS) // HOUR, (hi - 1) // HOUR
    began = min((hour for counts in hours.values() for hour in counts), default=first)
    scored = []
    for said, counts in hours.items():
        now = sum(count for hour, count in counts.items() if hour >= first)
        early = {hour: count for hour, count in counts.items() if hour < first}
        usual = sum(early.values()) / max(1, first - began) * (last - first + 1)
        far = abs(now - usual) / math.sqrt(usual + 1)
        if far >= FAR or not early:
            scored.append((far, said))
    return [said for _, said in sorted(scored, key=lambda one: -one[0])[:MOST_PATTERNS]]


def _thing(said: Said, told: Sequence[Sample], machines: Collection[str]) -> tuple[Thing, float]:
    """What a pattern is of: one address, if most of its lines name that, with how many; else its service or host."""
    service = Counter(one.service for one in told).most_common(1)[0][0] if told else ""
    addresses = Counter(address for one in told for address in set(_ADDRESS.findall(one.body)))
    if addresses and len(told) >= FEWEST_OF_ONE:
        address, count = addresses.most_common(1)[0]
        if count >= OF_ONE * len(told):
            return Thing("address", address, said.host, service), count / len(told)
    if service:
        return Thing("service", service, said.host, service), 0.0
    return Thing("machine" if said.host in machines else "host", said.host, said.host), 0.0


def _sort(said: Said) -> Sort:
    return "errors" if said.severity <= SEVERE else "traffic"


def _new(
    said: Said, thing: Thing, share: float, text: str, around: Around, yesterday: Around, length: float
) -> Happening | None:
    """A pattern that began, or that one address has to itself, unless so much was said of it a day before. `length` is
    how many times as long as the stretch what was before it is."""
    if yesterday.since >= AS_USUAL * around.since:
        return None
    is_new = not around.before
    return Happening(
        "pattern", thing, seconds_of(around.first_since), f"{'says anew' if is_new else 'says'}: {text}",
        uncertainty=2.0 if is_new else FINEST / NS, deviation=min(around.far(length), 60.0), share=share,
        holds=f"{around.since} lines" if share else "", sort="errors" if said.severity <= SEVERE else "state",
    )  # fmt: skip


def _rates(of_step: Mapping[int, Step], steps: Steps, width: int) -> F64:
    """Lines a second on the steps of a grid."""
    found = np.zeros(steps.count)
    for place, step in of_step.items():
        low = place * width // steps.width
        found[low : low + max(1, width // steps.width)] = step.lines / (width / NS)
    return found


def _smooth(values: F64, steps: Steps) -> F64:
    """Means over some minutes around each step."""
    reach = max(1, int(SMOOTHED * NS // steps.width))
    sums = np.concatenate([[0.0], np.cumsum(values)])
    low = np.maximum(np.arange(len(values)) - reach, 0)
    high = np.minimum(np.arange(len(values)) + reach + 1, len(values))
    found: F64 = (sums[high] - sums[low]) / (high - low)
    return found
