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
from balise.store.events.began import Said, Sample, Step, said_by_hour, said_in_steps, samples
from balise.store.events.day import HOUR
from balise.store.events.day_search import DAY
from balise.store.events.store import EventStore

F64 = NDArray[np.float64]
MOST_PATTERNS = 300
FAR = 3.0
"""Deviations, by chance alone, from which a pattern is looked at in steps."""
FINEST = 15 * NS
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
        names = {known.name for known in hosts}
        at, hi = nanos(start), nanos(end)
        hours = said_by_hour(self._events, names, steps.start, hi)
        chosen = _chosen(hours, at, hi)
        width = max(steps.width, FINEST)
        found = said_in_steps(self._events, chosen, steps.start, hi, width)
        yesterday = said_in_steps(self._events, chosen, steps.start - DAY, hi - DAY, width)
        told = samples(self._events, chosen, at, hi)
        days = self._events.days()
        is_known = bool(days) and days[0] * DAY <= steps.start - DAY
        first = (at - steps.start) // width
        lines, rows, usual, new = [], [], [], []
        for said, of_step in found.items():
            thing, share = _thing(said, told.get(said, ()), machines)
            before = sum(step.lines for place, step in of_step.items() if place < first)
            text = self._text(said)
            of_day = yesterday.get(said, {})
            if before == 0 or share:
                new.append(_new(said, thing, share, text, of_step, of_day, first, width))
            if before:
                lines.append(Line(thing, "", UNIT, _sort(said), {}, f"“{text}”"))
                rows.append(_rates(of_step, steps, width))
                usual.append(_smooth(_rates(of_day, steps, width), steps) if is_known else np.full(steps.count, np.nan))
        count = len(lines)
        return Heard(
            lines,
            np.array(rows).reshape(count, steps.count),
            np.array(usual).reshape(count, steps.count),
            np.full(count, np.nan),
            [one for one in new if one is not None],
            sum(sum(counts.values()) for counts in hours.values()),
        )

    def _text(self, said: Said) -> str:
        held = self._events.book.root(said.pattern)
        return (held.text if held is not None else said.source)[:160]


def _chosen(hours: Mapping[Said, Mapping[int, int]], at: int, hi: int) -> list[Said]:
    """Those that may be new, more or less than before: by whole hours, the farthest first."""
    first, last = (at - 600 * NS) // HOUR, (hi - 1) // HOUR
    scored = []
    for said, counts in hours.items():
        now = sum(count for hour, count in counts.items() if hour >= first)
        early = {hour: count for hour, count in counts.items() if hour < first}
        lengths = first - min(early, default=first)
        usual = sum(early.values()) / max(1, lengths) * (last - first + 1)
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
    said: Said, thing: Thing, share: float, text: str, of_step: Mapping[int, Step], of_day: Mapping[int, Step],
    first: int, width: int,
) -> Happening | None:  # fmt: skip
    """A pattern that began, or that one address has to itself, unless so much was said of it a day before."""
    early = sum(step.lines for place, step in of_step.items() if place < first)
    steps = {place: step for place, step in of_step.items() if place >= first}
    now = sum(step.lines for step in steps.values())
    usual = min(1.0, sum(step.lines for place, step in of_day.items() if place >= first) / max(1, now))
    expected = early / max(1, first) * (max(steps, default=first) - first + 1)
    deviation = (now - expected) / math.sqrt(expected + 1)
    if not steps or usual >= AS_USUAL or (early and deviation < FAR):
        return None
    often = early / max(1, first)
    place = next((p for p in sorted(steps) if steps[p].lines > 4 * often + 1), min(steps))
    place = min(steps) if not early else place
    return Happening(
        "pattern", thing, seconds_of(steps[place].first), f"{'says' if early else 'says anew'}: {text}",
        uncertainty=2.0 if not early else width / NS, deviation=min(deviation, 60.0), share=share,
        holds=f"{now} lines" if share else "", sort=_sort(said) if said.severity <= SEVERE else "state",
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
