"""A crowd: thousands of hosts that come at once and then deliver again and again, with evidence, reports, rules, events
and questions, on the same machine as the console."""

from __future__ import annotations

import asyncio
import json
import struct
import subprocess
import sys
import tempfile
import time
from itertools import chain, cycle
from pathlib import Path
from typing import Any

import httpx
import psutil
from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceRequest

from balise.api.access import NewEnrolmentKey, NewToken, Scope
from balise.api.agents import EnrolRequest
from balise.api.hosts import Facts
from balise.api.rules import RuleBody
from balise.api.secrets import REVEALED, Secret
from enrolling import INTERVAL, Line, agent_bodies
from processes import resident, used
from report import Report
from running import Service
from sending import log_request
from worlds import eyes
from worlds.body import KINDS, POINTS, body

HOSTS, RULES = 5000, 40
LINES, ENROLLING = 128, 20
"""Connections of those that deliver, and of those that enrol."""
JSON = {"Content-Type": "application/json"}
EVENTS_A_SECOND, REFUSED = 200, 503


def name(number: int) -> str:
    return f"host-{number:05d}"


class Patched:
    """A body in which all moments are one, and are set anew each time it is sent."""

    def __init__(self, content: bytes, moment: int) -> None:
        self._content, self._old = content, struct.pack("<Q", moment)

    def at(self, moment: int) -> bytes:
        return self._content.replace(self._old, struct.pack("<Q", moment))


def _evidence(host: str) -> Patched:
    """What an agent says beside its metrics: who was busy, and how it does."""
    request = ExportLogsServiceRequest.FromString(agent_bodies(host)[1])
    moment = time.time_ns()
    for group in request.resource_logs:
        for scope in group.scope_logs:
            for record in scope.log_records:
                record.time_unix_nano = record.observed_time_unix_nano = moment
    return Patched(request.SerializeToString(), moment)


