"""Patterns and fields, counted: held to plain counting of the same events."""

from __future__ import annotations

import json
import random
import shutil
import sqlite3
from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pytest

from balise.core import filters
from balise.core.events.new_event import NewEvent
from balise.core.moments import NS
from balise.store.events.day import pack_snapshot
from balise.store.events.day_search import DAY, Search
from balise.store.events.fields import FieldCounts
from balise.store.events.index import Indexer
from balise.store.events.said import SaidCounts
from balise.store.events.signed import SignedIn
from balise.store.events.store import Delivery, EventStore

T0 = 20_780 * DAY
NAMES = ["anna", "berit", "carl", "dora"]


def made(rng: random.Random, n: int) -> NewEvent:
    source = rng.choice(["crew", "gate"])
    body = f"user {NAMES[n % 4]} boarded deck {n}" if source == "crew" else f"barrier {n} closed"
    attributes = None
    if rng.random() < 0.7:
        held = {"quay": rng.choice(["north", "south"]), "n": n if rng.random() < 0.3 else 1, "seats": [1, n % 3]}
        attributes = json.dumps(held)
    at = T0 + rng.randrange(-6 * 3600, 30 * 3600) * NS + rng.randrange(NS)
    return NewEvent(at, f"pier-{rng.randrange(3)}", rng.choice([3, 6]), source, body, attributes)


QUESTIONS: list[tuple[str, str | None]] = [
    ("", None),
    ("", 'host eq "pier-1"'),
    ("", 'source ne "gate" or severity ge "error"'),
    ("boarded", None),
    ("", 'quay eq "north"'),
    ("", 'not (n eq 1) and host co "IER-2"'),
    ('"barrier"', 'seats eq 2 and severity eq "error"'),
    ("", 'host eq "nobody"'),
]


def meets(event: NewEvent, text: str, where: str | None) -> bool:
    own = filters.by_name(json.loads(event.attributes or "{}").items())
    own |= {"host": event.host, "source": event.source, "severity": filters.SEVERITIES[event.severity]}
    return text.strip('"') in event.body and (where is None or filters.matches(filters.parse(where), own.get))


@pytest.mark.parametrize("seed", range(3))
def test_counts_are_those_of_plain_counting(tmp_path: Path, seed: int) -> None:
    rng = random.Random(seed)
    events = [made(rng, n) for n in range(1500)]
    store = EventStore(tmp_path, keep_days=100)
    for at in range(0, len(events), 100):
        store.accept_now(Delivery(events[at : at + 100]))
    for text, where in QUESTIONS:
        start = T0 + rng.randrange(-7 * 3600, 20 * 3600) * NS
        search = Search(start, start + rng.randrange(60, 20 * 3600) * NS, text, filters.parse(where) if where else None)
        mine = [e for e in events if search.start <= e.time < search.end and meets(e, text, where)]
        found = SaidCounts(store).of(search)
        assert {(key[2], key[1]): one.count for key, one in found.items()} == Counter(
            (e.source, e.severity) for e in mine
        )
        for key, one in found.items():
            assert one.hosts == Counter(e.host for e in mine if (e.source, e.severity) == (key[2], key[1]))
            assert SaidCounts(store).body(one.last) in {e.body for e in mine}
        fields, left = FieldCounts(store).of(search)
        counted = {f.name: f for f in fields}
        assert left == 0
        assert counted.get("host") is None or counted["host"].values == Counter(e.host for e in mine)
        for name in ("quay", "n", "seats"):
            held = [v for e in mine if (v := json.loads(e.attributes or "{}").get(name)) is not None]
            wanted = Counter(m for v in held for m in (v if isinstance(v, list) else [v]))
            assert (counted[name].values if name in counted else Counter()) == wanted
            assert (counted[name].events if name in counted else 0) == len(held)
        assert len(store.find(search, 2000)[0]) == len(mine)
    store.close()


