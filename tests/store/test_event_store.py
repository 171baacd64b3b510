"""The event store: found by text, filter and span, newest first, whole, and each delivery once."""

from __future__ import annotations

import json
import sqlite3
import threading
import time
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from balise.core import filters
from balise.core.events.new_event import NewEvent
from balise.store.events.day import Snapshot, pack_snapshot
from balise.store.events.day_search import BadCursor, Search
from balise.store.events.index import match_expression
from balise.store.events.store import Delivery, EventStore, day_name
from balise.store.events.words import WordMatch

NS = 1_000_000_000
DAY = 86_400 * NS
T0 = 20_780 * DAY


@pytest.fixture
def store(tmp_path: Path) -> Iterator[EventStore]:
    made = EventStore(tmp_path, keep_days=5)
    yield made
    made.close()


def event(
    second: float, body: str = "barrier closed", host: str = "gate-n1", severity: int = 6, **attributes: object
) -> NewEvent:
    packed = json.dumps({k.replace("_", "."): v for k, v in attributes.items()}) if attributes else None
    return NewEvent(T0 + int(second * NS), host, severity, "gate", body, packed)


def put(store: EventStore, *events: NewEvent, digest: bytes | None = None) -> None:
    store.accept_now(Delivery(list(events), [], digest))


def found(
    store: EventStore, text: str = "", where: str | None = None, start: float = -DAY, end: float = 3 * DAY
) -> list[str]:
    node = filters.parse(where) if where else None
    events, _ = store.find(
        Search(T0 + int(start * NS) if abs(start) < DAY else T0 - DAY, T0 + int(min(end, 3 * 86_400) * NS), text, node),
        1000,
    )
    return [e.body for e in events]


def test_words_phrases_and_beginnings(store: EventStore) -> None:
    put(store, event(1, "ticket accepted at gate 4"), event(2, "gate 4 ticket refused"), event(3, "reader offline"))
    assert found(store, "ticket gate") == ["gate 4 ticket refused", "ticket accepted at gate 4"]
    assert found(store, '"ticket accepted"') == ["ticket accepted at gate 4"]
    assert found(store, "tick* ref*") == ["gate 4 ticket refused"]
    assert found(store, "tick") == []
    assert found(store, "nothing") == []


@pytest.mark.parametrize("text", ['"', "*", "(", "a OR", "NEAR(", "body:x", "-", "'; DROP", '""', "\x00", "é ü"])
def test_no_text_breaks_the_search(store: EventStore, text: str) -> None:
    put(store, event(1))
    found(store, text)


def test_text_filter_and_span_together(store: EventStore) -> None:
    put(
        store,
        event(10, "pump 1 failed", severity=3),
        event(20, "pump 2 failed", host="gate-n2", severity=3),
        event(30, "pump 3 failed", severity=4, http_status=504),
        event(400, "pump 4 failed", severity=3),
    )
    assert found(store, "pump", 'host eq "gate-n1" and severity ge "error"') == ["pump 4 failed", "pump 1 failed"]
    assert found(store, "pump", "http.status gt 500") == ["pump 3 failed"]
    assert found(store, "failed", start=15, end=100) == ["pump 3 failed", "pump 2 failed"]


def test_a_late_event_stands_where_it_belongs(store: EventStore) -> None:
    put(store, *[event(100 + i, f"on time {i}") for i in range(5)])
    put(store, event(3000, "newest"))
    put(store, event(102.5, "late"))
    assert found(store) == ["newest", "on time 4", "on time 3", "late", "on time 2", "on time 1", "on time 0"]


@settings(max_examples=20, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(st.integers(-90_000, 90_000), min_size=1, max_size=60), st.integers(1, 7))
def test_page_by_page_everything_comes_once(
    tmp_path_factory: pytest.TempPathFactory, seconds: list[int], size: int
) -> None:
    store = EventStore(tmp_path_factory.mktemp("events"))
    for at in range(0, len(seconds), 9):
        put(store, *[event(s, f"e {s} {at + i}") for i, s in enumerate(seconds[at : at + 9])])
    got: list[str] = []
    cursor: str | None = None
    while True:
        page, cursor = store.find(Search(T0 - 3 * DAY, T0 + 3 * DAY), size, cursor)
        got.extend(e.body for e in page)
        assert len(page) <= size
        if cursor is None:
            break
    store.close()
    assert sorted(got) == sorted(f"e {s} {i}" for i, s in enumerate(seconds))


