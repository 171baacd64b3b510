"""Thousands of connections by nobody hold nobody up."""

from __future__ import annotations

import socket
import time
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from contextlib import ExitStack, closing

import httpx

from running import Service, until
from sending import send_gauge


def test_thousands_of_half_heads_hold_nobody_up(service: Service) -> None:
    address = ("127.0.0.1", service.port)
    mine = {"Authorization": f"Bearer {service.tokens['viewer']}"}
    slowest = 0.0
    with ExitStack() as held, httpx.Client(base_url=service.url, timeout=10) as page:
        half = []
        for number in range(4_100):
            one = held.enter_context(closing(socket.create_connection(address, 10)))
            one.sendall(b"GET /api/v1/status HTTP/1.1\r\nHost: x\r\nX-Half")
            half.append(one)
            if number % 200 == 0:
                began = time.perf_counter()
                assert httpx.get(f"{service.url}/api/v1/status", timeout=10).status_code == 200
                assert page.get("/api/v1/hosts", headers=mine).status_code == 200
                send_gauge(service.url, service.tokens["ingest"], "quay", "held", float(number))
                slowest = max(slowest, time.perf_counter() - began)
        assert slowest < 2
        # Those who came first gave way; the last ones end by their deadline.
        until(lambda: all(_ended(one) for one in half), 20)


def _ended(one: socket.socket) -> bool:
    one.setblocking(False)
    try:
        return one.recv(1024, socket.MSG_PEEK) is not None
    except BlockingIOError:
        return False
    except OSError:
        return True


def test_tries_that_hang_hold_nobody_up(service: Service) -> None:
    """Probes of a place that takes connections and never says anything."""
    mine = {"Authorization": f"Bearer {service.tokens['operator']}"}
    with (
        closing(socket.create_server(("127.0.0.1", 0), backlog=128)) as silent,
        ThreadPoolExecutor(45) as pool,
        httpx.Client(base_url=service.url, timeout=60, limits=httpx.Limits(max_connections=None)) as client,
    ):
        port = silent.getsockname()[1]
        body = {"kind": "http", "target": f"http://127.0.0.1:{port}/", "time_limit": "3s"}
        tries = [pool.submit(client.post, f"/api/v1/probes/hang-{n}/try", json=body, headers=mine) for n in range(45)]
        slowest = 0.0
        for _ in range(40):
            began = time.perf_counter()
            assert client.get("/api/v1/status").status_code == 200
            slowest = max(slowest, time.perf_counter() - began)
            time.sleep(0.05)
        answers = Counter(one.result().status_code for one in tries)
    assert slowest < 1.5
    # Two at a time are this person's; sixteen more may wait for their turn.
    assert answers[200] >= 2
    assert set(answers) <= {200, 429, 503}
    assert answers[429] >= 20
