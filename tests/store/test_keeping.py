"""How long events are kept: by filter, by size, held to a plain reading of the rules."""

from __future__ import annotations

import random
from collections.abc import Sequence
from pathlib import Path

import pytest

from balise.core import filters
from balise.core.events.new_event import NewEvent
from balise.core.moments import NS
from balise.store.events.day_search import DAY, Search
from balise.store.events.keeping import KeepRule
from balise.store.events.said import SaidCounts
from balise.store.events.store import Delivery, EventStore

T0 = 20_780 * DAY
RULES = [
    ('severity ge "error"', 90.0),
    ('severity eq "debug" or source eq "noise"', 2.0),
    ('host eq "gate-1" and quay eq "north"', 20.0),
]
USUAL = 10.0


def kept_for(event: NewEvent) -> float:
    """The first rule that an event passes decides, read one after the other."""
    severe, north = event.severity <= 3, event.attributes == '{"quay":"north"}'
    if severe:
        return 90.0
    if event.severity == 7 or event.source == "noise":
        return 2.0
    return 20.0 if event.host == "gate-1" and north else USUAL


def made(rng: random.Random, day: int, number: int) -> NewEvent:
    attributes = rng.choice([None, '{"quay":"north"}', '{"quay":"south"}'])
    return NewEvent(
        T0 + day * DAY + number * NS,
        f"gate-{rng.randrange(3)}",
        rng.choice([3, 6, 7]),
        rng.choice(["ramp", "noise"]),
        f"line {day} {number}",
        attributes,
    )


def bodies(store: EventStore, text: str = "") -> set[str]:
    search, cursor = Search(T0, T0 + 40 * DAY, text), None
    found: set[str] = set()
    while True:
        page, cursor = store.find(search, 500, cursor)
        found |= {event.body for event in page}
        if cursor is None:
            return found


def thin(store: EventStore, now: int) -> None:
    store.forget(now)
    for _ in range(60):
        store.thin(now)


@pytest.mark.parametrize("seed", range(2))
def test_the_first_filter_that_an_event_passes_decides(tmp_path: Path, seed: int) -> None:
    rng = random.Random(seed)
    store = EventStore(tmp_path, keep_days=USUAL)
    events = [made(rng, day, n) for day in range(31) for n in range(30)]
    for at in range(0, len(events), 300):
        store.accept_now(Delivery(events[at : at + 300]))
    store.keep([KeepRule(filters.parse(where), days) for where, days in RULES], USUAL)
    for days_on in (31, 40, 60):
        now = T0 + days_on * DAY
        thin(store, now)
        # A day goes once all of it is old enough.
        wanted = {e.body for e in events if (now - (e.time // DAY + 1) * DAY) / DAY <= kept_for(e)}
        assert bodies(store) == wanted
        assert bodies(store, "line") == wanted
        whole = Search(T0, T0 + 40 * DAY)
        assert sum(one.count for one in SaidCounts(store).of(whole).values()) == len(wanted)
        assert sum(map(sum, store.histogram(whole, T0, DAY, 40))) == len(wanted)
    store.close()


def test_the_oldest_days_go_when_all_take_too_much_and_never_the_newest(tmp_path: Path) -> None:
    store = EventStore(tmp_path, keep_days=400)
    for day in range(6):
        lines: Sequence[NewEvent] = [
            NewEvent(T0 + day * DAY + n * NS, "gate-1", 6, "ramp", f"{day} {n} " + "x" * 2000) for n in range(500)
        ]
        store.accept_now(Delivery(list(lines)))
    store.close()
    store = EventStore(tmp_path, keep_days=400)
    size = store.size()
    store.keep([], 400, size // 2)
    gone = store.forget(T0 + 6 * DAY)
    assert gone[:3] == ["2026-11-23", "2026-11-24", "2026-11-25"] and len(gone) < 5
    assert store.size() <= size // 2
    store.keep([], 400, 1)
    store.forget(T0 + 6 * DAY)
    assert store.days() == [T0 // DAY + 5]
    store.close()