def test_a_foreign_cursor_is_refused(store: EventStore) -> None:
    put(store, event(1))
    with pytest.raises(BadCursor):
        store.find(Search(T0, T0 + DAY), 5, "'; DROP TABLE event")


def test_the_histogram_is_the_same_kept_and_counted(store: EventStore) -> None:
    put(store, *[event(i * 7, f"n {i}", host=f"gate-{i % 3}", severity=i % 8) for i in range(200)])
    width = 120 * NS
    kept = store.histogram(Search(T0, T0 + 20 * width), T0, width, 20)
    counted = store.histogram(Search(T0, T0 + 20 * width, "n"), T0, width, 20)
    assert kept == counted
    assert sum(map(sum, kept)) == 200
    only = store.histogram(Search(T0, T0 + 20 * width, "", filters.parse('host eq "gate-1"')), T0, width, 20)
    assert sum(map(sum, only)) == 67


def test_a_delivery_that_is_repeated_counts_once(store: EventStore) -> None:
    for _ in range(3):
        put(store, event(5, "once"), digest=b"parcel-1")
    put(store, event(5, "once"), digest=b"parcel-2")
    assert len(found(store)) == 2


def test_days_are_files_and_old_ones_go(store: EventStore) -> None:
    put(store, event(1, "old"), event(86_400 * 7, "new"))
    assert len(store.days()) == 2
    assert store.forget(T0 + 8 * DAY) == ["2026-11-23"]
    events, _ = store.find(Search(T0 - DAY, T0 + 9 * DAY), 10)
    assert [e.body for e in events] == ["new"]


def test_events_survive_a_restart(store: EventStore, tmp_path: Path) -> None:
    put(store, event(1, "first"))
    store.close()
    again = EventStore(tmp_path)
    put(again, event(2, "second"))
    assert found(again) == ["second", "first"]
    again.close()


def test_snapshots_come_back_by_host_kind_and_span(store: EventStore) -> None:
    snapshots = [Snapshot(T0 + i * NS, "gate-n1", "processes", pack_snapshot([{"pid": i}])) for i in range(5)]
    store.accept_now(Delivery([], snapshots))
    got = store.snapshots("gate-n1", "processes", T0 + NS, T0 + 4 * NS, 10)
    assert [content[0]["pid"] for _, content in got] == [3, 2, 1]
    over = store.snapshots_over("gate-n1", "processes", T0, T0 + 5 * NS, 3)
    assert [content[0]["pid"] for _, content in over] == [0, 2, 4]
    assert store.snapshots("gate-n2", "processes", T0, T0 + DAY, 10) == []


def test_hosts_bound_the_search_in_the_index() -> None:
    expression = match_expression('lost "two words"', [["h7", "h9"]])
    assert expression == 'body:"lost" AND body:"two words" AND tags:(h7 OR h9)'


