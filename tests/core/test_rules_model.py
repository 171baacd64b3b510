"""Rules held to a plain engine that looks at every point again at every second."""

from __future__ import annotations

import math
from dataclasses import dataclass, field
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from balise.api.limits import Limits
from balise.core.rules.limits import LimitMachine
from balise.core.rules.measuring import Measuring, Row
from balise.core.rules.rehearsal import Arrivals, play
from balise.core.rules.row_map import RowMap
from running import often

START = 1_800_000_000.0


@dataclass
class PlainSeries:
    kind: str
    group: int
    behind: float
    arrived: list[tuple[float, float, float]] = field(default_factory=list)
    """When each point came, its time, its value."""

    def points(self, now: float) -> list[tuple[float, float]]:
        """What is known at a moment, the first of each time."""
        seen: dict[float, float] = {}
        for _, at, value in sorted((a for a in self.arrived if a[0] <= now), key=lambda a: a[0]):
            if not math.isnan(value):
                seen.setdefault(at, value)
        return sorted(seen.items())

    def own_now(self, now: float) -> float:
        """As far behind as its clock is, but never earlier than its newest point, and the time since that came."""
        newest = max(at for came, at, value in self.arrived if came <= now and not math.isnan(value))
        came = min(came for came, at, value in self.arrived if at == newest and not math.isnan(value))
        return max(now - max(0.0, self.behind), newest + now - came)


def plain_value(take: str, over: float, members: list[PlainSeries], now: float) -> float:
    told: list[tuple[PlainSeries, list[tuple[float, float]], list[float]]] = []
    for one in members:
        points = one.points(now)
        if not points:
            continue
        edge = one.own_now(now)
        inside = [v for t, v in points if edge - over < t <= edge]
        told.append((one, [(t, v) for t, v in points if t > edge - over - 3601], inside))
    every = [v for _, _, inside in told for v in inside]
    if take == "rate":
        rates = []
        for one, points, inside in told:
            edge = one.own_now(now)
            if one.kind == "delta":
                rates += [sum(inside) / over] if inside else []
                continue
            pairs = [(p, q) for p, q in pairwise(points) if q[0] > edge - over and q[0] - p[0] <= 3600]
            if pairs:
                grown = [q[1] if one.kind == "counter" and q[1] < p[1] else q[1] - p[1] for p, q in pairs]
                rates.append(sum(grown) / sum(q[0] - p[0] for p, q in pairs))
        return sum(rates) if rates else math.nan
    if not every:
        return math.nan
    lists = [(one.kind, inside) for one, _, inside in told if inside]
    return {
        "avg": lambda: sum(every) / len(every),
        "min": lambda: min(every),
        "max": lambda: max(every),
        "count": lambda: float(len(every)),
        "last": lambda: max(inside[-1] for _, inside in lists),
        "sum": lambda: sum(sum(i) if kind == "delta" else sum(i) / len(i) for kind, i in lists),
        "p50": lambda: float(np.quantile(every, 0.5)),
        "p95": lambda: float(np.quantile(every, 0.95)),
    }[take]()


class PlainLimits:
    """One group: warning above 10 for 3 s, clear at 8; critical above 20 for 5 s, clear at 15."""

    SIDES = ((1, 10.0, 3.0, 8.0), (2, 20.0, 5.0, 15.0))

    def __init__(self) -> None:
        self.since: dict[int, float | None] = {1: None, 2: None}
        self.raised = {1: False, 2: False}

    def level(self, now: float, value: float) -> int:
        for severity, above, hold, clear in self.SIDES:
            if math.isnan(value):
                continue
            if value > above:
                self.since[severity] = now if self.since[severity] is None else self.since[severity]
            else:
                self.since[severity] = None
            since = self.since[severity]
            held = since is not None and now - since >= hold
            self.raised[severity] = held or (self.raised[severity] and value > clear)
        return max([0, *(s for s, raised in self.raised.items() if raised)])


