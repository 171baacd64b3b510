"""Enrolling a fleet: a long list tested side by side, two thousand agents, two hundred hosts over SSH."""

from __future__ import annotations

import asyncio
import gzip
import json
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import httpx
import psutil
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest

from balise.api.access import NewEnrolmentKey
from balise.api.agents import EnrolRequest
from balise.api.hosts import Facts
from balise.api.secrets import REVEALED, Secret
from balise.collect.here import system_collectors
from balise.collect.otlp import logs_request, metrics_request
from balise.collect.readings import Kept, Sorted
from balise.demo.quays import PASSWORD, USER
from distant import Mute
from processes import resident, used
from report import Report
from running import Service

INTERVAL = 15.0


class Quays:
    """Made-up SSH servers in a process of their own."""

    def __init__(self, count: int) -> None:
        words = [sys.executable, "-m", "balise.demo.quays", str(count)]
        self.process = subprocess.Popen(words, stdout=subprocess.PIPE, text=True)
        assert self.process.stdout
        self.places = [tuple(self.process.stdout.readline().split()) for _ in range(count)]

    def close(self) -> None:
        self.process.terminate()
        self.process.wait()


def cpu_of(service: Service, seconds: float) -> tuple[float, float]:
    """Cores used by a service over a while, and its resident MiB at the end."""
    process = psutil.Process(service._process.pid)  # type: ignore[union-attr]
    before = used(process)
    time.sleep(seconds)
    return (used(process) - before) / seconds, resident(process) / 2**20


