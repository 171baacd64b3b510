"""A large fleet: what a series takes of memory, and what the first bodies of many hosts cost. In processes of their own."""

from __future__ import annotations

import asyncio
import ctypes
import gc
import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np

from balise.server.life import close
from balise.server.parts import build
from balise.server.people.access import Principal
from balise.server.settings import Settings
from balise.store.series.store import SeriesStore
from report import Report
from worlds.body import KINDS, POINTS, body
from worlds.crowd import measured

HOSTS = 5000
SENDER = Principal("bench", "administrator")


def memory(hosts: int) -> dict[str, float]:
    """Bytes a series: as the catalogue knows it, and with a first point of each in memory."""
    with tempfile.TemporaryDirectory(prefix="balise-bench-") as folder:
        store = SeriesStore(Path(folder))
        metrics = [
            store.catalogue.metric(f"system.bench.metric_number_{i:02d}", "1", "gauge", "") for i in range(KINDS)
        ]
        before = _resident()
        layouts = []
        for host in range(1, hosts + 1):
            ids = [
                store.catalogue.series_id(host, metric, _attributes(host, i, mode), "", "gauge")
                for i, metric in enumerate(metrics)
                for mode in ("user", "system", "idle", "iowait", "steal")
            ]
            layouts.append(store.catalogue.layouts.of(np.array(ids, np.int64)))
            if host % 500 == 0:
                store.accept_now(store.batch(layouts[-1], np.array([time.time_ns()]), np.zeros(POINTS)))
        known = _resident() - before
        for layout in layouts:
            store.accept_now(store.batch(layout, np.array([time.time_ns()]), np.zeros(POINTS)))
        heard = _resident() - before
        store.close()
        began = time.perf_counter()
        again = SeriesStore(Path(folder))
        opened = time.perf_counter() - began
        again.close()
    return {"known": known / hosts / POINTS, "heard": heard / hosts / POINTS, "opened": opened}


def _attributes(host: int, i: int, mode: str) -> tuple[tuple[str, str], ...]:
    own = f"serial-of-host-{host}" if i % 10 == 3 else str(i)
    return (("cpu.mode", mode), ("system.device", own))


def learning(hosts: int) -> dict[str, float]:
    """Milliseconds a host: of its first body, of the next, and of the first after a start; and the bytes that a host
    with 200 series and two points of each takes, all of it."""
    with tempfile.TemporaryDirectory(prefix="balise-bench-") as folder:
        found: dict[str, float] = {}
        for turn in ("first", "again"):
            console = build(Settings(data=Path(folder)))
            before = _resident()
            for name in (turn, f"{turn} known"):
                sent = [body(f"host-{i:05d}", time.time_ns()) for i in range(hosts)]
                found[name] = _taken(console.metric_intake, sent) / hosts * 1e3
                del sent
            found.setdefault("bytes", (_resident() - before) / hosts)
            close(console)
    return found


def _taken(intake: object, sent: list[bytes]) -> float:
    async def all_of_them() -> float:
        began = time.process_time()
        for first in range(0, len(sent), 50):
            await asyncio.gather(*(intake.take(SENDER, one, as_json=False) for one in sent[first : first + 50]))  # type: ignore[attr-defined]
        return time.process_time() - began

    return asyncio.run(all_of_them())


def _resident() -> float:
    gc.collect()
    ctypes.CDLL(None).malloc_trim(0)
    [line] = [line for line in Path("/proc/self/status").read_text().splitlines() if line.startswith("VmRSS:")]
    return int(line.split()[1]) * 1024.0


def _apart(what: str, hosts: int) -> dict[str, float]:
    words = [sys.executable, str(Path(__file__)), what, str(hosts)]
    found: dict[str, float] = json.loads(subprocess.run(words, check=True, capture_output=True, text=True).stdout)
    return found


def run(report: Report) -> None:
    report.title("Scale: what a series takes, 5,000 hosts × 200")
    found = _apart("memory", report.size(HOSTS, 20))
    report.budget("bytes a series, with its first point", found["heard"], 300, most=True)
    report.figure("bytes a series that is known and was not heard yet", f"{found['known']:8.0f}")
    report.figure("opening a store of so many", f"{found['opened']:8.2f} s")
    report.title("Scale: bodies of 200 points, processor time each")
    a_series = found["heard"]
    found = _apart("learning", report.size(1000, 20))
    report.figure("the first of a host", f"{found['first']:8.2f} ms")
    report.figure("the next", f"{found['first known']:8.2f} ms")
    report.figure("the first after a start", f"{found['again']:8.2f} ms")
    report.budget("hosts a second, that are new", 1000 / found["first"], 500, most=False)
    report.figure("bytes a host with 200 series and two points", f"{found['bytes']:8.0f}")
    rest = found["bytes"] - POINTS * (a_series + 8)
    report.figure("of that beside its series and their points", f"{rest:8.0f}")
    measured(report)


if __name__ == "__main__":
    print(json.dumps({"memory": memory, "learning": learning}[sys.argv[1]](int(sys.argv[2]))))
