"""Points in the order in which they came: each is read at least once, whatever is sealed, erased or begun anew between."""

from __future__ import annotations

from collections import Counter
from pathlib import Path

import numpy as np
import pytest

from balise.core.moments import NS
from balise.store.series.forwarded import Arrived, Position
from balise.store.series.store import SeriesStore

T0 = 1_790_000_000 * NS
Told = tuple[int, int, float]


class World:
    """A store with series of two hosts, and somebody who reads on and on."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.store = SeriesStore(folder, clock=lambda: T0)
        self.sent: list[Told] = []
        self.seen: Counter[Told] = Counter()
        self.position = Arrived(self.store).end()
        self._now = 0

    def take(self, host: int, *, back: int = 0) -> None:
        """A delivery of a host's two series; `back` seconds late."""
        self._now += 1
        at = T0 + (15 * self._now - back) * NS
        metric = self.store.catalogue.metric("tide", "m", "gauge", "")
        ids = [self.store.catalogue.series_id(host, metric, (("berth", b),), "", "gauge") for b in "ab"]
        values = np.array([self._now, self._now + 0.5])
        self.store.accept_now(
            self.store.batch(self.store.catalogue.layouts.of(np.array(ids)), np.array([at, at]), values)
        )
        self.sent += [(one, at, value) for one, value in zip(ids, values.tolist(), strict=True)]

    def read(self, steps: int = 10_000) -> None:
        arrived = Arrived(self.store)
        for _ in range(steps):
            found = arrived.step(self.position, 3)
            if found is None:
                return
            self.seen.update(zip(found.series.tolist(), found.times.tolist(), found.values.tolist(), strict=True))
            self.position = found.position

    def again(self) -> None:
        self.store.close()
        self.store = SeriesStore(self.folder, clock=lambda: T0)


@pytest.fixture
def world(tmp_path: Path) -> World:
    return World(tmp_path)


def test_who_keeps_abreast_reads_each_point_once(world: World) -> None:
    for turn in range(30):
        world.take(turn % 2 + 1)
        world.read()
        if turn % 7 == 6:
            world.store.seal(np.iinfo(np.int64).max)
            world.read()
        if turn % 11 == 10:
            world.again()
    assert world.seen == Counter(world.sent)
    assert Arrived(world.store).waiting(world.position) == 0
    world.store.close()


@pytest.mark.parametrize("seed", range(5))
def test_whatever_happens_between_each_point_is_read(world: World, seed: int) -> None:
    rng = np.random.default_rng(seed)
    gone: set[int] = set()
    for _ in range(80):
        match rng.choice(
            ["take", "late", "read", "some", "seal", "part", "again", "erase"],
            p=[0.3, 0.1, 0.1, 0.15, 0.1, 0.1, 0.1, 0.05],
        ):
            case "take":
                world.take(int(rng.integers(1, 4)))
            case "late":
                world.take(int(rng.integers(1, 4)), back=int(rng.integers(1, 300)))
            case "read":
                world.read()
            case "some":
                world.read(2)
            case "seal":
                world.store.seal(np.iinfo(np.int64).max)
            case "part":
                world.store.seal(T0 + int(rng.integers(0, 1800)) * NS)
            case "again":
                world.again()
            case "erase":
                host = int(rng.integers(1, 4))
                gone.update(world.store.catalogue.of_host(host))
                world.sent = [one for one in world.sent if one[0] not in gone or one in world.seen]
                world.store.erase(host)
    world.read()
    assert set(world.sent) <= set(world.seen)
    world.store.close()


def test_of_what_was_there_before_nothing_is_read(world: World) -> None:
    world.take(1)
    world.store.seal(np.iinfo(np.int64).max)
    world.take(1)
    world.position = Arrived(world.store).end()
    world.read()
    assert not world.seen
    world.take(2)
    assert Arrived(world.store).waiting(world.position) == 1
    world.read()
    assert world.seen == Counter(world.sent[-2:])
    assert Arrived(world.store).step(Position(0, 0), 3) is not None
    world.store.close()


def test_a_block_that_comes_after_the_last_was_erased_is_a_new_one(world: World) -> None:
    everything = np.iinfo(np.int64).max
    for host in (2, 1):
        world.take(host)
        world.store.seal(everything)
    world.read()
    world.store.erase(1)
    world.again()
    world.take(3)
    world.store.seal(everything)
    world.read()
    assert set(world.sent) <= set(world.seen)
    world.store.close()