def test_a_pattern_is_asked_for_by_its_number_and_by_those_it_took_the_place_of(tmp_path: Path) -> None:
    store = EventStore(tmp_path, keep_days=100)
    bodies = [f"{name} went aboard" for name in NAMES]
    for n, body in enumerate(bodies):
        store.accept_now(Delivery([NewEvent(T0 + n * NS, "pier-1", 6, "crew", body)]))
    whole = Search(T0, T0 + DAY)
    (key,) = SaidCounts(store).of(whole)
    assert store.book.root(key[0]).text == "… went aboard"
    for number in store.lookups.family(key[0]):
        node = filters.parse(f'pattern eq "{number}"')
        assert [e.body for e in store.find(Search(T0, T0 + DAY, "", node), 9)[0]] == bodies[::-1]
    store.close()
    again = EventStore(tmp_path, keep_days=100)
    again.accept_now(Delivery([NewEvent(T0 + 9 * NS, "pier-2", 6, "crew", "olav went aboard")]))
    assert [one.count for one in SaidCounts(again).of(whole).values()] == [5]
    again.close()


def test_words_that_were_lost_are_made_anew(tmp_path: Path) -> None:
    store = EventStore(tmp_path, keep_days=100)
    store.accept_now(Delivery([NewEvent(T0 + n * NS, "pier-1", 6, "crew", f"deck {n} is full") for n in range(50)]))
    late = [NewEvent(T0 - 3600 * NS + n, "pier-1", 6, "crew", f"late {n}") for n in range(5)]
    store.accept_now(Delivery([NewEvent(T0 - 60 * NS, "pier-1", 6, "crew", "x"), *late]))
    store.close()
    for path in (tmp_path / "events").glob("*.words.db*"):
        path.unlink()
    again = EventStore(tmp_path, keep_days=100)
    assert [e.body for e in again.find(Search(T0, T0 + DAY, '"deck 7"'), 9)[0]] == ["deck 7 is full"]
    assert len(again.find(Search(T0 - DAY, T0 + DAY, "late"), 9)[0]) == 5
    again.close()


def test_what_is_erased_is_found_nowhere_and_its_number_never_given_again(tmp_path: Path) -> None:
    store = EventStore(tmp_path, keep_days=100)
    store.accept_now(Delivery([NewEvent(T0 + n * NS, f"pier-{n % 2}", 6, "crew", f"deck {n}") for n in range(10)]))
    last = store.find(Search(T0, T0 + DAY, "deck"), 1)[0][0].id
    assert store.erase("pier-1") == 5
    assert [one.hosts for one in SaidCounts(store).of(Search(T0, T0 + DAY)).values()] == [Counter({"pier-0": 5})]
    store.close()
    again = EventStore(tmp_path, keep_days=100)
    again.accept_now(Delivery([NewEvent(T0 + 20 * NS, "pier-2", 6, "crew", "ramp down")]))
    assert [e.body for e in again.find(Search(T0, T0 + DAY, "deck"), 20)[0]] == [f"deck {n}" for n in (8, 6, 4, 2, 0)]
    assert again.find(Search(T0, T0 + DAY, "ramp"), 1)[0][0].id != last
    again.close()


