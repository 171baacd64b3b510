"""What a host was busy with over a past span: worked out by hand, and from what an agent really sends."""

from __future__ import annotations

import json
import time
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from balise.api.processes import ProcessOf, ProcessSpans
from balise.core import filters
from balise.core.events.new_event import NewEvent
from balise.core.moments import nanos
from balise.core.processes import added_up, busiest
from balise.server.errors import Refused
from balise.server.fleet import requests
from balise.server.parts import Parts
from balise.store.events.day import Snapshot, pack_snapshot
from balise.store.events.day_search import Search
from balise.store.events.store import Delivery
from laying import lay

GIB = 2.0**30


def row(pid: int, name: str, cpu: float, memory: float = GIB, user: str = "app", **more: Any) -> dict[str, Any]:
    return {"pid": pid, "name": name, "user": user, "cpu": cpu, "memory": memory, **more}


LOOKS = [
    (60.0, [row(1, "java", 1.0), row(2, "java", 0.5, 2 * GIB), row(9, "vi", 0.1, user="ops")]),
    (120.0, [row(1, "java", 2.0, started=30.0, parent=7, command="java -jar x", io=100.0), row(2, "java", 0.5)]),
    # An hour without a look: what was in it is not known.
    (3720.0, [row(1, "java", 0.0, 0, ended=3719.0), row(2, "java", 1.0, 3 * GIB, io=10.0)]),
]


def test_processes_are_added_up_look_by_look() -> None:
    added = added_up(LOOKS, "process")
    one, two, vi = (next(a for a in added.items if a.pid == pid) for pid in (1, 2, 9))
    assert (added.looks, added.seconds) == (3, 180.0)
    assert (one.cpu_seconds, one.cpu_peak, one.memory_peak, one.io, one.looks) == (60 + 120, 2.0, GIB, 6000.0, 2)
    assert (one.started, one.ended, one.parent, one.command) == (30.0, 3719.0, 7, "java -jar x")
    assert (two.cpu_seconds, two.memory_peak, two.ended, two.looks) == (30 + 30 + 60, 3 * GIB, 0.0, 3)
    assert (vi.cpu_seconds, vi.user) == (6.0, "ops")


def test_programs_and_users_are_added_up_of_all_their_processes() -> None:
    java, vi = busiest(added_up(LOOKS, "program").items, "cpu")
    assert (java.program, java.user, java.cpu_seconds, java.cpu_peak) == ("java", "app", 300.0, 2.5)
    assert (java.pids, java.looks) == ({1, 2}, 3)
    assert java.memory_peak == 3 * GIB and vi.program == "vi"
    app, ops = busiest(added_up(LOOKS, "user").items, "memory")
    assert (app.user, app.cpu_seconds, ops.user) == ("app", 300.0, "ops")


@given(st.lists(st.tuples(st.floats(0, 1e9), st.recursive(
    st.none() | st.floats() | st.text(max_size=5) | st.booleans(),
    lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.sampled_from(["pid", "cpu", "name", "io"]), inner),
)), max_size=8), st.sampled_from(["process", "program", "user"]))  # fmt: skip
def test_whatever_a_host_says_is_added_up(looks: list[tuple[float, Any]], of: ProcessOf) -> None:
    for one in added_up(looks, of).items:
        assert 0 <= one.cpu_seconds < float("inf") and one.memory_peak >= 0


@pytest.fixture
def console(console: Parts) -> Parts:
    console.directory.ensure("db")
    return console


def over(console: Parts, start: float, end: float, **words: Any) -> ProcessSpans:
    return console.process_history.over("db", start, end, **{"by": "cpu", "of": "process", "limit": 20, **words})


def test_a_night_is_looked_at_from_its_beginning_to_its_end(console: Parts) -> None:
    """Of far more looks than are read, those that are read lie over the whole span, and stand for the others."""
    now = time.time() // 60 * 60
    looks = np.arange(now - 8 * 3600, now, 15.0)
    early = looks < now - 6 * 3600
    console.events.accept_now(
        Delivery([], [
            Snapshot(nanos(at), "db", "processes", pack_snapshot([row(1, "import", 0.8) if first else row(2, "web", 0.1)]))
            for at, first in zip(looks.tolist(), early.tolist(), strict=True)
        ])
    )  # fmt: skip
    found = over(console, now - 8 * 3600, now)
    assert [one.program for one in found.items] == ["import", "web"] and 600 <= found.looked <= 720
    assert found.items[0].cpu_seconds == pytest.approx(0.8 * 2 * 3600, rel=0.01)
    assert found.items[1].cpu_seconds == pytest.approx(0.1 * 6 * 3600, rel=0.01)
    assert [one.program for one in over(console, now - 3600, now).items] == ["web"]


