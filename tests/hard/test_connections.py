"""Thousands of connections by nobody hold nobody up."""

from __future__ import annotations

import socket
import time
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