LIMITS = Limits.model_validate(
    {"warning": {"above": 10, "hold": "3s", "clear": 8}, "critical": {"above": 20, "hold": "5s", "clear": 15}}
)
POINT = st.tuples(
    st.integers(0, 3),
    st.integers(0, 40),
    st.integers(0, 12),
    st.sampled_from([0.0, 5.0, 9.0, 12.0, 25.0, 400.0, 1e308]),
)
SERIES = st.lists(
    st.tuples(
        st.sampled_from(["gauge", "counter", "delta"]), st.integers(0, 1), st.sampled_from([0, 0, 30, -30, 180, -600])
    ),
    min_size=4,
    max_size=4,
)


@settings(max_examples=often(150), deadline=None)
@given(
    SERIES,
    st.lists(POINT, max_size=40),
    st.sampled_from(["avg", "min", "max", "sum", "count", "last", "rate", "p50", "p95"]),
    st.sampled_from([1.0, 3.0, 15.0, 30.0]),
    st.sampled_from([0, 7, 25]),
)
def test_windows_and_limits_agree_with_a_plain_engine(
    series: list[tuple[str, int, int]], points: list[tuple[int, int, int, float]], take: str, over: float, later: int
) -> None:
    """Two of the series come `later`, in groups of the others or in new ones."""
    plain = [PlainSeries(kind, group, float(behind)) for kind, group, behind in series]
    points = [one for one in points if one[0] < 2 or one[1] + one[2] > later]
    for number, second, late, value in points:
        one = plain[number]
        # Made at `second` by its own clock, which is behind ours, and some seconds on the way.
        one.arrived.append((START + second + late, START + second - one.behind, value))
    measuring = Measuring(take, over)  # type: ignore[arg-type]
    groups = max(one.group for one in plain) + 1
    machine, plainly = LimitMachine(LIMITS, groups), [PlainLimits() for _ in range(groups)]
    behind = np.maximum(np.array([one.behind for one in plain]), 0.0)
    came = sorted(
        ((at, row, time, value) for row, one in enumerate(plain) for at, time, value in one.arrived),
        key=lambda c: c[0],
    )
    for now in (START + second for second in range(75)):
        for first in [0] * (now == START) + [2] * (now == START + later):
            measuring.add([Row(one.kind, one.group) for one in plain[first : first + 2]])  # type: ignore[arg-type]
        new = [c for c in came if now - 1 < c[0] <= now]
        measuring.observe(
            np.array([c[1] for c in new], np.int64), np.array([c[2] for c in new]), np.array([c[3] for c in new]), now
        )
        values = np.full(groups, np.nan)
        values[: measuring.groups] = measuring.values(now, behind[: len(measuring.group_of)])
        wanted = [plain_value(take, over, [o for o in plain if o.group == g], now) for g in range(groups)]
        np.testing.assert_allclose(values, wanted, rtol=1e-9)
        machine.advance(now, np.array(wanted))
        assert machine.level.tolist() == [p.level(now, v) for p, v in zip(plainly, wanted, strict=True)]


@settings(max_examples=often(60), deadline=None)
@given(
    st.lists(
        st.lists(
            st.tuples(st.integers(0, 2), st.integers(0, 90), st.sampled_from([1.0, 4.0, 9.0])),
            max_size=60,
            unique_by=lambda point: point[:2],
        ),
        max_size=3,
    ),
    st.sampled_from(["avg", "last", "rate", "change"]),
    st.sampled_from([5.0, 60.0]),
)
def test_points_that_come_at_once_are_as_points_one_by_one(
    bunches: list[list[tuple[int, int, float]]], take: str, over: float
) -> None:
    """In windows, and in what tells when a series has stopped; each bunch is of later times than those before, or not."""
    at_once, singly = Measuring(take, over), Measuring(take, over)  # type: ignore[arg-type]
    for one in (at_once, singly):
        one.add([Row(kind, group) for group, kind in enumerate(("gauge", "counter", "delta"))])  # type: ignore[arg-type]
    for turn, bunch in enumerate(bunches):
        now = START + 90 + 50 * turn
        points = sorted((row, START + 50 * turn + second, value) for row, second, value in bunch)
        rows, times, values = (np.array([p[i] for p in points]) for i in range(3))
        at_once.observe(rows.astype(np.int64), times.astype(float), values.astype(float), now)
        for row, at, value in sorted(points, key=lambda point: point[:2]):
            singly.observe(np.array([row]), np.array([at]), np.array([value]), now)
        for later in (0, 3, 30, 120):
            np.testing.assert_array_equal(at_once.values(now + later), singly.values(now + later))
            assert at_once.silent(now + later).tolist() == singly.silent(now + later).tolist()


