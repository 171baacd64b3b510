"""Heavy questions take turns, and so do those who ask them."""

from __future__ import annotations

import asyncio
import threading
from collections import Counter
from functools import partial
from types import SimpleNamespace
from typing import cast

import pytest
from hypothesis import given
from hypothesis import strategies as st

from balise.api.lists import Note
from balise.server.errors import Refused
from balise.server.keeping.memory import Memory
from balise.server.people.access import Principal
from balise.server.turns import EACH, WAITING, OneTurn, Turns, Turnstile


@given(st.lists(st.tuples(st.sampled_from("abc"), st.integers(0, 3), st.booleans()), max_size=30))
def test_never_too_many_at_once_and_none_is_forgotten(asked: list[tuple[str, int, bool]]) -> None:
    """Questions of three people, of various lengths, some of which are given up while they wait or run."""
    turns = Turns(at_once=3, each=2)
    running: Counter[str] = Counter()
    done: list[str] = []

    async def question(person: str, long: int) -> None:
        async with turns.of(person):
            running[person] += 1
            assert running.total() <= 3
            assert running[person] <= 2
            try:
                for _ in range(long):
                    await asyncio.sleep(0)
                done.append(person)
            finally:
                running[person] -= 1

    async def all_of_them() -> int:
        tasks = [asyncio.create_task(question(person, long)) for person, long, _ in asked]
        await asyncio.sleep(0)
        given_up = [task for task, (*_, give_up) in zip(tasks, asked, strict=True) if give_up and not task.done()]
        for task in given_up:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
        # Whatever was given up, there is room again for as many.
        await asyncio.wait_for(asyncio.gather(*(question(person, 2) for person in "aabbcc")), 5)
        return len(given_up)

    given_up = asyncio.run(all_of_them())
    assert len(done) >= len(asked) - given_up + 6


def test_who_asks_much_holds_nobody_up() -> None:
    turns = Turns(at_once=2, each=1)
    order: list[str] = []

    async def question(person: str) -> None:
        async with turns.of(person):
            order.append(person)
            await asyncio.sleep(0.01)

    async def all_of_them() -> None:
        many = [asyncio.create_task(question("greedy")) for _ in range(20)]
        await asyncio.sleep(0)
        await asyncio.gather(*many, *(question(name) for name in ("ada", "ben", "ada")))

    asyncio.run(all_of_them())
    assert max(order.index("ada"), order.index("ben")) < 6
    assert len(order) == 23


def a_turn() -> tuple[OneTurn, list[bool]]:
    """A turn at a turnstile of its own, and what says whether whoever has it has left."""
    left: list[bool] = []

    async def has_left() -> bool:
        return bool(left)

    return OneTurn(Turnstile(cast(Memory, SimpleNamespace(check_question=lambda: None))), has_left), left


def test_what_waited_is_not_begun_once_whoever_asked_has_left() -> None:
    turn, left = a_turn()
    who, free, done = Principal("ada", "viewer"), threading.Event(), []

    async def all_of_them() -> None:
        first = [asyncio.create_task(turn.asked(who, lambda: free.wait(10))) for _ in range(EACH)]
        await asyncio.sleep(0)
        waits = asyncio.create_task(turn.asked(who, lambda: done.append("waited")))
        await asyncio.sleep(0)
        left.append(True)
        free.set()
        # What was begun goes on.
        assert await asyncio.gather(*first) == [True] * EACH
        with pytest.raises(Refused, match="has left"):
            await waits
        left.clear()
        await turn.asked(who, lambda: done.append("came back"))

    asyncio.run(all_of_them())
    assert done == ["came back"]


def test_what_takes_long_holds_up_none_of_the_same_persons_other_questions() -> None:
    turn, _ = a_turn()
    who, free, order = Principal("ada", "viewer"), threading.Event(), []

    def long(number: int) -> Note:
        free.wait(10)
        order.append(f"long {number}")
        return Note(detail="")

    async def all_of_them() -> None:
        many = [asyncio.create_task(turn.answered_at_length(who, partial(long, n))) for n in range(3)]
        await asyncio.sleep(0)
        await asyncio.wait_for(asyncio.gather(*(turn.asked(who, lambda: order.append("short")) for _ in "12")), 5)
        free.set()
        assert [answer.body for answer in await asyncio.gather(*many)] == [b'{"detail":""}'] * 3

    asyncio.run(all_of_them())
    assert order == ["short", "short", "long 0", "long 1", "long 2"]


def test_who_waits_too_long_or_asks_too_much_is_told() -> None:
    turns = Turns(at_once=1, each=1, patience=0.05)

    async def all_of_them() -> None:
        async with turns.of("a"):
            waiting = [asyncio.create_task(turns.of("a").__aenter__()) for _ in range(WAITING)]
            await asyncio.sleep(0)
            with pytest.raises(Refused) as refused:
                await turns.of("a").__aenter__()
            assert refused.value.status == 429
            said = await asyncio.gather(*waiting, return_exceptions=True)
            assert {one.status for one in said if isinstance(one, Refused)} == {503}
            assert len(said) == WAITING
        async with turns.of("a"):
            pass

    asyncio.run(all_of_them())