def test_events_erased_before_their_words_are_taken_up_leave_the_index_whole(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def late(indexer: Indexer, day: Path, rows: Sequence[Any]) -> None:
        """Between the removal and its being told, later events come and their words are taken up."""
        store.accept_now(Delivery([NewEvent(T0 + 60 * NS, "pier-0", 6, "crew", "ramp down")]))
        indexer.catch_up(day)
        forget(indexer, day, rows)

    forget = Indexer.forget
    monkeypatch.setattr(Indexer, "forget", late)
    store = EventStore(tmp_path, keep_days=100)
    store.accept_now(Delivery([NewEvent(T0, "pier-0", 6, "crew", "ramp up")]))
    store.find(Search(T0, T0 + DAY, "ramp"), 1)
    store.accept_now(Delivery([NewEvent(T0 + n * NS, "pier-1", 6, "crew", f"deck {n}") for n in range(10)]))
    assert store.erase("pier-1") == 10
    assert store.find(Search(T0, T0 + DAY, "deck"), 500)[0] == []
    assert len(store.find(Search(T0, T0 + DAY, "ramp"), 500)[0]) == 2
    store.close()


def test_a_day_as_it_was_kept_before_is_brought_up(tmp_path: Path) -> None:
    """The tables as version 0.9 wrote them."""
    folder = tmp_path / "events"
    folder.mkdir()
    old = sqlite3.connect(folder / "2026-11-23.db")
    old.executescript(
        """
        CREATE TABLE event (id INTEGER PRIMARY KEY, time INTEGER NOT NULL, host TEXT NOT NULL,
          severity INTEGER NOT NULL, source TEXT NOT NULL, body TEXT NOT NULL, attributes TEXT);
        CREATE TABLE snapshot (id INTEGER PRIMARY KEY, time INTEGER NOT NULL, host TEXT NOT NULL, kind TEXT NOT NULL,
          data BLOB NOT NULL);
        CREATE TABLE seen (digest BLOB PRIMARY KEY) WITHOUT ROWID;
        CREATE TABLE minute (minute INTEGER NOT NULL, severity INTEGER NOT NULL, count INTEGER NOT NULL,
          first INTEGER, last INTEGER, PRIMARY KEY (minute, severity)) WITHOUT ROWID;
        """
    )
    for number, second in ((-1, 5), (1, 10), (2, 200), (3, 300)):
        attributes = json.dumps({"quay": "north"}) if number != 2 else None
        row = (number, T0 + second * NS, "pier-1", 4, "crew", f"deck {second} is full", attributes)
        old.execute("INSERT INTO event VALUES (?, ?, ?, ?, ?, ?, ?)", row)
    old.execute("INSERT INTO snapshot VALUES (1, ?, 'pier-1', 'processes', ?)", (T0 + NS, pack_snapshot([7])))
    old.execute("INSERT INTO seen VALUES (?)", (b"parcel-1",))
    old.execute("PRAGMA journal_mode=WAL")
    old.commit()
    old.close()
    shutil.copy(folder / "2026-11-23.db", tmp_path / "before.db")
    for _ in range(2):
        store = EventStore(tmp_path, keep_days=100)
        whole = Search(T0, T0 + DAY)
        assert [(e.id, e.body) for e in store.find(whole, 9)[0]] == [
            ("20780-3", "deck 300 is full"),
            ("20780-2", "deck 200 is full"),
            ("20780-1", "deck 10 is full"),
            ("20780--1", "deck 5 is full"),
        ]
        assert len(store.find(Search(T0, T0 + DAY, "full", filters.parse('quay eq "north"')), 9)[0]) == 3
        assert [one.count for one in SaidCounts(store).of(whole).values()] == [4]
        assert store.snapshots("pier-1", "processes", T0, T0 + DAY, 3) == [(T0 + NS, [7])]
        store.accept_now(Delivery([NewEvent(T0, "pier-1", 4, "crew", "again")], [], b"parcel-1"))
        assert sum(map(sum, store.histogram(whole, T0, 3600 * NS, 24))) == 4
        store.close()


def test_sign_ins_of_one_second_keep_their_order(tmp_path: Path) -> None:
    store = EventStore(tmp_path, keep_days=100)
    said = ["Failed password for anna from 192.0.2.7 port 1 ssh2"] * 5
    said += ["Accepted password for anna from 192.0.2.7 port 1 ssh2", "new user: name=deckhand, UID=7"]
    for body in said:
        store.accept_now(Delivery([NewEvent(T0, "bastion-9", 6, "sshd", body)]))
    rows, more = SignedIn(store).rows(T0, T0 + DAY)
    assert [row.outcome for row in rows] == ["failed"] * 5 + ["succeeded", "new-account"] and not more
    assert SignedIn(store).known_before(T0 + DAY) == {("anna", "192.0.2.7")}
    assert store.erase("bastion-9") == 7
    assert SignedIn(store).rows(T0, T0 + DAY) == ([], False)
    store.close()