def test_one_clock_ahead_blinds_nobody_else() -> None:
    """A host ten minutes ahead: the mean of the other one, over a minute, is what it was."""
    measuring = Measuring("avg", 60.0)
    measuring.add([Row("gauge", 0), Row("gauge", 1)])
    for i in range(8):
        at = START + 15 * i
        measuring.observe(np.array([0, 1]), np.array([at + 600, at]), np.array([1.0, 7.0]), at)
        assert measuring.values(at)[1] == 7.0


def test_a_steady_sum_is_steady() -> None:
    """20 every 15 s over 30 s are 40 at every second, whenever one looks."""
    measuring = Measuring("sum", 30.0)
    measuring.add([Row("delta", 0)])
    told = set()
    for second in range(200):
        if second % 15 == 0:
            measuring.observe(np.array([0]), np.array([START + second]), np.array([20.0]), START + second)
        if second >= 30:
            told.add(float(measuring.values(START + second)[0]))
    assert told == {40.0}


def test_a_value_too_large_for_sums_is_forgotten_with_its_point() -> None:
    measuring = Measuring("avg", 30.0)
    measuring.add([Row("gauge", 0)])
    for at, value in ((0, math.inf), (15, 1.0), (30, 3.0)):
        measuring.observe(np.array([0]), np.array([START + at]), np.array([value]), START + at)
    assert measuring.values(START + 31)[0] == 2.0


def test_a_rule_on_a_histogram_of_many_buckets_measures() -> None:
    """100 buckets; 10 requests a minute, all in the one up to 50: the median lies in it, whatever `over` is."""
    for over in (60.0, 300.0):
        measuring = Measuring("p50", over)
        measuring.add([Row("counter", 0, f"le:{float(b)!r}", "h") for b in range(1, 101)])
        for minute in range(8):
            counts = np.array([10.0 * minute if b == 50 else 0.0 for b in range(1, 101)])
            measuring.observe(np.arange(100), np.full(100, START + 60 * minute), counts, START + 60 * minute)
        assert measuring.values(START + 421)[0] == pytest.approx(49.5)


def test_a_rehearsal_plays_points_when_they_came() -> None:
    measuring = Measuring("last", 60.0)
    measuring.add([Row("gauge", 0)])
    found = Arrivals(np.array([0, 0]), np.array([START, START + 10]), np.array([1.0, 2.0]))
    told = list(play(measuring, found, START + np.array([185.0, 191.0]), np.array([180.0])))
    assert [value[0] for _, value in told] == [1.0, 2.0]


def test_an_hour_away_is_no_interval() -> None:
    """Heard every 15 s, away for an hour, back: it is silent 45 s after it stops, not half an hour."""
    measuring = Measuring("last", 60.0)
    measuring.add([Row("gauge", 0)])
    for at in (*range(0, 150, 15), 3750, 3765):
        measuring.observe(np.array([0]), np.array([START + at]), np.array([1.0]), START + at)
    assert not measuring.silent(START + 3765 + 45)[0]
    assert measuring.silent(START + 3765 + 46)[0]


def test_rows_are_those_of_a_plain_dict() -> None:
    rng = np.random.default_rng(3)
    for _ in range(30):
        held, plain = RowMap(), dict[int, int]()
        for _ in range(int(rng.integers(1, 12))):
            low = int(rng.integers(0, 500))
            fresh = np.setdiff1d(rng.integers(low, low + 300, int(rng.integers(0, 80))), list(plain))
            rng.shuffle(fresh)
            rows = np.arange(len(plain), len(plain) + len(fresh))
            held.add(fresh, rows)
            plain.update(zip(fresh.tolist(), rows.tolist(), strict=True))
            asked = rng.integers(-5, 900, 200)
            assert held.rows(asked).tolist() == [plain.get(n, -1) for n in asked.tolist()]
