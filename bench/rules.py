"""Checking rules: a million groups a tick, and from a data point to the webhook."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

import numpy as np

from balise.api.hosts import HostChange
from balise.api.notify import CalloutBody, WebhookChannel
from balise.api.rules import Limits, RuleBody
from balise.core.moments import NS
from balise.core.rules.limits import LimitMachine
from balise.server.life import close
from balise.server.parts import Parts, build
from balise.server.settings import Settings
from report import Report, best
from running import Receiver, Service, until
from sending import send_gauge


class Plain:
    """The same limits as an object a series."""

    def __init__(self) -> None:
        self.since: float | None = None
        self.raised = False

    def advance(self, now: float, value: float) -> bool:
        before = self.raised
        if value > 0.85:
            self.since = now if self.since is None else self.since
            if now - self.since >= 60:
                self.raised = True
        else:
            self.since = None
        if self.raised and value <= 0.8:
            self.raised = False
        return before != self.raised


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
    report.figure(f"objects in Python (one limit only), {groups:,}", f"{plain * 1e3:8.0f} ms")
    report.budget(f"{groups:,} groups, two limits, ms a tick", vector * 1e3, 50, most=True)
    report.budget("against objects in Python, ratio", plain / vector, 10, most=False)


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


def told(report: Report) -> None:
    tries = report.size(40, 3)
    report.title(f"Rules: from a data point's arrival to the webhook's receipt, {tries} times")
    service, receiver = Service(Path(tempfile.mkdtemp())), Receiver()
    took = []
    with service.client() as admin:
        admin.channels.set("hook", WebhookChannel(kind="webhook", url=receiver.url))
        admin.callouts.set("all", CalloutBody(tell=["hook"]))
        admin.rules.apply(
            "tide",
            RuleBody.model_validate(
                {"about": "x", "measure": {"metric": "tide", "over": "60s"}, "limits": {"critical": {"above": 1}}}
            ),
        )
        rng = np.random.default_rng(7)
        for i in range(tries):
            time.sleep(float(rng.random()) * 0.5)
            send_gauge(service.url, service.tokens["ingest"], f"pier-{i}", "tide", 9.0)
            began = time.perf_counter()
            until(lambda i=i: len(receiver.got) > i, 20)  # type: ignore[misc]
            took.append(time.perf_counter() - began)
    service.stop()
    receiver.close()
    report.figure("median", f"{sorted(took)[len(took) // 2]:.2f} s")
    report.budget("p99, s", sorted(took)[int(len(took) * 0.99)], 2.0, most=True)


def run(report: Report) -> None:
    many(report)
    changing(report)
    resuming(report)
    told(report)
