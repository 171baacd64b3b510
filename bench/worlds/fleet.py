"""A large fleet with a long log, for how long a trail takes and how much memory, measured in a process of its own."""

from __future__ import annotations

import ctypes
import gc
import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from balise.core.events.new_event import NewEvent
from balise.core.moments import NS, nanos
from balise.core.trail.trail import trail_of
from balise.server.life import close
from balise.server.parts import Parts, build
from balise.server.settings import Settings
from balise.store.events.store import Delivery
from report import Report

HOSTS, SERIES, EVENTS = 500, 100, 1_000_000
EVERY, LENGTH, BEFORE = 15.0, 2400.0, 3600.0
HOSTS_A_STEP, EVENTS_A_STEP = 25, 50_000
KINDS = (
    ("app.request.duration", "s"),
    ("app.queue.depth", "{request}"),
    ("app.memory.used", "By"),
    ("app.errors", "1"),
)


def measured(report: Report) -> None:
    """Prints how long a trail of the whole fleet takes and how much memory that adds."""
    hosts, series, events = report.size(HOSTS, 6), report.size(SERIES, 8), report.size(EVENTS, 500)
    with tempfile.TemporaryDirectory(prefix="balise-fleet-") as folder:
        for job in ("lay", "ask"):
            words = [sys.executable, "-m", "worlds.fleet", job, folder, str(hosts), str(series), str(events)]
            said = subprocess.run(words, check=True, capture_output=True, text=True).stdout
    found = json.loads(said)
    name = f"{found['hosts']:,} hosts × {series} series and {found['events']:,} events"
    report.figure(f"{name}: gathering", f"{found['gathered']:8.2f} s, {found['lines']:,} series looked at closely")
    report.budget(f"{name}: seconds, the second time", found["again"], 2.0, most=True)
    report.figure(f"{name}: seconds, the first time", f"{found['first']:.2f} s")
    report.budget(f"{name}: MiB more", found["more"], 300.0, most=True)


def _lay(console: Parts, hosts: int, series: int, events: int) -> None:
    rng = np.random.default_rng(7)
    end = time.time() // 60 * 60
    times = np.arange(end - LENGTH - BEFORE, end, EVERY)
    began = end - LENGTH + 600
    at = (times * NS).astype(np.int64)
    catalogue = console.series.catalogue
    for first in range(0, hosts, HOSTS_A_STEP):
        ids, values = [], []
        for number in range(first, min(first + HOSTS_A_STEP, hosts)):
            known = console.directory.ensure(f"host-{number:03d}")
            mine = []
            for i in range(series):
                metric, unit = KINDS[i % len(KINDS)]
                found = catalogue.metric(metric, unit, "gauge", metric)
                attributes = (("service.name", f"part-{i // len(KINDS)}"),)
                mine.append(catalogue.series_id(known.id, found, attributes, "", "gauge"))
            ids.append(np.array(mine))
            level = rng.uniform(5, 50, (series, 1))
            drawn = level * (1 + 0.03 * rng.normal(size=(series, len(times))))
            if number % 50 == 0:
                # One place, and those of its kind after it, are hit.
                drawn[: len(KINDS)] += level[: len(KINDS)] * 4 * (times >= began + number * 2)
            values.append(np.round(drawn, 3))
        console.series.lay_down(ids, [at] * len(ids), values)
    _say(console, hosts, events, end)


def _say(console: Parts, hosts: int, events: int, end: float) -> None:
    """Ordinary lines of many kinds, evenly over the stretch and before it."""
    rng = np.random.default_rng(8)
    moments = np.sort(rng.uniform(end - LENGTH - BEFORE, end, events))
    words = [f"{verb} {noun} number" for verb in ("read", "wrote", "sent", "kept", "asked for") for noun in
             ("ticket", "page", "berth", "sailing", "fare", "cabin", "crew", "ramp")]  # fmt: skip
    for first in range(0, events, EVENTS_A_STEP):
        part = moments[first : first + EVENTS_A_STEP].tolist()
        told = [
            NewEvent(nanos(at), f"host-{i % hosts:03d}", 6, "app", f"{words[i % len(words)]} {i}", None)
            for i, at in enumerate(part, start=first)
        ]
        console.events.accept_now(Delivery(told))


def _ask(console: Parts) -> dict[str, object]:
    end = time.time() // 60 * 60
    felt = [("host-000", "")]
    before = _memory_afresh()
    took = []
    for _ in range(2):
        began = time.perf_counter()
        gathered = console.trails.gatherer.gather(felt, end - LENGTH, end)
        asked = time.perf_counter()
        trail_of(gathered.case, str, gathered.signs)
        took.append(time.perf_counter() - began)
    return {
        "hosts": gathered.hosts, "events": gathered.events, "lines": len(gathered.case.lines),
        "gathered": asked - began, "first": took[0], "again": took[1], "more": _memory("VmHWM") - before,
    }  # fmt: skip


def _memory_afresh() -> float:
    """What this process holds now, MiB, once what it has freed is given back; its highest is counted from here."""
    gc.collect()
    ctypes.CDLL(None).malloc_trim(0)
    Path("/proc/self/clear_refs").write_text("5")
    return _memory("VmRSS")


def _memory(what: str) -> float:
    [line] = [line for line in Path("/proc/self/status").read_text().splitlines() if line.startswith(f"{what}:")]
    return int(line.split()[1]) / 1024


def main() -> None:
    job, folder, *sizes = sys.argv[1:]
    console = build(Settings(data=Path(folder)))
    try:
        if job == "lay":
            _lay(console, *(int(size) for size in sizes))
        else:
            print(json.dumps(_ask(console)))
    finally:
        close(console)


if __name__ == "__main__":
    main()
