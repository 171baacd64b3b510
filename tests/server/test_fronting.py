"""The front of a real service: it comes back, says so, and never outlives the console."""

from __future__ import annotations

import os
import signal
import time
from collections.abc import Iterator
from pathlib import Path

import httpx
import psutil
import pytest

from balise.front.frames import Figures
from balise.server.fronting import TOLD_SECONDS, Fronts
from running import Service, until
from sending import gauge_request


@pytest.fixture
def service(tmp_path: Path) -> Iterator[Service]:
    made = Service(tmp_path)
    yield made
    made.stop()


def front_of(service: Service) -> psutil.Process:
    """Its front, once there is one."""
    found = until(lambda: [one for one in psutil.Process(service.pid).children() if "balise.front" in one.cmdline()])
    return found[0]


def deliver(service: Service, value: float) -> None:
    body = gauge_request("pier", "tide", [(time.time(), value)]).SerializeToString()
    headers = {"Authorization": f"Bearer {service.tokens['ingest']}", "Content-Type": "application/x-protobuf"}
    httpx.post(f"{service.url}/v1/metrics", content=body, headers=headers, timeout=60).raise_for_status()


def test_a_front_that_is_killed_comes_back_and_that_is_told(service: Service) -> None:
    deliver(service, 1.0)
    for _ in range(2):
        front = front_of(service)
        front.kill()
        front.wait(20)
        # Whoever calls meanwhile waits, and is not refused.
        deliver(service, 2.0)
    with service.client() as admin:
        assert any("begun anew" in said for said in admin.status().warnings)
    assert service.log().count("it is begun anew") == 2


@pytest.mark.parametrize("sign", [signal.SIGTERM, signal.SIGKILL, signal.SIGINT])
def test_a_front_ends_with_its_console(service: Service, sign: signal.Signals) -> None:
    front = front_of(service)
    os.kill(service.pid, sign)
    assert service._process is not None
    code = service._process.wait(60)
    assert code == (-sign if sign == signal.SIGKILL else 0)
    until(lambda: not front.is_running())


def test_a_front_does_not_end_by_itself(service: Service) -> None:
    """As when a signal goes to all processes of a terminal: the console says when it ends."""
    front = front_of(service)
    for sign in (signal.SIGINT, signal.SIGTERM):
        front.send_signal(sign)
    deliver(service, 1.0)
    assert front.is_running()


def test_what_is_said_of_fronts() -> None:
    fronts, now = Fronts(), time.time()
    for seconds in (0, 5):
        fronts.told(Figures({"turned-out": 3}, 7.0 + seconds / 10, 40 << 20), now=100.0 + seconds)
    assert fronts.warnings(now) == []
    assert (round(fronts.cpu, 6), fronts.memory) == (0.1, 40 << 20)
    fronts.ended()
    assert (fronts.cpu, fronts.memory) == (0.0, 0)
    fronts.told(Figures({"turned-out": 2}, 1.0, 30 << 20), now=110.0)
    assert (fronts.counters["turned-out"], fronts.cpu, fronts.memory) == (5, 0.0, 30 << 20)
    assert fronts.warnings(now + 660)[0].startswith("the process that takes connections ended by itself 1")
    assert fronts.warnings(now + TOLD_SECONDS + 60) == []
