"""Events: taking in over TCP and OTLP beside rows alone; finding and counting in ten million of them."""

from __future__ import annotations

import asyncio
import shutil
import socket
import sqlite3
import sys
import tempfile
import threading
import time
from pathlib import Path

import httpx
import numpy as np

from balise.api.receivers import ReceiverBody
from balise.core import filters
from balise.core.events.new_event import NewEvent
from balise.core.events.syslog_reader import SyslogReader
from balise.core.moments import Nanos
from balise.server.run import SWITCH_SECONDS
from balise.store.events.day_search import Search
from balise.store.events.fields import FieldCounts
from balise.store.events.said import SaidCounts
from balise.store.events.store import Delivery, EventStore
from report import Report, best
from running import Service, free_port, until
from sending import log_request

NS = 1_000_000_000
DAY = 86_400 * NS
T0 = 20_780 * DAY
SAID = [
    ("gate", 30, "session {n} opened for user crew{p} by gate-controller(uid={p})"),
    ("gate", 30, "session {n} closed for user crew{p}"),
    ("sshd", 86, "connection from 192.0.2.{p} port {n} accepted"),
    ("sshd", 84, "connection from 192.0.2.{p} port {n} refused: too many"),
    ("gate", 30, "ticket {n} accepted at gate {p} of the ferry in {q} ms"),
    ("gate", 30, "barrier {p} cycle {n} finished in {q} ms"),
    ("gate", 28, "reader {p} needed a second try for ticket {n}"),
    ("postgresql", 134, "checkpoint complete: wrote {n} buffers in {q} ms, sync took {p} ms"),
    ("web", 147, "upstream book-app-n{p} timed out after {q} s while reading the answer to POST /bookings"),
    ("postgresql", 134, "duration: {n}.{q} ms  statement: select seat from seats where sailing = ${p} for update"),
    ("web", 150, "GET /sailings/{n} 200 {q} ms user=crew{p}"),
    ("booking", 158, "worker {p} is free again, {q} wait"),
]
"""Who says it, with which priority, and what."""
GROUP = 2000


def lines(count: int, first: int = 0) -> list[str]:
    """RFC 5424 lines of a fleet of sixty hosts, of which the texts repeat with other values."""
    rng = np.random.default_rng(8 + first)
    picked, hosts = (rng.integers(0, top, count) for top in (len(SAID), 60))
    n, p, q = (rng.integers(0, top, count) for top in (100_000, 40, 900))
    found = []
    for i in range(count):
        app, priority, text = SAID[picked[i]]
        moment = f"2026-11-23T{i // 25000 % 24:02d}:{i // 420 % 60:02d}:{i // 7 % 60:02d}Z"
        said = text.format(n=n[i], p=p[i], q=q[i])
        found.append(f"<{priority}>1 {moment} host-{hosts[i]} {app} {400 + int(p[i])} - - {said}")
    return found


READER = SyslogReader()


def parsed(text: str, at: int) -> NewEvent:
    return READER.read(text, Nanos(T0 + DAY))._replace(time=Nanos(at))


def rows_alone(folder: Path, made: list[NewEvent]) -> float:
    """Events a second of a plain table, without parsing or an index."""
    plain = sqlite3.connect(folder / "rows.db")
    plain.execute("PRAGMA journal_mode=WAL")
    plain.execute("PRAGMA synchronous=FULL")
    plain.execute("CREATE TABLE event (id INTEGER PRIMARY KEY, time, host, severity, source, body, attributes)")
    began = time.perf_counter()
    for at in range(0, len(made), GROUP):
        plain.executemany(
            "INSERT INTO event (time, host, severity, source, body, attributes) VALUES (?,?,?,?,?,?)",
            made[at : at + GROUP],
        )
        plain.commit()
    rate = len(made) / (time.perf_counter() - began)
    plain.close()
    return rate


