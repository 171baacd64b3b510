"""Days set aside: copied out, verified, let go, brought back and read."""

from __future__ import annotations

import gzip
import sqlite3
from collections.abc import Iterator
from pathlib import Path

import pytest

from balise.core.events.new_event import NewEvent
from balise.core.moments import NS, Nanos
from balise.store.events.aside import Aside, CannotSetAside
from balise.store.events.day_search import DAY, Search
from balise.store.events.forwarded import Written
from balise.store.events.store import Delivery, EventStore, day_name

FIRST = 20_780
T0 = FIRST * DAY
LATER = Nanos(T0 + 3 * DAY)


@pytest.fixture
def store(tmp_path: Path) -> Iterator[EventStore]:
    made = EventStore(tmp_path, keep_days=30)
    yield made
    made.close()


@pytest.fixture
def aside(store: EventStore, tmp_path: Path) -> Aside:
    for day in range(2):
        put(store, day, *(f"barrier {n} closed" for n in range(50)))
    return Aside(tmp_path / "aside", store)


def put(store: EventStore, day: int, *bodies: str, second: int = 0) -> None:
    at = T0 + day * DAY + second * NS
    events = [NewEvent(at + n * NS, "gate-n1", 6, "gate", body, '{"quay":"n"}') for n, body in enumerate(bodies)]
    store.accept_now(Delivery(events))


def found(store: EventStore, text: str, day: int = 0) -> list[str]:
    start = T0 + day * DAY
    return [e.body for e in store.find(Search(Nanos(start), Nanos(start + DAY), text, None), 500)[0]]


def test_a_day_goes_out_and_comes_back_whole(store: EventStore, aside: Aside) -> None:
    before = found(store, "")
    copy = aside.put(FIRST, LATER)
    assert (copy.events, aside.copies()) == (50, {FIRST: copy})
    assert found(store, "") == before
    aside.let_go(FIRST)
    assert (found(store, ""), store.days()) == ([], [FIRST + 1])
    aside.bring_back(FIRST)
    assert found(store, "") == before
    assert found(store, '"barrier 7"') == ["barrier 7 closed"]
    with pytest.raises(CannotSetAside, match="here already"):
        aside.bring_back(FIRST)


def test_a_copy_is_an_ordinary_file_of_sqlite(store: EventStore, aside: Aside, tmp_path: Path) -> None:
    aside.put(FIRST, LATER)
    plain = tmp_path / "plain.db"
    plain.write_bytes(gzip.decompress((aside.folder / f"{day_name(FIRST)}.db.gz").read_bytes()))
    with sqlite3.connect(plain) as connection:
        assert connection.execute("SELECT count(*), max(body) FROM event").fetchone() == (50, "barrier 9 closed")
    assert sorted(p.name for p in aside.folder.iterdir()) == [f"{day_name(FIRST)}.db.gz", f"{day_name(FIRST)}.json"]


def test_what_came_late_is_kept_beside_what_comes_back(store: EventStore, aside: Aside) -> None:
    aside.put(FIRST, LATER)
    aside.let_go(FIRST)
    put(store, 0, "ramp stuck", second=30)
    with pytest.raises(CannotSetAside, match="bring that back"):
        aside.put(FIRST, LATER)
    aside.bring_back(FIRST)
    assert len(found(store, "")) == 51 and found(store, "ramp") == ["ramp stuck"]
    with pytest.raises(CannotSetAside, match="set it aside again"):
        aside.let_go(FIRST)
    assert aside.put(FIRST, LATER).events == 51
    aside.let_go(FIRST)
    aside.bring_back(FIRST)
    assert len(found(store, "")) == 51


def test_a_day_that_came_back_outlasts_what_is_kept(store: EventStore, aside: Aside) -> None:
    aside.put(FIRST, LATER)
    aside.let_go(FIRST)
    aside.bring_back(FIRST)
    store.keep([], 1.0)
    assert store.forget(T0 + 40 * DAY) == [day_name(FIRST + 1)]
    assert store.thin(T0 + 40 * DAY) == 0 and len(found(store, "")) == 50
    aside.let_go(FIRST)
    assert store.days() == [] and store.brought_back() == set()


def test_a_day_that_came_back_is_not_forwarded_again(store: EventStore, aside: Aside) -> None:
    written = Written(store)
    positions = written.ends()
    aside.put(FIRST, LATER)
    aside.let_go(FIRST)
    while step := written.step(positions, None, 100):
        positions = step[1]
    aside.bring_back(FIRST)
    assert written.step(positions, None, 100) is None and written.waiting(positions) == 0


def test_a_damaged_copy_is_neither_read_nor_stood_on(store: EventStore, aside: Aside) -> None:
    aside.put(FIRST, LATER)
    packed = aside.folder / f"{day_name(FIRST)}.db.gz"
    whole = packed.read_bytes()
    packed.write_bytes(whole[: len(whole) // 2])
    with pytest.raises(CannotSetAside, match="not what was written"):
        aside.let_go(FIRST)
    assert len(found(store, "")) == 50
    packed.write_bytes(whole)
    aside.let_go(FIRST)
    packed.write_bytes(gzip.compress(gzip.decompress(whole)[:-1] + b"x"))
    with pytest.raises(CannotSetAside, match="not what was written"):
        aside.bring_back(FIRST)
    assert store.days() == [FIRST + 1] and not list(store.folder.glob("*.back*"))


def test_what_cannot_be_set_aside(store: EventStore, aside: Aside) -> None:
    for attempt, why in (
        (lambda: aside.put(FIRST + 1, Nanos(T0 + DAY + 1)), "not over"),
        (lambda: aside.put(FIRST + 7, Nanos(T0 + 9 * DAY)), "no events"),
        (lambda: aside.bring_back(FIRST), "not set aside"),
        (lambda: aside.let_go(FIRST), "not set aside"),
    ):
        with pytest.raises(CannotSetAside, match=why):
            attempt()