def lists(report: Report) -> None:
    count = report.size(500, 20)
    report.title(f"A list of {count} hosts, 10 % of which never answer, time limit 5 s, tested from the console")
    quays, mute = Quays(count * 9 // 10), Mute()
    service = Service(Path(tempfile.mkdtemp()))
    with service.client() as admin:
        admin.call("PUT", "/credentials/quays", {"kind": "ssh", "user": USER, "password": PASSWORD})
        held = {"address": "127.0.0.1", "credential": "quays"}
        entries = [{"name": name, "port": int(port), **held} for name, port in quays.places]
        entries += [{"name": f"mute-{n}", "port": mute.port, **held} for n in range(count - len(entries))]
        order = sorted(range(len(entries)), key=lambda n: n * 7919 % count)
        began = time.perf_counter()
        body = {"entries": [entries[n] for n in order], "time_limit": "5s"}
        number = admin.call("POST", "/enrolments", body)["id"]
        while (answer := admin.call("GET", f"/enrolments/{number}"))["state"] != "done":
            time.sleep(0.5)
        took = time.perf_counter() - began
        report.figure("results", json.dumps(answer["results"]))
        report.budget("seconds until all are tested (both ends on this machine)", took, 15, most=True)
        remote(report, service, admin, quays)
    service.stop()
    quays.close()
    mute.close()


def remote(report: Report, service: Service, admin: Any, quays: Quays) -> None:
    count, every = report.size(200, 5), report.size(60.0, 5.0)
    report.title(f"The console reading {count} hosts over SSH each {every:.0f} s")
    for name, _ in quays.places[count:]:
        admin.call("POST", f"/hosts/{name}/retire")
    admin.call(
        "PUT",
        "/settings/collection",
        {"every": f"{every:.0f}s", "time_limit": report.size("10s", "4s"), "side_by_side": 100},
    )
    time.sleep(every * 1.25)
    share, size = cpu_of(service, every * 2)
    lost = [h.name for h in admin.hosts.list('mode eq "remote"') if h.collection.problem]
    report.figure("hosts with a problem", str(len(lost)))
    report.budget("console, % of one core", share * 100, 10, most=True)
    report.figure("a host's reading, processor time", f"{share * every / count * 1e3:8.1f} ms")
    report.figure("console, resident", f"{size:8.0f} MiB")


def agent_bodies(host: str) -> tuple[bytes, bytes]:
    """What this machine's agent would deliver in one turn."""
    collectors, found = system_collectors(), Sorted()
    now = time.time()
    for collector in collectors:
        list(collector.read(now))
        found.add(list(collector.read(now)))
    meanings = {k: v for c in collectors for k, v in c.meanings.items()}
    kept = [
        *found.kept,
        Kept(now, "balise.agent.report", {"version": "0", "instance": host, "problem": "", "collectors": {"cpu": 0.1}}),
    ]
    resource = {"host.name": host}
    return metrics_request(resource, found.readings, meanings, at=now, since=now), logs_request(resource, [], kept)


class Line:
    """One kept connection: sends a request and reads its whole answer."""

    def __init__(self, url: str) -> None:
        place = url.removeprefix("http://")
        self._host, _, port = place.partition(":")
        self._port = int(port)
        self._streams: tuple[asyncio.StreamReader, asyncio.StreamWriter] | None = None

    async def post(self, kind: str, token: str, content: bytes, *, packed: bool = True) -> bool:
        if self._streams is None:
            self._streams = await asyncio.open_connection(self._host, self._port)
        reader, writer = self._streams
        encoding = "Content-Encoding: gzip\r\n" if packed else ""
        head = (
            f"POST /v1/{kind} HTTP/1.1\r\nHost: bench\r\nAuthorization: Bearer {token}\r\n"
            f"Content-Type: application/x-protobuf\r\n{encoding}Content-Length: {len(content)}\r\n\r\n"
        )
        writer.write(head.encode() + content)
        answer = await reader.readuntil(b"\r\n\r\n")
        length = int(answer.lower().split(b"content-length:")[1].split(b"\r\n")[0])
        if length:
            await reader.readexactly(length)
        return answer.startswith(b"HTTP/1.1 200")


async def deliver(url: str, tokens: list[str], seconds: float) -> tuple[int, int, list[float]]:
    """Every agent delivers each 15 s, spread over the interval; all that are due in one second share its body."""
    metrics, logs = agent_bodies("bench")
    request = ExportMetricsServiceRequest.FromString(metrics)
    points = [
        p
        for m in request.resource_metrics[0].scope_metrics[0].metrics
        for p in (m.gauge.data_points or m.sum.data_points)
    ]
    bodies: dict[int, bytes] = {}
    packed_logs = gzip.compress(logs, 6)
    late: list[float] = []
    done = failed = 0
    start = time.monotonic()

    def body() -> bytes:
        second = int(time.time())
        if second not in bodies:
            bodies.clear()
            for point in points:
                point.time_unix_nano = second * 1_000_000_000
            bodies[second] = gzip.compress(request.SerializeToString(), 6)
        return bodies[second]

    async def some(mine: list[tuple[int, str]]) -> None:
        """The agents of one connection, in the order in which they are due."""
        nonlocal done, failed
        line = Line(url)
        turn = 0
        while True:
            for number, token in mine:
                due = start + turn * INTERVAL + INTERVAL * number / len(tokens)
                if due > start + seconds:
                    return
                await asyncio.sleep(max(0.0, due - time.monotonic()))
                began = time.monotonic()
                for kind, content in (("metrics", body()), ("logs", packed_logs)):
                    good = await line.post(kind, token, content)
                    done += good
                    failed += not good
                late.append(time.monotonic() - began)
            turn += 1

    numbered = list(enumerate(tokens))
    await asyncio.gather(*(some(numbered[n::100]) for n in range(min(100, len(numbered)))))
    return done, failed, sorted(late)


def generator(url: str, tokens: Path, seconds: float) -> None:
    """The load, in a process of its own: `python bench/enrolling.py URL FILE SECONDS`."""
    done, failed, late = asyncio.run(deliver(url, tokens.read_text().split(), seconds))
    print(json.dumps({"done": done, "failed": failed, "p50": late[len(late) // 2], "p99": late[len(late) * 99 // 100]}))


def agents(report: Report) -> None:
    seconds, before, count = report.size(60.0, 3.0), report.size(35.0, 3.0), report.size(2000, 10)
    report.title(f"{count:,} agents delivering metrics, evidence and a report every {INTERVAL:.0f} s")
    folder = Path(tempfile.mkdtemp())
    service = Service(folder)
    with service.client() as admin:
        key = admin.keys.create(NewEnrolmentKey(label="bench", uses=count, group="Bench")).key

        def enrol(number: int) -> str:
            facts = Facts(host_name=f"agent-{number:04d}", machine_id=f"m-{number}")
            body = EnrolRequest(key=Secret(key), facts=facts).model_dump_json(context=REVEALED)
            answer = http.post("/api/v1/agents/enrol", content=body, headers={"Content-Type": "application/json"})
            return str(answer.json()["token"])

        began = time.perf_counter()
        with httpx.Client(base_url=service.url, timeout=60) as http, ThreadPoolExecutor(20) as pool:
            tokens = list(pool.map(enrol, range(count)))
        report.figure("enrolling them, 20 at once", f"{count / (time.perf_counter() - began):8.0f} agents/s")
        (folder / "tokens").write_text("\n".join(tokens))
        words = [sys.executable, __file__, service.url, str(folder / "tokens"), str(before + seconds + 10)]
        with subprocess.Popen(words, stdout=subprocess.PIPE, text=True) as load:
            time.sleep(before)
            share, size = cpu_of(service, seconds)
            said = json.loads(load.communicate()[0])
        figures = admin.status().figures
        assert figures
        report.figure("requests taken, refused", f"{said['done']}, {said['failed']}")
        report.figure(
            "both requests of a turn, median and p99", f"{said['p50'] * 1e3:.0f} ms, {said['p99'] * 1e3:.0f} ms"
        )
        report.figure("points taken in", f"{figures.points_per_second:8.0f} /s")
        report.figure("console, resident", f"{size:8.0f} MiB")
        report.budget("console, cores", share, 1.0, most=True)
    service.stop()


def run(report: Report) -> None:
    lists(report)
    agents(report)


if __name__ == "__main__":
    generator(sys.argv[1], Path(sys.argv[2]), float(sys.argv[3]))
