"""Events: taking in with parsing and index, beside rows alone; finding; counting."""

from __future__ import annotations

import json
import sqlite3
import tempfile
import time
from pathlib import Path

import numpy as np

from balise.api.events import SEVERITIES
from balise.core import filters
from balise.core.syslog import parse_line
from balise.store.events.day import NewEvent
from balise.store.events.day_search import Search
from balise.store.events.store import Delivery, EventStore
from report import Report, best

NS = 1_000_000_000
T0 = 20_780 * 86_400 * NS
WORDS = [
    "session",
    "opened",
    "closed",
    "for",
    "user",
    "daemon",
    "connection",
    "from",
    "port",
    "accepted",
    "refused",
    "timeout",
    "while",
    "reading",
    "answer",
    "upstream",
    "worker",
    "free",
    "gate",
    "ticket",
    "barrier",
    "reader",
    "frame",
]


def lines(count: int) -> list[str]:
    rng = np.random.default_rng(8)
    picked = rng.integers(0, len(WORDS), (count, 8))
    numbers = rng.integers(0, 100_000, count)
    hosts = rng.integers(0, 60, count)
    return [
        f"<{30 + i % 8}>1 2026-11-23T{i // 25000 % 24:02d}:{i // 420 % 60:02d}:{i // 7 % 60:02d}Z host-{hosts[i]} gate {numbers[i] % 3000} - - "
        + " ".join(WORDS[w] for w in picked[i])
        + (f" id={numbers[i]}")
        for i in range(count)
    ]


def parsed(text: str, at: int) -> NewEvent:
    line = parse_line(text, year_of=1.8e9)
    return NewEvent(at, line.host, SEVERITIES.index(line.severity), "gate", line.body, json.dumps(line.attributes))


def run(report: Report) -> None:
    count, group = report.size(200_000, 10_000), 2000
    report.title(f"Events: {count} RFC 5424 lines, {group} a commit")
    raw = lines(count)
    step = 86_000 * NS // count
    report.figure(
        "parsing alone", f"{count / best(lambda: [parse_line(t, year_of=1.8e9) for t in raw], 1):9.0f} events/s"
    )
    folder = Path(tempfile.mkdtemp())
    plain = sqlite3.connect(folder / "rows.db")
    plain.execute("PRAGMA journal_mode=WAL")
    plain.execute("PRAGMA synchronous=FULL")
    plain.execute("CREATE TABLE event (id INTEGER PRIMARY KEY, time, host, severity, source, body, attributes)")
    store = EventStore(folder)
    made = [parsed(text, T0 + i * step) for i, text in enumerate(raw)]

    def rows() -> None:
        for at in range(0, count, group):
            batch = [(e.time, e.host, e.severity, e.source, e.body, e.attributes) for e in made[at : at + group]]
            plain.executemany(
                "INSERT INTO event (time, host, severity, source, body, attributes) VALUES (?,?,?,?,?,?)", batch
            )
            plain.commit()

    began = time.perf_counter()
    rows()
    row_rate = count / (time.perf_counter() - began)
    began = time.perf_counter()
    for at in range(0, count, group):
        store.accept_now(Delivery([parsed(text, T0 + (at + i) * step) for i, text in enumerate(raw[at : at + group])]))
    rate = count / (time.perf_counter() - began)
    report.figure("rows alone, no parsing, no index", f"{row_rate:9.0f} events/s")
    report.budget("durable with parsing and index, events/s", rate, 60_000, most=False, form="{:.0f}")
    report.budget("of rows alone, ratio", rate / row_rate, 0.5, most=False)
    day = store._day(T0 // (86_400 * NS))
    day._writing.exec_driver_sql("PRAGMA wal_checkpoint(TRUNCATE)")
    report.figure("rows alone, bytes an event", f"{(folder / 'rows.db').stat().st_size / count:9.0f}")
    report.budget("bytes an event, with phrases", store.size() / count, 160, most=True, form="{:.0f}")
    whole = Search(T0, T0 + 86_400 * NS)

    def search(text: str = "", where: str | None = None) -> Search:
        return Search(whole.start, whole.end, text, filters.parse(where) if where else None)

    rare = made[count // 2].body.split("=")[1]
    for name, budget, question in (
        ("a rare term, ms", 10, lambda: store.find(search(rare), 100)),
        ("a common term, newest 100, ms", 10, lambda: store.find(search("ticket"), 100)),
        ("a phrase on one host, ms", 10, lambda: store.find(search('"user daemon"', 'host eq "host-7"'), 100)),
        ("newest 100, ms", 10, lambda: store.find(search(), 100)),
        ("histogram of a day, ms", 10, lambda: store.histogram(whole, T0, 900 * NS, 96)),
        (
            "histogram of a day, one host, ms",
            10,
            lambda: store.histogram(search("", 'host eq "host-7"'), T0, 900 * NS, 96),
        ),
    ):
        question()
        report.budget(name, best(question, 5) * 1e3, budget, most=True)
    store.close()
