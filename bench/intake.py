"""Receiving metrics: decoding, the inbox, and the whole durable path over HTTP beside an endpoint that does nothing."""

from __future__ import annotations

import asyncio
import gzip
import sqlite3
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest

from balise.core.series.forms import groups_of
from balise.server.people.access import Access
from balise.server.people.tokens import TokenBook
from balise.server.receive.form_book import FormBook
from balise.store.series.store import SeriesStore
from balise.store.state.store import StateStore
from report import Report, best
from running import BALISE, free_port, until

POINTS = 200
NULL = """
async def app(scope, receive, send):
    if scope["type"] != "http":
        return
    while (await receive()).get("more_body"):
        pass
    await send({"type": "http.response.start", "status": 200, "headers": [(b"content-length", b"0")]})
    await send({"type": "http.response.body", "body": b""})
"""


def body(host: str = "bench-1", at: int = 0) -> bytes:
    """One host, 40 metrics with 5 attribute sets: 200 points."""
    request = ExportMetricsServiceRequest()
    group = request.resource_metrics.add()
    group.resource.attributes.add(key="host.name").value.string_value = host
    scope = group.scope_metrics.add()
    rng = np.random.default_rng(1)
    for i in range(40):
        metric = scope.metrics.add(
            name=f"system.bench.metric_number_{i:02d}", unit="1", description="a metric of the bench"
        )
        for mode in ("user", "system", "idle", "iowait", "steal"):
            point = metric.gauge.data_points.add(time_unix_nano=at or time.time_ns(), as_double=float(rng.random()))
            point.attributes.add(key="cpu.mode").value.string_value = mode
            point.attributes.add(key="cpu.logical_number").value.string_value = str(i)
    return request.SerializeToString()


def naive(content: bytes, ids: dict[object, int]) -> int:
    """The obvious way: parse, and look every series up by all its names."""
    request = ExportMetricsServiceRequest.FromString(content)
    count = 0
    for resource in request.resource_metrics:
        held = tuple((a.key, a.value.string_value) for a in resource.resource.attributes)
        for scope in resource.scope_metrics:
            for metric in scope.metrics:
                for point in metric.gauge.data_points:
                    key = (held, metric.name, tuple(sorted((a.key, a.value.string_value) for a in point.attributes)))
                    ids.setdefault(key, len(ids))
                    count += point.time_unix_nano > 0 and point.as_double >= 0
    return count


def decoding(report: Report) -> None:
    report.title("Receiving: decoding one body of 200 points")
    content = body()
    ids: dict[object, int] = {}
    [group] = groups_of(content)
    rest = content[group.start : group.end]
    learn = best(lambda: FormBook(capacity=1 << 26).of("x", rest), 20)
    book = FormBook(capacity=1 << 26)
    form = book.of("x", rest)

    def known() -> None:
        for _ in range(200):
            assert form.shape.digest(rest) == form.digest
            form.shape.gather(rest)

    slow = best(lambda: naive(content, ids), 20)
    quick = best(known) / 200
    report.figure("naive walk", f"{POINTS / slow / 1e6:8.2f} M points/s")
    report.figure("a form that is known", f"{POINTS / quick / 1e6:8.2f} M points/s")
    report.figure("learning a new form", f"{learn * 1e3:8.2f} ms")
    report.budget("a known form against the naive walk, ratio", slow / quick, 5, most=False)


def rows(report: Report) -> None:
    report.title("Receiving: writing durably, in process, 32 bodies of 200 points a commit")
    folder = Path(tempfile.mkdtemp())
    plain = sqlite3.connect(folder / "rows.db")
    plain.execute("PRAGMA journal_mode=WAL")
    plain.execute("PRAGMA synchronous=FULL")
    plain.execute(
        "CREATE TABLE point (series INTEGER, time INTEGER, value REAL, PRIMARY KEY (series, time)) WITHOUT ROWID"
    )
    groups = report.size(30, 3)
    values = np.random.default_rng(2).random((32, POINTS))

    def row_per_point() -> None:
        base = time.time_ns()
        for g in range(groups):
            batch = [(b * POINTS + i, base + g, v) for b in range(32) for i, v in enumerate(values[b].tolist())]
            plain.executemany("INSERT INTO point VALUES (?, ?, ?)", batch)
            plain.commit()

    store = SeriesStore(folder / "store")
    metric = store.catalogue.metric("m", "1", "gauge", "")
    layouts = []
    for b in range(32):
        ids = np.array([store.catalogue.series_id(b, metric, (("i", str(i)),), "", "gauge") for i in range(POINTS)])
        layouts.append(store.catalogue.layouts.of(ids))

    def inbox() -> None:
        async def run() -> None:
            for g in range(groups):
                at = np.array([time.time_ns() + g])
                await asyncio.gather(*(store.accept(store.batch(layouts[b], at, values[b])) for b in range(32)))

        asyncio.run(run())

    row_time, inbox_time = best(row_per_point, 3), best(inbox, 3)
    count = groups * 32 * POINTS
    report.figure("a row per point", f"{count / row_time / 1e6:8.2f} M points/s")
    report.figure("inbox with recent points", f"{count / inbox_time / 1e6:8.2f} M points/s")
    report.budget("inbox against a row per point, ratio", row_time / inbox_time, 5, most=False)
    store.close()


