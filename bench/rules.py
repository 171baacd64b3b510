"""Checking rules: a million groups a tick, and from a data point to the webhook."""

from __future__ import annotations

import tempfile
import time
import tracemalloc
from collections import deque
from collections.abc import Callable
from itertools import combinations
from pathlib import Path
from statistics import median

import numpy as np
from numpy.typing import NDArray

from balise.api.hosts import HostChange
from balise.api.limits import Limits
from balise.api.rules import Rehearse, RuleBody
from balise.core.moments import NS
from balise.core.rules.baseline import at_moment
from balise.core.rules.counting import Counting
from balise.core.rules.courses import SLOTS, TRENDS_AT_ONCE, Courses
from balise.core.rules.heard import Heard
from balise.core.rules.limits import LimitMachine
from balise.core.rules.look import Look, Usual
from balise.server.life import close
from balise.server.parts import Parts, build
from balise.server.settings import Settings
from report import Report, best
from running import Service
from sending import send_gauge
from worlds.telling import told_after

F64 = NDArray[np.float64]
START = 1_800_000_000.0


class Plain:
    """The same two limits as an object a series."""

    def __init__(self) -> None:
        self.since: list[float | None] = [None, None]
        self.raised = [False, False]
        self.level = 0

    def advance(self, now: float, value: float) -> bool:
        for side, (above, clear) in enumerate(((0.85, 0.8), (0.95, 0.9))):
            if value > above:
                since = self.since[side]
                if since is None:
                    since = self.since[side] = now
                if now - since >= 60:
                    self.raised[side] = True
            else:
                self.since[side] = None
            if self.raised[side] and value <= clear:
                self.raised[side] = False
        before, self.level = self.level, 2 if self.raised[1] else 1 if self.raised[0] else 0
        return before != self.level