def test_a_day_that_is_over_stands_in_one_file(store: EventStore) -> None:
    def beside() -> list[str]:
        return sorted(path.name[:10] for path in store.folder.glob("2*-wal") if path.stat().st_size)

    put(store, event(1, "barrier opened"))
    put(store, event(86_401, "barrier closed"))
    store.tell_all()
    assert set(found(store, "barrier")) == {"barrier opened", "barrier closed"}
    yesterday, today = (day_name(T0 // DAY + number) for number in (0, 1))
    assert {yesterday, today} <= set(beside())
    with closing(sqlite3.connect(store.folder / f"{yesterday}.db", isolation_level=None)) as reader:
        # Somebody is in the middle of reading it: nobody waits, and it is left for another time.
        reader.execute("BEGIN")
        reader.execute("SELECT count(*) FROM event").fetchone()
        put(store, event(2, "barrier stuck"))
        began = time.monotonic()
        store.forget(T0 + DAY + 3600 * NS)
        assert time.monotonic() - began < 5
        assert yesterday in beside()
    store.forget(T0 + DAY + 3600 * NS)
    assert set(beside()) == {today}
    put(store, event(3, "barrier late"))
    assert set(found(store, "barrier")) == {"barrier opened", "barrier closed", "barrier stuck", "barrier late"}
    store.forget(T0 + DAY + 7200 * NS)
    assert set(beside()) == {today}


def test_reading_many_days_leaves_the_writers_file_alone(tmp_path: Path) -> None:
    """Forty days read at once by several, while today's is written: all that was acknowledged is there."""
    store = EventStore(tmp_path, keep_days=100)
    for day in range(40):
        put(store, event(-day * 86_400, f"old {day}"))
    stop = threading.Event()
    problems: list[BaseException] = []

    def read() -> None:
        while not stop.is_set():
            try:
                store.find(Search(T0 - 50 * DAY, T0 + DAY, "", None), 1000)
            except BaseException as error:
                problems.append(error)

    readers = [threading.Thread(target=read) for _ in range(4)]
    for one in readers:
        one.start()
    for number in range(200):
        put(store, event(10 + number, f"today {number}"))
    stop.set()
    for one in readers:
        one.join()
    bodies = [e.body for e in store.find(Search(T0 - 50 * DAY, T0 + DAY, "", None), 1000)[0]]
    store.close()
    assert problems == []
    assert len(bodies) == 240


def test_a_day_that_is_opened_again_goes_on_in_order(tmp_path: Path) -> None:
    for number in range(3):
        store = EventStore(tmp_path, keep_days=100)
        put(store, event(100 * number, f"at {number}"), event(100 * number - 90, f"late {number}"))
        store.close()
    store = EventStore(tmp_path, keep_days=100)
    assert found(store) == ["at 2", "late 2", "at 1", "late 1", "at 0", "late 0"]
    store.close()


@settings(max_examples=60, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(
    st.lists(st.tuples(st.integers(-3600, 7200), st.integers(0, 7)), min_size=1, max_size=60),
    st.integers(-3600, 3600),
    st.integers(1, 7200),
    st.sampled_from([60, 300, 420]),
    st.sampled_from([None, 'severity ge "error"', 'host eq "gate-n1"']),
)
def test_a_histogram_counts_what_is_in_its_span(
    tmp_path_factory: pytest.TempPathFactory,
    said: list[tuple[int, int]],
    start: int,
    length: int,
    width: int,
    where: str | None,
) -> None:
    store = EventStore(tmp_path_factory.mktemp("bars"), keep_days=100)
    put(store, *(event(second, severity=severity) for second, severity in said))
    search = Search(T0 + start * NS, T0 + (start + length) * NS, "", filters.parse(where) if where else None)
    first = search.start // (width * NS) * width * NS
    count = -(-(search.end - first) // (width * NS))
    bars = store.histogram(search, first, width * NS, count)
    store.close()
    wanted = [[0] * count for _ in range(8)]
    for second, severity in said:
        at = T0 + second * NS
        if search.start <= at < search.end and (where != 'severity ge "error"' or severity <= 3):
            wanted[severity][(at - first) // (width * NS)] += 1
    assert bars == wanted


@pytest.mark.parametrize("text", ["ticket", "tick*", '"gate 4"', "4 gate", "TICKET é", "tick", "!!!"])
def test_a_live_stream_finds_the_words_that_a_search_finds(store: EventStore, text: str) -> None:
    bodies = ["ticket accepted at gate 4", "gate_4 ticket", "tickets", "Ticket E\u0301", "é ticket", "4gate"]
    put(store, *(event(i, body) for i, body in enumerate(bodies)))
    live = WordMatch(text)
    assert [b for b in bodies[::-1] if live(b)] == found(store, text)