async def load(port: int, token: str, seconds: float, connections: int, zipped: bool) -> tuple[float, list[float]]:
    """Requests a second, and the seconds each took."""
    took: list[float] = []
    marker = 1_700_000_000_000_000_000
    old = marker.to_bytes(8, "little")

    async def one(template: bytes, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        while time.perf_counter() < end:
            content = template.replace(old, time.time_ns().to_bytes(8, "little"))
            if zipped:
                content = gzip.compress(content, 1)
            head = (
                "POST /v1/metrics HTTP/1.1\r\nHost: x\r\nContent-Type: application/x-protobuf\r\n"
                f"Authorization: Bearer {token}\r\n{'Content-Encoding: gzip' if zipped else 'X-Plain: 1'}\r\n"
                f"Content-Length: {len(content)}\r\n\r\n"
            )
            began = time.perf_counter()
            writer.write(head.encode() + content)
            status = await reader.readuntil(b"\r\n\r\n")
            took.append(time.perf_counter() - began)
            assert b" 200 " in status[:16], status
        writer.close()

    templates = [body(f"bench-{number}", marker) for number in range(connections)]
    opened = [await asyncio.open_connection("127.0.0.1", port) for _ in range(connections)]
    began = time.perf_counter()
    end = began + seconds
    await asyncio.gather(*(one(template, *both) for template, both in zip(templates, opened, strict=True)))
    return len(took) / (time.perf_counter() - began), took


def over_http(report: Report) -> None:
    report.title("Receiving over HTTP, loopback: server and load generator share the machine's two cores")
    folder = Path(tempfile.mkdtemp())
    (folder / "null_app.py").write_text(NULL)
    null_port, port = free_port(), free_port()
    seconds = report.size(2.0, 0.3)
    data = folder / "data"
    state = StateStore(data)
    token = TokenBook(state=state, access=Access(state)).make("bench", "ingest", by="bench")[1]
    state.close()
    words = [
        "-m",
        "uvicorn",
        "null_app:app",
        "--port",
        str(null_port),
        "--log-level",
        "error",
        "--app-dir",
        str(folder),
    ]
    with (
        subprocess.Popen([sys.executable, *words]) as null,
        subprocess.Popen(
            [BALISE, "serve", "--data", str(data), "--listen", f"127.0.0.1:{port}"], stderr=subprocess.DEVNULL
        ) as service,
    ):
        try:
            for p in (null_port, port):
                until(lambda p=p: _open(p), 30)  # type: ignore[misc]
            asyncio.run(load(port, token, 1.0, 8, False))
            shares: dict[bool, list[float]] = {False: [], True: []}
            late: list[float] = []
            for zipped in (False, True):
                for _ in range(report.size(3, 1)):
                    nothing, _ = asyncio.run(load(null_port, token, seconds, 32, zipped))
                    whole, took = asyncio.run(load(port, token, seconds, 32, zipped))
                    shares[zipped].append(whole / nothing)
                    if not zipped:
                        late.append(sorted(took)[int(len(took) * 0.99)])
                    name = "gzip" if zipped else "plain"
                    report.figure(
                        f"{name}: does nothing / durable",
                        f"{nothing * POINTS / 1e6:6.2f} / {whole * POINTS / 1e6:6.2f} M points/s, ratio {whole / nothing:.2f}",
                    )
            report.budget(
                "durable path of the null endpoint, plain", statistics.median(shares[False]), 0.20, most=False
            )
            report.budget("durable path of the null endpoint, gzip", statistics.median(shares[True]), 0.18, most=False)
            report.budget("p99 at 32 connections, ms (best of 3)", min(late) * 1e3, 25, most=True)
        finally:
            null.terminate()
            service.terminate()


def _open(port: int) -> bool:
    import socket

    try:
        socket.create_connection(("127.0.0.1", port), 0.5).close()
    except OSError:
        return False
    return True


def run(report: Report) -> None:
    decoding(report)
    rows(report)
    over_http(report)
