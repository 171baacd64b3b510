"""Objects in rings."""

from __future__ import annotations

import gc
import weakref
from collections.abc import Iterator

import pytest

from balise.server.keeping.rubbish import LOOK_EVERY, Rubbish, look_through


class Ring:
    def __init__(self) -> None:
        self.itself = self


@pytest.fixture(autouse=True)
def as_before() -> Iterator[None]:
    yield
    gc.unfreeze()


def test_what_has_lived_is_not_looked_at_but_once_a_day() -> None:
    now = [0.0]
    rubbish = Rubbish(lambda: now[0])
    ring = Ring()
    gone = weakref.ref(ring)
    rubbish.set_aside()
    assert gc.get_freeze_count() > 10_000
    del ring
    for now[0] in (60.0, 120.0):
        rubbish.set_aside()
        gc.collect()
    assert gone() is not None
    now[0] = LOOK_EVERY + 121
    rubbish.set_aside()
    assert gone() is None and gc.get_freeze_count() > 10_000


def test_young_rings_go_at_once() -> None:
    rubbish = Rubbish()
    gone = weakref.ref(Ring())
    rubbish.set_aside()
    assert gone() is None


def test_looking_through_sets_nothing_aside_that_was_not() -> None:
    look_through()
    assert gc.get_freeze_count() == 0
