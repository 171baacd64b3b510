"""The lines around an event, held to a plain list."""

from __future__ import annotations

import random
from pathlib import Path

import pytest

from balise.core.events.new_event import NewEvent
from balise.core.moments import NS
from balise.store.events.around import Around
from balise.store.events.day_search import COLUMNS
from balise.store.events.store import Delivery, EventStore

START = 1_790_000_000 * NS


@pytest.mark.parametrize("seed", range(5))
def test_lines_around_are_those_of_a_plain_list(tmp_path: Path, seed: int) -> None:
    """Late ones, equal times, two days, rare hosts: each time the nearest in strict order."""
    rng = random.Random(seed)
    store = EventStore(tmp_path)
    said = [
        NewEvent(
            START + rng.choice([rng.randrange(120), rng.randrange(7200), rng.randrange(100_000)]) * NS,
            rng.choice(["gate-s3", "gate-s3", "gate-s3", "pier-1"]),
            6,
            rng.choice(["gate", "gate", "change"]),
            f"line {n}",
        )
        for n in range(400)
    ]
    for at in range(0, len(said), 50):
        store.accept_now(Delivery(said[at : at + 50]))
    around = Around(store)
    rows = [(day, row) for day in store.days() for _, row in _all(store, day)]
    assert len(rows) == len(said)
    for day, row in rng.sample(rows, 30):
        for source in (True, False):
            mine = sorted(
                (r for _, r in rows if r[2] == row[2] and (not source or r[4] == row[4])), key=lambda r: (r[1], r[0])
            )
            at = next(i for i, r in enumerate(mine) if tuple(r) == tuple(row))
            day_ = 86_400 * NS
            before = [r for r in mine[:at] if row[1] - r[1] <= day_][-5:]
            after = [r for r in mine[at + 1 :] if r[1] - row[1] < day_][:5]
            found = around.beside(day, row, 5, source=source)
            assert [[r[5] for _, r in part] for part in found] == [[r[5] for r in part] for part in (before, after)]
    assert around.one(rows[0][0], 10**9) is None and around.one(1, 1) is None
    store.close()


def _all(store: EventStore, day: int) -> list[tuple[int, tuple[object, ...]]]:
    span = (day * 86_400 * NS, (day + 1) * 86_400 * NS)
    query = f"SELECT {COLUMNS} FROM event"
    return [(day, tuple(row)) for _, file in store.existing(*span) for row in file.read(query, [])]