def intake(report: Report, folder: Path) -> None:
    count = report.size(300_000, 10_000)
    report.title(f"Events: {count} RFC 5424 lines, {GROUP} a commit")
    raw = lines(count)
    parsing = count / best(lambda: [READER.read(text, Nanos(T0 + DAY)) for text in raw], 1)
    report.figure("parsing alone", f"{parsing:9.0f} events/s")
    step = 86_000 * NS // count
    made = [parsed(text, T0 + i * step) for i, text in enumerate(raw)]
    rows = rows_alone(folder, made)
    report.figure("rows alone, no parsing, no index", f"{rows:9.0f} events/s")
    store = EventStore(folder / "store")
    began = time.perf_counter()
    asyncio.run(_taken_in(store, raw, step))
    acknowledged = count / (time.perf_counter() - began)
    store.find(Search(Nanos(T0), Nanos(T0 + DAY), "nothing"), 1)
    indexed = count / (time.perf_counter() - began)
    after = 1 / (1 / parsing + 1 / rows)
    report.budget("durable with parsing, patterns and index, events/s", indexed, 60_000, most=False, form="{:.0f}")
    report.figure("acknowledged, the index on its way", f"{acknowledged:9.0f} events/s")
    report.budget("of parsing and rows one after the other, ratio", indexed / after, 0.6, most=False)
    store.close()
    size = sum(path.stat().st_size for path in (folder / "store" / "events").glob("2*.db"))
    report.figure("rows alone, bytes an event", f"{(folder / 'rows.db').stat().st_size / count:9.0f}")
    report.budget("bytes an event, with words, phrases and attributes", size / count, 160, most=True, form="{:.0f}")


async def _taken_in(store: EventStore, raw: list[str], step: int) -> None:
    """As a receiver does it: two groups on their way while the next is read."""
    waiting: list[asyncio.Future[None]] = []
    for at in range(0, len(raw), GROUP):
        events = [parsed(text, T0 + (at + i) * step) for i, text in enumerate(raw[at : at + GROUP])]
        waiting.append(store.accept(Delivery(events)))
        if len(waiting) > 2:
            await waiting.pop(0)
        await asyncio.sleep(0)
    await asyncio.gather(*waiting)


def _as_of(moment: str, line: str) -> bytes:
    head, _, rest = line.split(" ", 2)
    return f"{head} {moment} {rest}\n".encode()


