"""Starting, and what runs day and night: the agent, and the console with the demo fleet."""

from __future__ import annotations

import subprocess
import tempfile
import time
from pathlib import Path

import httpx
import psutil

from balise.api.access import NewEnrolmentKey
from balise.store.series.store import SeriesStore
from report import Report, best
from running import BALISE, Service, free_port, until


def starting(report: Report) -> None:
    report.title("Starting")

    def helping() -> None:
        subprocess.run([BALISE, "--help"], check=True, capture_output=True)

    helping()
    report.budget("balise --help, ms", best(helping, report.size(10, 2)) * 1000, 150, most=True)
    service = Service(Path(tempfile.mkdtemp()))
    took = []
    for _ in range(report.size(5, 1)):
        service.stop()
        began = time.perf_counter()
        service.start()
        took.append(time.perf_counter() - began)
    service.stop()
    report.figure("balise serve until it answers, empty, fastest of 5", f"{min(took):8.2f} s")


def agent(report: Report) -> None:
    seconds = report.size(600.0, 3.0)
    report.title(f"The agent at 15 s with the system collectors, over {seconds:.0f} s")
    folder = Path(tempfile.mkdtemp())
    service = Service(folder)
    with service.client() as admin:
        key = admin.keys.create(NewEnrolmentKey(label="bench")).key
    state = str(folder / "agent")
    subprocess.run(
        [BALISE, "agent", "enrol", "--console", service.url, "--key", key, "--state", state],
        check=True,
        capture_output=True,
    )
    with subprocess.Popen([BALISE, "agent", "run", "--state", state], stderr=subprocess.DEVNULL) as child:
        process = psutil.Process(child.pid)
        time.sleep(report.size(20.0, 2.0))
        before = process.cpu_times()
        time.sleep(seconds)
        after = process.cpu_times()
        used = (after.user + after.system - before.user - before.system) / seconds
        size = process.memory_info().rss / 2**20
        with service.client() as admin:
            host = next(iter(admin.hosts.list()))
            costs = (host.agent or {}).get("collectors", {})
        child.terminate()
    service.stop()
    for name, cost in costs.items():
        report.figure(f"collector {name}, processor time a reading", f"{cost * 1e3:8.2f} ms")
    report.budget("agent, % of one core", used * 100, 0.5, most=True)
    report.budget("agent, resident MiB", size, 50, most=True)


def demo(report: Report) -> None:
    report.title("The demo")
    folder = Path(tempfile.mkdtemp())
    port = free_port()
    words = [BALISE, "demo", "--data", str(folder), "--listen", f"127.0.0.1:{port}", "--no-this-host"]
    words += report.size("", "--hosts 4 --days 0.1").split()
    for name, budget in (("first start until it answers, s", 30), ("second start, s", 5)):
        began = time.perf_counter()
        with subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as child:
            until(lambda: _answers(port), 120)
            report.budget(name, time.perf_counter() - began, budget, most=True)
            if budget == 5:
                time.sleep(report.size(20.0, 1.0))
                process = psutil.Process(child.pid)
                before = process.cpu_times()
                seconds = report.size(60.0, 2.0)
                time.sleep(seconds)
                after = process.cpu_times()
                used = (after.user + after.system - before.user - before.system) / seconds
                report.budget("idle with the demo fleet, % of one core", used * 100, 5, most=True)
                report.budget(
                    "idle with the demo fleet, resident MiB", process.memory_info().rss / 2**20, 300, most=True
                )
            child.terminate()
    store = SeriesStore(folder)
    samples, size = store.stored_samples(), store.size()
    store.close()
    report.figure("series.db, bytes a sample with rollups", f"{size / samples:.2f} ({samples / 1e6:.1f} M samples)")


def _answers(port: int) -> bool:
    try:
        return httpx.get(f"http://127.0.0.1:{port}/api/v1/status").status_code == 200
    except httpx.HTTPError:
        return False


def run(report: Report) -> None:
    starting(report)
    demo(report)
    agent(report)
