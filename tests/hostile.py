"""Bounded hostile load, in a process of its own: whatever the outside check tried, some of it every second.

`python hostile.py URL SECONDS`, with a viewer's and an ingest token in VIEWER and INGEST.
"""

from __future__ import annotations

import asyncio
import contextlib
import gzip
import json
import os
import random
import sys
import time
from collections import Counter
from collections.abc import Awaitable, Callable
from urllib.parse import urlsplit

import httpx

PROTOBUF, JSON = "application/x-protobuf", "application/json"
BOMB = gzip.compress(bytes(60 << 20), 9)
NESTED = gzip.compress(b'{"resourceMetrics": [' + b"[" * (8 << 20), 9)
Step = Callable[[], Awaitable[str]]


class Hostile:
    """Every kind of attack as a coroutine that answers what became of it."""

    def __init__(self, url: str, viewer: str, ingest: str) -> None:
        parts = urlsplit(url)
        self._place = (parts.hostname or "127.0.0.1", parts.port or 80)
        self._viewer = {"Authorization": f"Bearer {viewer}"}
        self._ingest = {"Authorization": f"Bearer {ingest}"}
        limits = httpx.Limits(max_connections=200)
        self._http = httpx.AsyncClient(base_url=url, timeout=60, limits=limits, verify=False)
        self._chance = random.Random(11)

    async def half_head(self) -> str:
        return await self._raw(b"POST /v1/metrics HTTP/1.1\r\nHost: x\r\nX-Half", 12)

    async def endless_head(self) -> str:
        return await self._raw(b"GET / HTTP/1.1\r\n" + b"".join(b"X-%d: y\r\n" % n for n in range(9000)), 5)

    async def slow_body(self) -> str:
        return await self._raw(b"POST /v1/metrics HTTP/1.1\r\nHost: x\r\nContent-Length: 900000\r\n\r\nabc", 8)

    async def takes_nothing(self) -> str:
        return await self._raw(b"GET /assets/ HTTP/1.1\r\nHost: x\r\n\r\n" * 20, 5, read=False)

    async def guess(self) -> str:
        body = {"name": f"user{self._chance.randrange(40)}", "password": "guess"}
        return await self._post("/api/v1/session", json=body)

    async def long_question(self) -> str:
        take = self._chance.choice(["p99", "avg", "rate"])
        body = {"metric": "fleet.load.0", "from": "-7000d", "take": take, "by": ["host"]}
        return await self._post("/api/v1/metrics/query", json=body, headers=self._viewer)

    async def rehearsal(self) -> str:
        rule = {"about": "x", "measure": {"metric": "fleet.load.1", "over": "1h"}, "limits": {"warning": {"above": 1}}}
        return await self._post("/api/v1/rules/rehearse", json={"rule": rule, "from": "-365d"}, headers=self._viewer)

    async def bomb_by_nobody(self) -> str:
        headers = {"Authorization": "Bearer nobody", "Content-Type": PROTOBUF, "Content-Encoding": "gzip"}
        return await self._post("/v1/logs", content=BOMB, headers=headers)

    async def bomb(self) -> str:
        kind, body = self._chance.choice([(PROTOBUF, BOMB), (JSON, NESTED)])
        headers = self._ingest | {"Content-Type": kind, "Content-Encoding": "gzip"}
        return await self._post("/v1/metrics", content=body, headers=headers)

    async def noise(self) -> str:
        headers = self._ingest | {"Content-Type": self._chance.choice([PROTOBUF, JSON])}
        path = self._chance.choice(["/v1/metrics", "/v1/logs"])
        return await self._post(path, content=self._chance.randbytes(self._chance.randrange(2000)), headers=headers)

    async def odd_calls(self) -> str:
        path = self._chance.choice(["/api/v1/events/query", "/api/v1/metrics/query", "/api/v1/plans/check"])
        body = {self._chance.choice(["metric", "from", "where", "text"]): self._chance.choice(["(" * 900, 1e308, None])}
        return await self._post(path, content=json.dumps(body), headers=self._viewer | {"Content-Type": JSON})

    async def new_hosts(self) -> str:
        host = {
            "attributes": [{"key": "host.name", "value": {"stringValue": f"ghost-{self._chance.randrange(10**6)}"}}]
        }
        point = {"timeUnixNano": str(time.time_ns()), "asDouble": 1}
        metric = {"name": f"ghost.{self._chance.randrange(50)}", "gauge": {"dataPoints": [point]}}
        body = {"resourceMetrics": [{"resource": host, "scopeMetrics": [{"metrics": [metric]}]}]}
        return await self._post("/v1/metrics", json=body, headers=self._ingest)

    async def _post(self, path: str, **how: object) -> str:
        answer = await self._http.post(path, **how)  # type: ignore[arg-type]
        return str(answer.status_code)

    async def _raw(self, sent: bytes, hold: float, *, read: bool = True) -> str:
        reader, writer = await asyncio.open_connection(*self._place)
        try:
            writer.write(sent)
            if not read:
                await asyncio.sleep(hold)
                return "held"
            with contextlib.suppress(TimeoutError):
                got = await asyncio.wait_for(reader.read(64), hold)
                return got[9:12].decode("latin-1") or "closed"
            return "held"
        finally:
            writer.close()


RATES = {
    "half_head": 20.0, "endless_head": 1.0, "slow_body": 3.0, "takes_nothing": 1.0, "guess": 3.0, "long_question": 2.0,
    "rehearsal": 0.5, "bomb_by_nobody": 2.0, "bomb": 0.3, "noise": 5.0, "odd_calls": 5.0, "new_hosts": 2.0,
}  # fmt: skip
"""How often a second each is tried."""


async def load(url: str, seconds: float) -> Counter[str]:
    """What became of everything that was tried."""
    hostile = Hostile(url, os.environ["VIEWER"], os.environ["INGEST"])
    said: Counter[str] = Counter()
    end = time.monotonic() + seconds
    tasks: set[asyncio.Task[None]] = set()

    async def once(name: str, step: Step) -> None:
        try:
            said[f"{name} {await step()}"] += 1
        except (OSError, httpx.HTTPError) as error:
            said[f"{name} {type(error).__name__}"] += 1

    async def keep_on(name: str, rate: float) -> None:
        while time.monotonic() < end:
            if len(tasks) < 600:
                task = asyncio.create_task(once(name, getattr(hostile, name)))
                tasks.add(task)
                task.add_done_callback(tasks.discard)
            await asyncio.sleep(1 / rate)

    await asyncio.gather(*(keep_on(name, rate) for name, rate in RATES.items()))
    await asyncio.gather(*tasks)
    return said


if __name__ == "__main__":
    print(json.dumps(asyncio.run(load(sys.argv[1], float(sys.argv[2])))))