def over_the_wire(report: Report, folder: Path) -> None:
    count, senders = report.size(240_000, 4_000), 8
    report.title(f"Events over the wire: {count} to a real service, {senders} senders")
    (folder / "service").mkdir()
    service = Service(folder / "service")
    with service.client() as admin:
        port = free_port()
        admin.receivers.set("bench", ReceiverBody(transport="tcp", listen=f"127.0.0.1:{port}"))
        now = time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime())
        shares = [b"".join(_as_of(now, line) for line in lines(count // senders, sender)) for sender in range(senders)]

        def send(sender: int) -> None:
            with socket.create_connection(("127.0.0.1", port), source_address=(f"127.0.0.{10 + sender}", 0)) as link:
                link.sendall(shares[sender])

        began = time.perf_counter()
        threads = [threading.Thread(target=send, args=(sender,)) for sender in range(senders)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        until(lambda: admin.receivers.get("bench").received >= count, 120)
        report.figure("RFC 5424 over TCP, until durable", f"{count / (time.perf_counter() - began):9.0f} events/s")
        records = report.size(50_000, 1_000)
        bodies = [
            log_request(
                "bench", [(time.time(), 9, line.partition(" - - ")[2]) for line in lines(500, n)]
            ).SerializeToString()
            for n in range(records // 500)
        ]

        def deliver(sender: int) -> None:
            headers = {"Authorization": f"Bearer {service.tokens['ingest']}", "Content-Type": "application/x-protobuf"}
            with httpx.Client(base_url=service.url, headers=headers, timeout=60) as client:
                for body in bodies[sender::senders]:
                    assert client.post("/v1/logs", content=body).status_code == 200

        began = time.perf_counter()
        threads = [threading.Thread(target=deliver, args=(sender,)) for sender in range(senders)]
        for thread in threads:
            thread.start()
        for thread in threads:
            thread.join()
        rate = records / (time.perf_counter() - began)
        report.figure("OTLP records, 500 a request, until durable", f"{rate:9.0f} events/s")
    service.stop()


def finding(report: Report, folder: Path) -> None:
    count, days = report.size(10_000_000, 20_000), 5
    report.title(f"Finding among {count} events in {days} day files")
    store = EventStore(folder / "large", keep_days=400)
    part = count // days
    template = [parsed(text, 0) for text in lines(min(part, 200_000))]
    for day in range(days):
        step = 86_000 * NS // part
        for at in range(0, part, 20_000):
            events = [
                template[(at + i) % len(template)]._replace(time=Nanos(T0 + day * DAY + (at + i) * step))
                for i in range(min(20_000, part - at))
            ]
            if at == 0:
                events[7] = events[7]._replace(body="the keel of the moonraker was seen once")
            store.accept_now(Delivery(events))
    whole = (Nanos(T0), Nanos(T0 + days * DAY))
    last = (Nanos(T0 + (days - 1) * DAY), Nanos(T0 + days * DAY))

    def search(text: str = "", where: str | None = None, span: tuple[Nanos, Nanos] = whole) -> Search:
        return Search(*span, text, filters.parse(where) if where else None)

    search_seconds = time.perf_counter()
    store.find(search("moonraker"), 100)
    report.figure("the first question, words taken up", f"{time.perf_counter() - search_seconds:9.1f} s")
    file = sqlite3.connect(folder / "large" / "events" / "2026-11-27.db")
    like = best(lambda: file.execute("SELECT count(*) FROM event WHERE body LIKE '%moonraker%'").fetchone(), 2)
    report.figure("a LIKE scan of one of the days, ms", f"{like * 1e3:9.1f}")
    for name, budget, question in (
        ("a rare term, ms", 10, lambda: store.find(search("moonraker"), 100)),
        ("a common term, newest 100, ms", 10, lambda: store.find(search("ticket"), 100)),
        ("a phrase on one host, ms", 10, lambda: store.find(search('"second try"', 'host eq "host-7"'), 100)),
        ("newest 100, ms", 10, lambda: store.find(search(), 100)),
        ("errors and worse, newest 100, ms", 10, lambda: store.find(search("", 'severity ge "error"'), 100)),
        ("histogram of a day, ms", 10, lambda: store.histogram(search(span=last), last[0], 900 * NS, 96)),
        ("histogram of five days, ms", 50, lambda: store.histogram(search(), T0, 3600 * NS, 24 * days)),
        ("patterns of a day, ms", 100, lambda: SaidCounts(store).of(search(span=last))),
    ):
        question()
        report.budget(name, best(question, 5) * 1e3, budget, most=True)
    told = best(lambda: FieldCounts(store).of(search("", 'host eq "host-7"', last), ["syslog.procid", "source"]), 2)
    report.figure("fields of one host in a day, ms", f"{told * 1e3:9.1f}")
    told = best(lambda: FieldCounts(store).of(search(span=last), ["syslog.procid", "source"]), 1)
    report.figure("fields of a day, ms", f"{told * 1e3:9.1f}")
    report.figure("fields of a day, of a LIKE scan of it", f"{told / like:9.1f}")
    file.close()
    store.close()


def run(report: Report) -> None:
    # As the service does.
    sys.setswitchinterval(SWITCH_SECONDS)
    folder = Path(tempfile.mkdtemp())
    try:
        intake(report, folder)
        over_the_wire(report, folder)
        finding(report, folder)
    finally:
        shutil.rmtree(folder, ignore_errors=True)
