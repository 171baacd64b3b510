"""Metric queries held to plain Python over the raw points: late, repeated, regrouped, sealed, restarted, in every tier."""

from __future__ import annotations

import math
import tempfile
from collections import defaultdict
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from balise.core.moments import NS
from balise.core.series.growth import MAX_GAP
from balise.core.series.steps import Steps
from balise.store.series.matrices import DAY
from balise.store.series.query import QueryEngine, Selector
from balise.store.series.store import SeriesStore
from running import often
from store_box import Hosts

T0 = 1_800_000_000 * NS // DAY * DAY + 10 * 3600 * NS
KINDS = ("gauge", "counter", "delta", "sum")
TAKES = ("avg", "min", "max", "sum", "count", "last", "rate")


class Naive:
    """All points by series, the first of each moment; the answers by the definitions in docs/api.md."""

    def __init__(self) -> None:
        self.points: dict[int, dict[int, float]] = defaultdict(dict)

    def put(self, series: list[int], times: list[int], values: list[float]) -> None:
        for one, at, value in zip(series, times, values, strict=True):
            self.points[one].setdefault(at, value)

    def inside(self, one: int, start: int, end: int) -> list[float]:
        return [v for t, v in sorted(self.points[one].items()) if start <= t < end and not math.isnan(v)]

    def growth(self, one: int, kind: str, start: int, end: int) -> tuple[float, float]:
        if kind == "delta":
            inside = self.inside(one, start, end)
            return sum(inside), (end - start) / NS if inside else 0.0
        grown = seen = 0.0
        points = [(t, v) for t, v in sorted(self.points[one].items()) if not math.isnan(v)]
        for (t0, v0), (t1, v1) in pairwise(points):
            if start <= t1 < end and t1 - t0 <= MAX_GAP and math.isfinite(v1 - v0):
                grown += v1 if kind == "counter" and v1 < v0 else v1 - v0
                seen += (t1 - t0) / NS
        return grown, seen

    def ask(self, take: str, members: list[tuple[int, str]], start: int, end: int) -> float:
        if take == "rate":
            rates = [(g, s) for one, kind in members for g, s in [self.growth(one, kind, start, end)] if s > 0]
            return sum(g / s for g, s in rates) if rates else math.nan
        by_series = [(kind, inside) for one, kind in members if (inside := self.inside(one, start, end))]
        if not by_series:
            return math.nan
        every = [v for _, inside in by_series for v in inside]
        return {
            "avg": lambda: sum(every) / len(every),
            "min": lambda: min(every),
            "max": lambda: max(every),
            "count": lambda: float(len(every)),
            "last": lambda: max(inside[-1] for _, inside in by_series),
            "sum": lambda: sum(sum(i) if kind == "delta" else sum(i) / len(i) for kind, i in by_series),
            "p50": lambda: float(np.quantile(every, 0.5)),
            "p90": lambda: float(np.quantile(every, 0.9)),
        }[take]()


class World:
    """A store and the naive one side by side: four series on two hosts, of every kind."""

    def __init__(self, folder: Path, cells: int = 1_000_000) -> None:
        self._folder = folder
        self.cells = cells
        self.naive = Naive()
        self.open()

    def open(self) -> None:
        self.store = SeriesStore(self._folder)
        catalogue = self.store.catalogue
        self.metric = catalogue.metric("tide", "m", "gauge", "")
        self.series = [
            catalogue.series_id(1 + i % 2, self.metric, (("berth", k),), "", k)  # type: ignore[arg-type]
            for i, k in enumerate(KINDS)
        ]

    def do(self, step: tuple[object, ...]) -> None:
        what = step[0]
        if what == "again":
            self.store.close()
            self.open()
        elif what == "seal":
            self.store.seal(T0 + int(step[1]) * NS)  # type: ignore[call-overload]
        elif what == "compact":
            self.store.compact(T0 + 5 * DAY)
        elif what == "run":
            chosen, start, gap, values = step[1:]
            for n, value in enumerate(values):  # type: ignore[arg-type,var-annotated]
                self._put(chosen, [start + n * gap], [value], True)  # type: ignore[arg-type,operator]
        else:
            self._put(*step[1:])  # type: ignore[arg-type]

    def _put(self, chosen: list[int], seconds: list[int], values: list[float], shared: bool) -> None:
        series = [self.series[c] for c in chosen]
        at = [T0 + (seconds[0] if shared else seconds[i % len(seconds)]) * NS for i in range(len(series))]
        said = [float(values[i % len(values)]) for i in range(len(series))]
        layout = self.store.catalogue.layouts.of(np.array(series, np.int64))
        self.store.accept_now(self.store.batch(layout, np.array(at, np.int64), np.array(said)))
        self.naive.put(series, at, said)

    def engine(self, tier: str) -> QueryEngine:
        """One that has to answer from a tier, because the finer ones are said to be gone, and holds little at once."""
        gone = {"raw": (), "5m": ("raw",), "1h": ("raw", "5m")}[tier]
        return QueryEngine(
            self.store.catalogue,
            self.store.reader,
            Selector(self.store.catalogue, Hosts()),
            lambda name: 1 << 62 if name in gone else 0,
            cells=self.cells,
        )

    def check(self, tier: str, take: str, steps: Steps, by: str) -> None:
        answer = self.engine(tier).ask(self.metric, None, steps, take, [by])  # type: ignore[arg-type]
        assert answer.tier == tier or (answer.tier == "1h" and steps.width % (3600 * NS) == 0)
        groups: dict[str, list[tuple[int, str]]] = defaultdict(list)
        for i, kind in enumerate(KINDS):
            groups[f"pier-{1 + i % 2}" if by == "host" else kind].append((self.series[i], kind))
        for named, values in zip(answer.named, answer.values.tolist(), strict=True):
            for i, value in enumerate(values):
                start = answer.steps.start + i * answer.steps.width
                wanted = self.naive.ask(take, groups[named[by]], start, start + answer.steps.width)
                assert value == pytest.approx(wanted, rel=1e-5, abs=1e-9, nan_ok=True), (tier, take, named, i)