def many(report: Report) -> None:
    groups = report.size(1_000_000, 20_000)
    report.title(f"Rules: a tick over {groups:,} groups with hold and clear")
    limits = Limits.model_validate(
        {
            "warning": {"above": 0.85, "hold": "60s", "clear": 0.8},
            "critical": {"above": 0.95, "hold": "60s", "clear": 0.9},
        }
    )
    machine = LimitMachine(limits, groups)
    rng = np.random.default_rng(6)
    ticks = [np.clip(0.5 + 0.12 * rng.standard_normal(groups), 0, 1) for _ in range(4)]
    for t in range(8):
        machine.advance(t * 15.0, ticks[t % 4])
    clock = [200.0]

    def tick() -> None:
        clock[0] += 15
        machine.advance(clock[0], ticks[int(clock[0]) % 4])

    objects = [Plain() for _ in range(groups // 10)]
    values = ticks[0][: groups // 10].tolist()

    def plainly() -> None:
        clock[0] += 15
        for one, value in zip(objects, values, strict=True):
            one.advance(clock[0], value)

    vector, plain = best(tick, 7), best(plainly, 3) * 10
    report.figure(f"objects in Python, {groups:,}", f"{plain * 1e3:8.0f} ms")
    report.budget(f"{groups:,} groups, two limits, ms a tick", vector * 1e3, 50, most=True)
    report.budget("against objects in Python, ratio", plain / vector, 10, most=False)


class PlainKind:
    """A limit of any kind as an object a series; whether it is in breach is said to it."""

    def __init__(self) -> None:
        self.since: float | None = None
        self.raised = False
        self.total, self.count = 0.0, 0

    def judge(self, now: float, breached: bool) -> bool:
        before = self.raised
        if breached:
            self.since = now if self.since is None else self.since
            self.raised = self.raised or now - self.since >= 60
        else:
            self.since = None
            self.raised = False
        return before != self.raised

    def sample(self, value: float) -> bool:
        """What goes into the mean of the slot, from which trends are worked out."""
        self.total += value
        self.count += 1
        return True


def plain_trend(values: list[float]) -> float:
    """The median of the slopes between all pairs, as a person would write it."""
    return median((b - a) / (j - i) for (i, a), (j, b) in combinations(enumerate(values), 2))


def kinds(report: Report) -> None:
    """A tick of each kind of limit: what is known put together, and judged with a hold of a minute."""
    groups = report.size(1_000_000, 20_000)
    report.title(f"Rules: a tick of each kind of limit over {groups:,} groups")
    rng = np.random.default_rng(6)
    values = [np.clip(0.5 + 0.12 * rng.standard_normal(groups), 0, 1) for _ in range(4)]
    hours = Usual(*(np.abs(rng.standard_normal((groups, 5))) * scale + 0.01 for scale in (0.5, 0.1)))
    heard = Heard(30 * 86_400.0)
    heard.grow(groups)
    heard.note(np.arange(groups), START - 3600 * rng.random(groups))
    courses = Courses(8 * 3600.0)
    courses.grow(groups)
    for i in range(12):
        courses.sample(START + i * courses.far.width, values[i % 4])
    ends = np.ones(groups)
    looks: dict[str, tuple[dict[str, object], Callable[[float, F64], Look], Callable[[float, int, float], bool]]] = {
        "outside": ({"outside": [0.2, 0.8]}, lambda now, v: Look(v), lambda now, i, v: v < 0.2 or v > 0.8),
        "unusual": (
            {"unusual": 6, "by": 0.1},
            lambda now, v: Look(v, usual=at_moment(hours, now % 3600 / 3600)),
            lambda now, i, v: abs(v - middles[i]) > max(6 * spreads[i], 0.1),
        ),
        "missing_for": (
            {"missing_for": "30m"},
            lambda now, v: Look(v, quiet=heard.quiet(now)),
            lambda now, i, v: now - firsts[i] > 1800,
        ),
        "first_seen": (
            {"first_seen": True},
            lambda now, v: Look(v, fresh=heard.fresh(now)),
            lambda now, i, v: now - firsts[i] <= 3600,
        ),
        "runs_out_within": (
            {"runs_out_within": "8h", "at": 1},
            lambda now, v: _going(courses, now, v, ends),
            lambda now, i, v: objects[i].sample(v) and slopes[i] > 0 and (1 - v) / slopes[i] <= 28_800,
        ),
    }
    few = groups // 10
    middles, spreads = hours.middle[:few, 2].tolist(), hours.spread[:few, 2].tolist()
    firsts, slopes = heard.first[:few].tolist(), (rng.standard_normal(few) * 1e-5).tolist()
    objects = [PlainKind() for _ in range(few)]
    line = rng.random(SLOTS).tolist()
    for kind, (limit, look, breached) in looks.items():
        limits = Limits.model_validate({"warning": {**limit, "hold": "60s"}})
        machine = LimitMachine(limits, groups)
        clock = [START]

        def tick(machine: LimitMachine = machine, look: Callable[[float, F64], Look] = look) -> None:
            clock[0] += 1  # noqa: B023  of this turn
            machine.advance(clock[0], look(clock[0], values[int(clock[0]) % 4]))  # noqa: B023

        plain_values = values[0][:few].tolist()

        def plainly(breached: Callable[[float, int, float], bool] = breached) -> None:
            clock[0] += 1  # noqa: B023
            if kind == "runs_out_within":  # noqa: B023
                # As many trends as are worked out beside in one tick, of a tenth of the groups.
                for _ in range(TRENDS_AT_ONCE // 10):
                    plain_trend(line)
            for i, one in enumerate(objects):
                one.judge(clock[0], breached(clock[0], i, plain_values[i]))  # noqa: B023

        for _ in range(4):
            tick()
        vector, plain = best(tick, 7), best(plainly, 2) * 10
        report.budget(f"{kind}, ms a tick", vector * 1e3, 50 if kind == "outside" else 100, most=True)
        report.budget(f"{kind}, against objects in Python, ratio", plain / vector, 10, most=False)
    report.figure("memory a group, bytes: limits, hold and level", f"{_bytes_of(groups):.0f}")
    rings = courses.far.values.nbytes + courses.near.values.nbytes
    report.figure("and what its trend is worked out from", f"{rings / groups:.0f}")


def _going(courses: Courses, now: float, values: F64, ends: F64) -> Look:
    courses.sample(now, values)
    courses.look(now, ends)
    return Look(values, courses=(courses.course(now, ends), None))


def _bytes_of(groups: int) -> float:
    """What one group takes in a machine of two limits."""
    limits = Limits.model_validate({"warning": {"above": 0.8, "hold": "60s"}, "critical": {"above": 0.9}})
    tracemalloc.start()
    machine = LimitMachine(limits, groups)
    taken, _ = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    return taken / len(machine.level)


def counted(report: Report) -> None:
    groups, events = report.size(20_000, 500), report.size(50_000, 1_000)
    report.title(f"Rules: {events:,} events a second in {groups:,} groups counted over five minutes")
    rng = np.random.default_rng(4)
    counting = Counting(300.0)
    counting.grow(groups)
    plain: list[deque[float]] = [deque() for _ in range(groups)]
    clock = [START]
    of = rng.integers(0, groups, events)

    def tick() -> None:
        clock[0] += 1
        counting.observe(of, np.full(events, clock[0]), clock[0])
        counting.values(clock[0])

    def plainly() -> None:
        clock[0] += 1
        for group in of.tolist():
            plain[group].append(clock[0])
        for held in plain:
            while held and held[0] <= clock[0] - 300:
                held.popleft()
            len(held)

    vector = best(tick, 5)
    report.budget("ms a tick", vector * 1e3, 50, most=True)
    report.budget("against lists in Python, ratio", best(plainly, 3) / vector, 2, most=False)


def _rule(metric: str, take: str, **hosts: str) -> RuleBody:
    limits = {"warning": {"above": 0.9, "hold": "5m"}, "critical": {"above": 0.99, "hold": "1m"}}
    return RuleBody.model_validate(
        {"about": "x", **hosts, "measure": {"metric": metric, "take": take, "over": "2m"}, "limits": limits}
    )


def changing(report: Report) -> None:
    hosts, rules, seconds = report.size(300, 20), report.size(40, 4), report.size(60, 8)
    report.title(f"Rules: a tick with {hosts} hosts and {rules} rules, of which half ask labels, while hosts change")
    console = build(Settings(data=Path(tempfile.mkdtemp())))
    takes = ("last", "avg", "max", "rate")
    now = time.time()
    ids = {}
    for number in range(hosts):
        known = console.directory.ensure(f"pier-{number}")
        ids[known.id] = _series(console, known.id, rules // 2)
    for number in range(rules):
        chosen = {"hosts": 'label.site eq "north"'} if number % 2 else {}
        console.rules.put(f"r{number}", _rule(f"m{number // 2}", takes[number % 4], **chosen), "bench")
    rng = np.random.default_rng(8)
    took = []
    for second in range(seconds):
        at = now + second
        for host in [h for h in ids if h % 15 == second % 15]:
            layout = console.series.catalogue.layouts.of(ids[host])
            values = rng.random(len(ids[host]))
            console.series.accept_now(console.series.batch(layout, np.array([int(at * NS)]), values))
        # Every second one host has another label, and every other second there is one more.
        name = f"pier-{second % hosts}"
        console.hosts.change(name, HostChange(labels={"site": "north" if second % 3 else "south"}), "bench")
        if second % 2:
            known = console.directory.ensure(f"new-{second}")
            ids[known.id] = _series(console, known.id, rules // 2)
        began = time.perf_counter()
        console.watch.tick(at)
        took.append(time.perf_counter() - began)
    close(console)
    report.budget("median, ms a tick", sorted(took)[len(took) // 2] * 1e3, 20, most=True)
    report.figure("95th percentile, ms", f"{sorted(took)[len(took) * 95 // 100] * 1e3:.1f}")


def _series(console: Parts, host: int, metrics: int) -> np.ndarray:
    catalogue = console.series.catalogue
    made = [catalogue.metric(f"m{n}", "1", "gauge", "") for n in range(metrics)]
    return np.array([catalogue.series_id(host, metric, (), "", "gauge") for metric in made])


def resuming(report: Report) -> None:
    groups = report.size(1_000_000, 5_000)
    report.title(f"Rules: taking up a rule of {groups:,} groups after a restart, a tenth of them breached")
    folder = Path(tempfile.mkdtemp())
    console = build(Settings(data=folder))
    now = time.time()
    known = [console.directory.ensure(f"pier-{n}").id for n in range(50)]
    catalogue = console.series.catalogue
    catalogue._most_a_host = groups
    metric = catalogue.metric("m0", "1", "gauge", "")
    values = np.random.default_rng(9).random(groups)
    for at in range(0, groups, groups // 50):
        part = range(at, at + groups // 50)
        host = known[at // (groups // 50)]
        ids = np.array([catalogue.series_id(host, metric, (("i", str(n)),), "", "gauge") for n in part])
        batch = console.series.batch(catalogue.layouts.of(ids), np.array([int(now * NS)]), values[at : at + len(ids)])
        console.series.accept_now(batch)
    body = _rule("m0", "last").model_copy(deep=True)
    body.measure.each = ["host", "i"]
    console.rules.put("many", body, "bench")
    console.watch.tick(now + 1)
    close(console)
    again = build(Settings(data=folder))
    began = time.perf_counter()
    again.watch.load(now + 2)
    report.figure("windows, levels and holds taken up, s", f"{time.perf_counter() - began:.1f}")
    report.figure("groups, and breaches that go on", f"{again.watch.groups:,}, {_breached(again):,}")
    ticks = []
    for second in range(3, 10):
        began = time.perf_counter()
        again.watch.tick(now + second)
        ticks.append(time.perf_counter() - began)
    report.budget("a tick afterwards, all of it, ms", min(ticks) * 1e3, 150, most=True)
    close(again)


def _breached(console: Parts) -> int:
    return len(console.watch.rules["many"].machine.breaches())


REHEARSED: dict[str, dict[str, object]] = {
    "above": {"above": 0.92, "hold": "5m"},
    "outside": {"outside": [0.05, 0.92], "hold": "5m"},
    "unusual": {"unusual": 8, "side": "above", "by": 0.1, "hold": "10m"},
    "runs_out_within": {"runs_out_within": "3d", "at": 1.0},
    "missing_for": {"missing_for": "26h"},
    "first_seen": {"first_seen": True},
}


def rehearsed(report: Report) -> None:
    """Each kind over all that is kept of a month."""
    hosts, days = report.size(500, 4), report.size(30, 2)
    report.title(f"Rules: rehearsal over {days} days of {hosts} hosts with 4 series each, a point in five minutes")
    console = build(Settings(data=Path(tempfile.mkdtemp())))
    now = float(int(time.time()) // 300 * 300)
    catalogue, rng = console.series.catalogue, np.random.default_rng(5)
    made = catalogue.metric("m", "1", "gauge", "")
    known = [console.directory.ensure(f"pier-{n}").id for n in range(hosts)]
    ids = np.array([catalogue.series_id(host, made, (("i", str(n)),), "", "gauge") for host in known for n in range(4)])
    times = np.arange(now - days * 86_400, now, 300.0)
    moments, wave = (times * NS).astype(np.int64), 0.15 * np.sin(2 * np.pi * times / 86_400)
    for part in np.array_split(ids, max(1, len(ids) // 40)):
        level = 0.3 + 0.3 * rng.random((len(part), 1))
        values = np.clip(level + wave + 0.05 * rng.standard_normal((len(part), len(times))), 0, 1)
        console.series.lay_down([part], [moments], [values])
    report.figure("points", f"{len(ids) * len(times):,}")
    for kind, limit in REHEARSED.items():
        measure = {"metric": "m", "take": "avg", "over": "10m", "each": ["host", "i"]}
        rule = {"about": "x", "measure": measure, "limits": {"warning": limit}}
        asked = Rehearse.model_validate({"rule": rule, "from": f"-{days}d", "to": "now"})
        took = best(lambda asked=asked: console.rules.rehearse(asked), 2)  # type: ignore[misc]
        # What is usual is learnt of every hour of the span.
        report.budget(f"{kind}, s", took, 20 if kind == "unusual" else 10, most=True)
    close(console)


def heard(report: Report) -> None:
    tries = report.size(60, 3)
    report.title(f"Rules: from a data point's arrival to those who listen to alerts, {tries} times")
    service = Service(Path(tempfile.mkdtemp()))
    took = []
    with service.client() as admin:
        body = {"about": "x", "measure": {"metric": "tide", "over": "60s"}, "limits": {"critical": {"above": 1}}}
        admin.rules.apply("tide", RuleBody.model_validate(body))
        rng = np.random.default_rng(7)
        said = admin.follow()
        next(said)
        for i in range(tries):
            time.sleep(float(rng.random()))
            send_gauge(service.url, service.tokens["ingest"], f"pier-{i}", "tide", 9.0)
            began = time.perf_counter()
            next(topic for topic, _ in said if topic == "alert")
            took.append(time.perf_counter() - began)
    service.stop()
    report.figure("median", f"{sorted(took)[len(took) // 2]:.2f} s")
    report.budget("p99, s", sorted(took)[int(len(took) * 0.99)], 1.0, most=True)


def told(report: Report) -> None:
    tries = report.size(40, 3)
    report.title(f"Rules: from a data point's arrival to the webhook's receipt, {tries} times")
    service = Service(Path(tempfile.mkdtemp()))
    took = told_after(service, tries)
    service.stop()
    report.figure("median", f"{took[len(took) // 2]:.2f} s")
    report.budget("p99, s", took[int(len(took) * 0.99)], 2.0, most=True)


def run(report: Report) -> None:
    many(report)
    kinds(report)
    counted(report)
    changing(report)
    resuming(report)
    rehearsed(report)
    heard(report)
    told(report)