def test_programs_are_measured_by_their_series_where_there_are_some(console: Parts) -> None:
    now = time.time() // 60 * 60
    times = np.arange(now - 7200, now, 15.0)
    named = {"process.executable.name": "import", "process.owner": "fares"}
    busy = np.where(times < now - 3600, 0.9, 0.1)
    lay(console, "db", "balise.program.cpu", times, busy, named)
    lay(console, "db", "balise.program.memory", times, np.where(times < now - 3600, 4 * GIB, GIB), named, unit="By")
    looks = [row(1, "import", 0.2, user="fares", command="import --all"), row(5, "cron", 0.01, user="root")]
    console.events.accept_now(Delivery([], [Snapshot(nanos(now - 300), "db", "processes", pack_snapshot(looks))]))
    found = over(console, now - 7200, now, of="program")
    first = found.items[0]
    assert found.measured and (first.program, first.user, first.command) == ("import", "fares", "import --all")
    assert first.cpu_seconds == pytest.approx(3600 * (0.9 + 0.1), rel=1e-6)
    assert (first.cpu_peak, first.memory_peak) == (pytest.approx(0.9), 4 * GIB)
    assert [one.program for one in found.items] == ["import", "cron"]


def test_sessions_of_a_night_are_told_by_who_ran_what(console: Parts) -> None:
    """Looks as an agent keeps them, of a service each, and as one list of all."""
    now = time.time()
    import_ = {"id": "7", "service": "books", "user": "fares", "statement": "update fares set price = 3"}
    waits = {"id": "8", "service": "books", "user": "app", "statement": "select 8", "blocked_by": "7"}
    told: list[tuple[float, Any]] = [
        (now - 900, {"service": "books", "sessions": [import_, waits]}),
        (now - 600, {"service": "books", "sessions": []}),
        (now - 300, [{**import_, "statement": "update fares set price = 4"}]),
    ]
    console.events.accept_now(
        Delivery([], [Snapshot(nanos(at), "db", "sessions", pack_snapshot(content)) for at, content in told])
    )
    found = console.session_history.over("db", now - 1000, now, of="statement", limit=5)
    first, second = found.items
    assert found.looked == 3
    assert (first.statement, first.user, first.service) == ("update fares set price = ?", "fares", "books")
    assert (first.seconds, first.held_seconds) == (pytest.approx(600, abs=3), pytest.approx(300, abs=1))
    assert (second.statement, second.waited_seconds) == ("select ?", pytest.approx(300, abs=1))
    # A look at the whole host that names the service no more says that it has no session at work.
    later: list[tuple[float, Any]] = [(now - 200, [{"id": "1", "service": "gates", "user": "gate"}]), (now - 100, [])]
    console.events.accept_now(
        Delivery([], [Snapshot(nanos(at), "db", "sessions", pack_snapshot(content)) for at, content in later])
    )
    shorter = console.session_history.over("db", now - 1000, now, of="session", limit=5).items
    assert {one.session: round(one.seconds, -1) for one in shorter} == {"7": 400.0, "8": 300.0, "1": 100.0}
    alone = console.session_history.over("db", now - 1000, now, of="session", limit=1).items
    assert [(one.session, one.statement) for one in alone] == [("7", "update fares set price = 4")]


def requested(at: float, body: str, **attributes: Any) -> NewEvent:
    return NewEvent(nanos(at), "db", 6, "web", body, json.dumps(attributes))


def test_web_requests_come_from_lines_that_name_a_path(console: Parts) -> None:
    now = time.time()
    events = [
        requested(now - n, f"line {n}", **{"url.path": f"/sailings/{n}", "http.server.duration": n})
        for n in range(1, 6)
    ]
    console.events.accept_now(Delivery([*events, requested(now - 1, "no request")], []))
    found = console.request_history.over("db", now - 60, now, of="path", limit=5)
    (one,) = found.items
    assert (one.of, one.requests, one.seconds, one.longest_seconds) == ("/sailings/{n}", 5, 15.0, 5.0)
    assert (found.looked, found.left_out) == (5, False)
    slowest, _ = console.events.find(Search(nanos(now - 60), nanos(now), "", filters.parse('body eq "line 5"')), 1)
    assert one.slowest == slowest[0].id


def test_of_more_lines_than_are_read_the_newest_count(console: Parts, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(requests, "MOST_LINES", 30)
    monkeypatch.setattr(requests, "PAGE", 7)
    now = time.time()
    console.events.accept_now(Delivery([requested(now - n, "x", **{"url.path": f"/{n}x"}) for n in range(1, 41)], []))
    found = console.request_history.over("db", now - 60, now, of="path", limit=200)
    assert {one.of for one in found.items} == {f"/{n}x" for n in range(1, 31)}
    assert (found.looked, found.left_out) == (30, True)


def test_a_host_there_is_not_is_refused(console: Parts) -> None:
    for ask in (
        lambda: console.process_history.over("nobody", 0.0, 1.0, by="cpu", of="process", limit=1),
        lambda: console.session_history.over("nobody", 0.0, 1.0, of="user", limit=1),
        lambda: console.request_history.over("nobody", 0.0, 1.0, of="path", limit=1),
    ):
        with pytest.raises(Refused) as refused:
            ask()
        assert refused.value.status == 404
