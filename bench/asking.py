"""Asking: a host's page in one call, a dashboard, what moved over the fleet, the fleet's table of ten thousand hosts."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path
from typing import Any

import numpy as np

from balise.api.dashboards import DashboardAsked, DashboardBody
from balise.api.metrics import MetricQueries
from balise.api.moved import MovedQuery
from balise.api.spans import rfc3339
from balise.api.table import HostTableQuery
from balise.core.moments import NS
from balise.server.life import close
from balise.server.parts import Parts, build
from balise.server.people.access import Principal
from balise.server.settings import Settings
from report import Report, best

METRICS = 40
SERIES = 100
"""Of one host, over all its metrics."""
FINE, WIDE = 15.0, 60.0
"""Seconds between points in the last hour, and before."""
HOURS = 24
AT_ONCE = 20
"""Hosts laid down together."""


def fleet(folder: Path, hosts: int) -> tuple[Parts, float]:
    """Hosts with a hundred series each, a day at a point a minute and the last hour as it came, not put away yet; and
    the moment of its newest points, unix seconds."""
    console = build(Settings(data=folder))
    catalogue, rng = console.series.catalogue, np.random.default_rng(1)
    now = time.time() // 60 * 60
    recent = np.arange(now - 3600, now, FINE)
    past = np.arange(now - HOURS * 3600, now - 3600, WIDE)
    metrics = [
        catalogue.metric(f"bench.m{i}", "1" if i % 2 else "By", "counter" if i % 4 == 3 else "gauge", "")
        for i in range(METRICS)
    ]
    held = []
    for at in range(0, hosts, AT_ONCE):
        ids, values = [], []
        for number in range(at, min(at + AT_ONCE, hosts)):
            host = console.directory.ensure(f"host-{number:05d}").id
            own = [
                catalogue.series_id(
                    host, metric, (("part", f"p{j}"),), "", "counter" if metric.kind == "counter" else "gauge"
                )
                for i, metric in enumerate(metrics)
                for j in range(SERIES // METRICS + (i < SERIES % METRICS))
            ]
            mine = np.array(own, np.int64)
            counts = np.array([catalogue.series[one].kind == "counter" for one in own], bool)
            level = np.round(0.4 + 0.05 * rng.standard_normal((len(own), len(past))), 4)
            level[counts] = np.cumsum(np.round(level[counts] * 1000), axis=1)
            ids.append(mine)
            values.append(level)
            held.append((catalogue.layouts.of(mine), level[:, -1].copy(), counts))
        console.series.lay_down(ids, [(past * NS).astype(np.int64)] * len(ids), values)
    for moment in recent.tolist():
        for layout, last, counts in held:
            level = np.round(0.4 + 0.05 * rng.standard_normal(len(last)), 4)
            level[counts] = last[counts] + np.round(level[counts] * 250)
            last[counts] = level[counts]
            console.series.accept_now(console.series.batch(layout, np.array([int(moment * NS)]), level))
    while console.series.compact(int((now + 3 * 86_400) * NS)):
        pass
    return console, now


def lanes(report: Report, console: Parts) -> None:
    where = 'host eq "host-00003"'
    queries = [{"metric": f"bench.m{i}", "where": where, "from": "-3h", "take": "rate" if i % 4 == 3 else "avg", "by": ["part"]}
               for i in range(12)]  # fmt: skip
    asked = MetricQueries.model_validate({"queries": queries}).queries

    def ask() -> None:
        console.metrics.ask_all(asked, lambda query: query).model_dump_json()

    ask()
    report.budget("a host's page of 12 lanes in one call, ms", best(ask) * 1e3, 60, most=True)


def dashboard(report: Report, console: Parts, hosts: int) -> None:
    def panel(number: int, kind: str, **query: Any) -> dict[str, Any]:
        return {
            "kind": kind,
            "title": f"{kind} {number}",
            "at": [number % 2 * 6, number // 2 * 4, 6, 4],
            "query": query,
        }

    charts = [panel(i, "chart", metric=f"bench.m{i * 4}", by=["host"], top=12) for i in range(10)]
    values = [panel(10 + i, "value", metric=f"bench.m{i * 4}", by=[]) for i in range(5)]
    rest = [
        panel(15, "table", columns=[{"metric": "bench.m1"}, {"metric": "bench.m5"}], sort=[{"column": 0}], limit=20),
        panel(16, "states", by="site"), panel(17, "incidents"), panel(18, "events"), panel(19, "patterns"),
    ]  # fmt: skip
    body = DashboardBody.model_validate({"panels": [*charts, *values, *rest]})
    made = console.dashboards.put("bench", body, Principal("bench", "administrator"))
    asked = DashboardAsked(from_="-3h")

    def ask() -> None:
        console.answering.of(made, asked).model_dump_json()

    ask()
    report.budget(f"a dashboard of twenty panels over {hosts:,} hosts, ms", best(ask, 3) * 1e3, 800, most=True)


def moved(report: Report, console: Parts, hosts: int, now: float) -> None:
    for name, back, until in (("the last ten minutes", 600.0, 0.0), ("two hours in the night", 8 * 3600.0, 6 * 3600.0)):
        query = MovedQuery.model_validate({"from": rfc3339(now - back), "to": rfc3339(now - until)})
        began = time.perf_counter()
        console.most_moved.find(query)
        first = time.perf_counter() - began
        report.figure(f"what moved, {name}, who looks first waits, ms", f"{first * 1e3:.0f}")
        took = best(lambda query=query: console.most_moved.find(query), 3)  # type: ignore[misc]
        report.budget(f"what moved over {hosts:,} × {SERIES} series, {name}, ms", took * 1e3, 500, most=True)


def table(report: Report, folder: Path, hosts: int) -> None:
    console = build(Settings(data=folder))
    catalogue, rng = console.series.catalogue, np.random.default_rng(2)
    metric = catalogue.metric("balise.cpu.busy", "1", "gauge", "")
    now = time.time()
    for number in range(hosts):
        host = console.directory.ensure(f"host-{number:05d}").id
        ids = np.array([catalogue.series_id(host, metric, (), "", "gauge")])
        layout = catalogue.layouts.of(ids)
        for back in (30.0, 15.0):
            console.series.accept_now(console.series.batch(layout, np.array([int((now - back) * NS)]), rng.random(1)))
    query = HostTableQuery.model_validate(
        {"columns": [{"metric": "balise.cpu.busy"}], "sort": [{"column": 0, "descending": True}], "limit": 100}
    )
    began = time.perf_counter()
    console.fleet_table.page(query)
    report.figure(f"the first who asks of {hosts:,} hosts waits, ms", f"{(time.perf_counter() - began) * 1e3:.0f}")
    took = best(lambda: console.fleet_table.page(query).model_dump_json())
    report.budget(f"a page of {hosts:,} hosts sorted on a metric, ms", took * 1e3, 100, most=True)
    close(console)


def run(report: Report) -> None:
    hosts = report.size(500, 4)
    report.title(
        f"Asking: {hosts:,} hosts with {SERIES} series each, a day; and a table of {report.size(10_000, 40):,} hosts"
    )
    console, now = fleet(Path(tempfile.mkdtemp()), hosts)
    lanes(report, console)
    dashboard(report, console, hosts)
    moved(report, console, hosts, now)
    close(console)
    table(report, Path(tempfile.mkdtemp()), report.size(10_000, 40))