class Crowd:
    """The agents, as one process that plays them all; `token` is of another sender, who sends lines."""

    def __init__(self, url: str, key: str, token: str, hosts: int, interval: float) -> None:
        self._url, self._key, self._token, self._interval = url, key, token, interval
        moment = time.time_ns()
        self._metrics = [Patched(body(name(n), moment), moment) for n in range(hosts)]
        self._logs = _evidence(name(0))
        self._tokens = [""] * hosts
        self.failed = 0
        self.took: list[float] = []

    async def enrol(self) -> float:
        """Seconds until all are enrolled, some at a time."""
        began = time.monotonic()
        async with httpx.AsyncClient(base_url=self._url, timeout=60) as http:
            await asyncio.gather(*(self._enrolled(http, n) for n in range(ENROLLING)))
        return time.monotonic() - began

    async def _enrolled(self, http: httpx.AsyncClient, first: int) -> None:
        for number in range(first, len(self._tokens), ENROLLING):
            facts = Facts(host_name=name(number), machine_id=f"m-{number}")
            asked = EnrolRequest(key=Secret(self._key), facts=facts).model_dump_json(context=REVEALED)
            answer = await http.post("/api/v1/agents/enrol", content=asked, headers=JSON)
            self._tokens[number] = answer.raise_for_status().json()["token"]

    async def arrive(self) -> float:
        """Seconds until the first bodies of all are taken."""
        began = time.monotonic()
        await asyncio.gather(*(self._first(n) for n in range(LINES)))
        return time.monotonic() - began

    async def _first(self, number: int) -> None:
        line = Line(self._url)
        for own in range(number, len(self._metrics), LINES):
            await self._sent(line, "metrics", self._metrics[own].at(time.time_ns()), self._tokens[own])

    async def _sent(self, line: Line, kind: str, content: bytes, token: str) -> None:
        began = time.monotonic()
        while not await line.post(kind, token, content, packed=False):
            self.failed += 1
            await asyncio.sleep(0.5)
        self.took.append(time.monotonic() - began)

    async def deliver(self, seconds: float) -> None:
        """All of them, spread over the interval."""
        self.took, self.failed = [], 0
        start = time.monotonic()
        numbered = list(range(len(self._metrics)))
        await asyncio.gather(
            *(self._turns(numbered[n::LINES], start, seconds) for n in range(LINES)), self._say(start, seconds)
        )

    async def _turns(self, mine: list[int], start: float, seconds: float) -> None:
        line, turn = Line(self._url), 0
        while mine:
            for number in mine:
                due = start + self._interval * (turn + number / len(self._metrics))
                if due > start + seconds:
                    return
                await asyncio.sleep(max(0.0, due - time.monotonic()))
                now = time.time_ns()
                await self._sent(line, "metrics", self._metrics[number].at(now), self._tokens[number])
                await self._sent(line, "logs", self._logs.at(now), self._tokens[number])
            turn += 1

    async def _say(self, start: float, seconds: float) -> None:
        """Lines of logs, a tenth of a second's at a time."""
        line, count = Line(self._url), 0
        while time.monotonic() < start + seconds:
            now = time.time()
            lines = [
                (now, 9, f"request {count + i} for berth {i} took {i * 3} ms") for i in range(EVENTS_A_SECOND // 10)
            ]
            count += len(lines)
            request = log_request(name(count % len(self._metrics)), lines)
            await self._sent(line, "logs", request.SerializeToString(), self._token)
            await asyncio.sleep(max(0.0, start + count / EVENTS_A_SECOND - time.monotonic()))


async def _play(url: str, key: str, token: str, hosts: int, interval: float, seconds: float) -> dict[str, Any]:
    crowd = Crowd(url, key, token, hosts, interval)
    print(json.dumps({"enrolling": await crowd.enrol()}), flush=True)
    arriving = await crowd.arrive()
    first = sorted(crowd.took)
    found = {"arriving": arriving, "first": _p(first, 0.99), "refused": crowd.failed}
    print(json.dumps(found), flush=True)
    await crowd.deliver(seconds)
    took = sorted(crowd.took)
    return {"sent": len(took), "p50": _p(took, 0.5), "p99": _p(took, 0.99), "failed": crowd.failed}


def _p(took: list[float], share: float) -> float:
    return took[min(len(took) - 1, int(len(took) * share))]


ASKED: dict[str, tuple[str, str, dict[str, Any] | None]] = {
    "fleet": ("GET", "/hosts?limit=100", None),
    "alerts": ("GET", "/alerts?state=open", None),
    "a host": ("GET", "/hosts/host-00007", None),
    "top 10 of all": (
        "POST",
        "/metrics/query",
        {"metric": "system.bench.metric_number_01", "from": "-5m", "take": "max", "top": 10},
    ),
    "a host's metric": (
        "POST",
        "/metrics/query",
        {"metric": "system.bench.metric_number_02", "from": "-15m", "where": 'host eq "host-00007"'},
    ),
    "incidents": ("GET", "/incidents", None),
}
"""What people ask meanwhile: the fleet's table, what is wrong, one host, one metric over all."""


def _questions(service: Service, seconds: float) -> tuple[dict[str, list[float]], int]:
    """How long each took, seconds ascending; and how many were refused because memory was short."""
    refused = 0
    took: dict[str, list[float]] = {name: [] for name in ASKED}
    end = time.monotonic() + seconds
    headers = {"Authorization": f"Bearer {service.tokens['administrator']}"}
    with httpx.Client(base_url=service.url + "/api/v1", headers=headers, timeout=60) as http:
        for name in cycle(ASKED):
            if time.monotonic() > end:
                break
            method, path, content = ASKED[name]
            began = time.monotonic()
            answer = http.request(method, path, json=content)
            if answer.status_code == REFUSED:
                refused += 1
            else:
                answer.raise_for_status()
                took[name].append(time.monotonic() - began)
            time.sleep(max(0.0, began + 0.5 - time.monotonic()))
    return {name: sorted(times) for name, times in took.items()}, refused


def _rules(service: Service) -> None:
    with service.client() as admin:
        for n in range(RULES):
            admin.rules.apply(f"bench-{n}", rule(n))


def rule(number: int) -> RuleBody:
    """A rule over all hosts that nothing breaches; each kind comes as often as others, and limits more often."""
    metric, other = (f"system.bench.metric_number_{n % KINDS:02d}" for n in (number, number + 1))
    limit = {"above": 1e9, "hold": "30s"}
    measure, limits = (
        ({"metric": metric, "take": "max"}, limit),
        ({"metric": metric, "take": "avg"}, {"unusual": 50}),
        ({"metric": metric, "take": "rate"}, limit),
        ({"metric": metric, "take": "avg"}, {"runs_out_within": "4h", "at": 1e9}),
        ({"metric": metric, "take": "p95", "each": ["host", "cpu.mode"]}, {"outside": [-1e9, 1e9]}),
        ({"metric": metric, "take": "last"}, {"missing_for": "10m"}),
        ({"values": {"a": {"metric": metric, "take": "avg"}, "b": {"metric": other, "take": "sum"}},
          "compute": "100 * a / b"}, limit),
        ({"events": f'body co "berth {number}"'}, limit),
        ({"events": 'source eq "nobody"', "each": ["user.name"]}, {"first_seen": True}),
        ({"alerts": 'rule sw "nothing"'}, {"above": 3}),
    )[number % 10]  # fmt: skip
    return RuleBody.model_validate({"about": "of the bench", "measure": measure, "limits": {"critical": limits}})


def measured(report: Report, most: int = HOSTS, interval: float = INTERVAL, plan: str = "") -> None:
    """Prints what such a fleet costs the console, with a plan for it if need be."""
    hosts, settle, seconds = report.size(most, 20), report.size(3 * interval, 2.0), report.size(60.0, 4.0)
    report.title(
        f"A crowd of {hosts:,} hosts × {POINTS} points each {interval:.0f} s, with evidence, {RULES} rules and events"
    )
    with tempfile.TemporaryDirectory(prefix="balise-crowd-") as folder:
        service = Service(Path(folder))
        try:
            _rules(service)
            with service.client() as admin:
                if plan:
                    admin.plans.apply("crowd", plan)
                token = admin.tokens.create(
                    NewToken(name="lines", role="ingest", scope=Scope(new_hosts=10, collected=True))
                ).token
                key = admin.keys.create(NewEnrolmentKey(label="crowd", uses=hosts, group="Crowd")).key
            words = [sys.executable, "-m", "worlds.crowd", service.url, key, token, str(hosts), str(interval)]
            words.append(str(settle + seconds + report.size(eyes.SECONDS, 20) + 5))
            with subprocess.Popen(words, stdout=subprocess.PIPE, text=True) as load:
                assert load.stdout
                enrolling = json.loads(load.stdout.readline())["enrolling"]
                report.figure("agents enrolled a second", f"{hosts / enrolling:8.0f}")
                process = psutil.Process(service.pid)
                arrived = json.loads(load.stdout.readline())
                report.budget(
                    "hosts a second that come for the first time", hosts / arrived["arriving"], 500, most=False
                )
                report.figure("a first body, p99", f"{arrived['first']:8.2f} s, refused {arrived['refused']}")
                time.sleep(settle)
                both = (process, psutil.Process(load.pid))
                before, began = [used(one) for one in both], time.monotonic()
                asked, declined = _questions(service, seconds)
                after, span = [used(one) for one in both], time.monotonic() - began
                eyes.breaches(report, service)
                eyes.pages(report, service)
                said = json.loads(load.stdout.readline())
            cores, loading = ((then - now) / span for now, then in zip(before, after, strict=True))
            report.budget("console, cores", cores, 1.0, most=True)
            report.figure("who plays the agents, cores", f"{loading:8.2f}")
            report.budget("console, resident MiB", resident(process) / 2**20, 2048, most=True)
            report.budget("a delivery, p99 ms", said["p99"] * 1e3, 500, most=True)
            report.figure(
                "a delivery, median", f"{said['p50'] * 1e3:8.1f} ms; {said['sent']:,} sent, refused {said['failed']}"
            )
            every = sorted(chain.from_iterable(asked.values()))
            report.budget("a question of the API, p99 ms", _p(every, 0.99) * 1e3, 500, most=True)
            report.figure("a question, median", f"{_p(every, 0.5) * 1e3:8.1f} ms")
            report.figure("questions refused", f"{declined:8d}")
            each = [f"{name} {_p(took, 0.5) * 1e3:.0f}" for name, took in asked.items() if took]
            report.figure("medians, ms", ", ".join(each))
            service.stop()
            began = time.monotonic()
            service.start()
            report.budget("seconds until it answers after a restart", time.monotonic() - began, 30, most=True)
        finally:
            service.stop()


if __name__ == "__main__":
    url, key, token, hosts, interval, seconds = sys.argv[1:]
    print(json.dumps(asyncio.run(_play(url, key, token, int(hosts), float(interval), float(seconds)))))
