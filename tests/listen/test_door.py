"""Who gives way at the door, against a plain list."""

from __future__ import annotations

from dataclasses import dataclass, field

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from balise.listen.door import ALWAYS_OF_ADDRESS, GRACE, OF_ONE, Door


@dataclass(eq=False)
class Held:
    """A connection that notes whether it was turned out."""

    client: tuple[str, int]
    out: bool = field(default=False)

    def turn_out(self) -> None:
        self.out = True


class Clock:
    def __init__(self) -> None:
        self.now = 0.0

    def __call__(self) -> float:
        return self.now


def some(door: Door, address: str, count: int, first: int = 0) -> list[Held]:
    made = [Held((address, first + n)) for n in range(count)]
    for one in made:
        door.came(one)
    return made


def test_an_address_with_too_many_strangers_loses_its_oldest() -> None:
    clock = Clock()
    door = Door(of_address=3, clock=clock)
    first = some(door, "192.0.2.1", 3)
    other = some(door, "192.0.2.2", 1)
    clock.now = GRACE
    late = some(door, "192.0.2.1", 2, first=10)
    assert [c.out for c in [*first, *other, *late]] == [True, True, False, False, False, False]


def test_many_behind_one_address_may_come_at_once() -> None:
    door = Door(strangers=10_000, clock=Clock())
    held = some(door, "192.0.2.1", ALWAYS_OF_ADDRESS + 1)
    assert [c.out for c in held[:2]] == [True, False]


def test_who_showed_who_it_is_is_no_stranger() -> None:
    clock = Clock()
    door = Door(of_address=2, strangers=4, clock=clock)
    agents = some(door, "192.0.2.1", 2)
    for number, agent in enumerate(agents):
        door.showed(agent.client, f"agent {number}")
    clock.now = GRACE
    half = [one for n in range(200) for one in some(door, f"198.51.100.{n}", 3)]
    assert not any(agent.out for agent in agents)
    assert sum(not one.out for one in half) == door.strangers == 4
    assert door.known == 2


def test_when_all_is_taken_strangers_give_way_to_those_who_are_known() -> None:
    door = Door(most=10, strangers=8, clock=Clock())
    for number in range(9):
        (one,) = some(door, "192.0.2.1", 1, first=number)
        door.showed(one.client, f"agent {number}")
    last = some(door, "192.0.2.2", 3)
    assert [one.out for one in last] == [True, True, False]
    assert door.known == 9


def test_one_person_holds_no_more_than_their_share() -> None:
    door = Door(strangers=10_000, clock=Clock())
    held = some(door, "192.0.2.1", OF_ONE + 2)
    for one in held:
        door.showed(one.client, "viewer ana")
    assert [one.out for one in held[:3]] == [True, True, False]
    many = some(door, "192.0.2.9", OF_ONE + 2)
    for one in many:
        door.showed(one.client, "ingest fleet", delivers=True)
    assert not any(one.out for one in many)


@pytest.mark.parametrize("client", [None, ("203.0.113.9", 5)])
def test_what_the_door_does_not_know_changes_nothing(client: tuple[str, int] | None) -> None:
    door = Door()
    door.showed(client, "viewer ana")
    assert (door.known, door.strangers) == (0, 0)


MOVES = st.lists(
    st.tuples(st.sampled_from(["came", "went", "showed", "later"]), st.integers(0, 3), st.integers(0, 9)), max_size=80
)


@settings(max_examples=200, deadline=None)
@given(MOVES)
def test_it_holds_what_is_open_and_never_more_than_it_may(moves: list[tuple[str, int, int]]) -> None:
    clock = Clock()
    door = Door(most=12, strangers=6, of_address=3, clock=clock)
    open_now: dict[tuple[str, int], Held] = {}
    known: set[tuple[str, int]] = set()
    for what, address, port in moves:
        client = (f"192.0.2.{address}", port)
        if what == "later":
            clock.now += port
        elif what == "came" and client not in open_now:
            open_now[client] = Held(client)
            door.came(open_now[client])
        elif what == "went" and client in open_now:
            known.discard(client)
            door.went(open_now.pop(client))
        elif what == "showed" and client in open_now:
            known.add(client)
            door.showed(client, "viewer ana")
        for gone in [c for c, held in open_now.items() if held.out]:
            assert gone not in known, "nobody who is known gives way to a stranger"
            door.went(open_now.pop(gone))
        assert (door.known, door.strangers) == (len(known), len(open_now) - len(known))
        assert door.strangers <= 6