NUMBERS = st.one_of(st.integers(0, 40).map(float), st.sampled_from([0.0, 0.1, -3.5, math.nan]))
SECONDS = st.one_of(st.integers(0, 1200), st.integers(0, 3 * 3600), st.sampled_from([0, 299, 300, 3599, 3600, 7200]))
PUT = st.tuples(
    st.just("put"),
    st.lists(st.integers(0, 3), min_size=1, max_size=5),
    st.lists(SECONDS, min_size=1, max_size=5),
    st.lists(NUMBERS, min_size=1, max_size=5),
    st.booleans(),
)
RUN = st.tuples(
    st.just("run"),
    st.lists(st.integers(0, 3), min_size=1, max_size=4, unique=True),
    SECONDS,
    st.sampled_from([15, 60, 290, 1000]),
    st.lists(NUMBERS, min_size=3, max_size=12),
)
STEP = st.one_of(PUT, PUT, RUN, st.tuples(st.just("seal"), SECONDS), st.just(("again",)), st.just(("compact",)))
ASKED = st.sampled_from([(0, 300, 40), (0, 3600, 4), (-3600, 900, 20), (600, 420, 20), (0, 10_800, 1)])


@settings(max_examples=often(60), deadline=None, suppress_health_check=[HealthCheck.too_slow])
@given(st.lists(STEP, min_size=1, max_size=25), ASKED, st.sampled_from([1, 7, 30, 1_000_000]))
def test_every_tier_answers_as_plain_python_does(
    story: list[tuple[object, ...]], asked: tuple[int, int, int], cells: int
) -> None:
    """However little is held at once."""
    with tempfile.TemporaryDirectory() as folder:
        world = World(Path(folder), cells)
        for step in story:
            world.do(step)
        steps = Steps(T0 + asked[0] * NS, asked[1] * NS, asked[2])
        for take in TAKES:
            for by in ("host", "berth"):
                for tier in ("raw", "5m", "1h"):
                    world.check(tier, take, steps, by)
        world.check("raw", "p50", steps, "host")
        world.check("raw", "p90", steps, "berth")
        world.store.close()


def test_what_comes_late_of_a_series_that_was_unknown_is_where_growth_goes_on() -> None:
    """The counter's host is sealed up to 1869 s when its points of 0 to 30 s come: 35 more at 3,615 s grew since."""
    with tempfile.TemporaryDirectory() as folder:
        world = World(Path(folder))
        world.do(("run", [1], 3600, 15, [0.0, 35.0]))
        world.do(("put", [3], [1869], [0.0], True))
        world.do(("seal", 3600))
        world.do(("run", [1, 3], 0, 15, [0.0, 0.0, 0.0]))
        world.do(("seal", 3600))
        world.check("5m", "rate", Steps(T0, 300 * NS, 40), "berth")
        world.store.close()


def test_a_point_without_a_value_hides_no_growth_after_late_ones() -> None:
    with tempfile.TemporaryDirectory() as folder:
        world = World(Path(folder))
        world.do(("run", [0, 1], 299, 15, [math.nan, -3.5, 28.0]))
        world.do(("seal", 300))
        world.do(("again",))
        world.do(("run", [0, 1], 47, 15, [-3.5, 24.0, 0.0]))
        for tier in ("5m", "1h"):
            world.check(tier, "rate", Steps(T0 - 3600 * NS, 3600 * NS, 2), "berth")
        world.check("5m", "rate", Steps(T0, 300 * NS, 10), "berth")
        world.store.close()
