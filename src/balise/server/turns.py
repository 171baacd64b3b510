"""Questions that may be heavy take turns: a few are worked on at once, and those who ask take turns too."""

from __future__ import annotations

import asyncio
from collections import Counter, OrderedDict, deque
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import asynccontextmanager
from typing import TypeVar

from fastapi import Response
from pydantic import BaseModel
from starlette.concurrency import run_in_threadpool

from balise.server.errors import Refused
from balise.server.keeping.memory import Memory
from balise.server.packing import as_json, worked_out
from balise.server.people.access import Principal

T = TypeVar("T")

AT_ONCE, EACH = 4, 2
"""How many questions are worked on at once, and how many of them may be one person's."""
WAITING = 64
"""How many more of one person may wait."""
MOST_WAITING = 512
PATIENCE = 30.0
"""Seconds after which who waits is told to try later."""


class Turnstile:
    """Where questions that take long, and tries that wait for another system, wait for their turn."""

    def __init__(self, memory: Memory) -> None:
        self.memory = memory
        self.questions = Turns()
        self.long = Turns(2, 1)
        self.tries = Turns(8, 2, waiting=16)


class OneTurn:
    """One call at the turnstile. What waited is not begun when whoever asked has left meanwhile."""

    def __init__(self, turnstile: Turnstile, has_left: Callable[[], Awaitable[bool]]) -> None:
        self._turnstile = turnstile
        self._has_left = has_left

    async def asked(self, who: Principal, work: Callable[[], T]) -> T:
        """What may take long, worked on beside the loop when it is this person's turn."""
        self._turnstile.memory.check_question()
        return await self._in_turn(self._turnstile.questions, who, work)

    async def answered(self, who: Principal, work: Callable[[], BaseModel]) -> Response:
        """`asked`, and put into JSON there too."""
        return as_json(await self.asked(who, lambda: worked_out(work)))

    async def answered_at_length(self, who: Principal, work: Callable[[], BaseModel]) -> Response:
        """As `answered`, for what reads long stretches of many series: of these one person's are worked on one after
        the other, and none of their other questions waits for them."""
        self._turnstile.memory.check_question()
        return as_json(await self._in_turn(self._turnstile.long, who, lambda: worked_out(work)))

    async def tried(self, who: Principal, work: Callable[[], T]) -> T:
        """What waits for another system, which may hang: a few at once, so that nothing else waits for it."""
        return await self._in_turn(self._turnstile.tries, who, work)

    async def _in_turn(self, turns: Turns, who: Principal, work: Callable[[], T]) -> T:
        waits = turns.must_wait(who.name)
        async with turns.of(who.name):
            # Of a call without a body the first look only finds that it has none.
            if waits and (await self._has_left() or await self._has_left()):
                raise Refused(503, "Whoever asked has left.")
            return await run_in_threadpool(work)


class Turns:
    """Used by one event loop. Of those who wait, whoever was served longest ago comes next."""

    def __init__(
        self, at_once: int = AT_ONCE, each: int = EACH, *, waiting: int = WAITING, patience: float = PATIENCE
    ) -> None:
        self._at_once = at_once
        self._each = each
        self._most_waiting = waiting
        self._patience = patience
        self._running: Counter[str] = Counter()
        self._waiting: OrderedDict[str, deque[asyncio.Future[None]]] = OrderedDict()

    @asynccontextmanager
    async def of(self, person: str) -> AsyncIterator[None]:
        """A turn of somebody's.

        Raises:
            Refused: 429 when too many of theirs wait, 503 when their turn does not come in time.
        """
        if self.must_wait(person):
            await self._wait(person)
        else:
            self._running[person] += 1
        try:
            yield
        finally:
            self._end(person)

    def must_wait(self, person: str) -> bool:
        """Whether it is not somebody's turn at once."""
        return person in self._waiting or not self._free(person)

    def _free(self, person: str) -> bool:
        return self._running.total() < self._at_once and self._running[person] < self._each

    async def _wait(self, person: str) -> None:
        own = self._waiting.setdefault(person, deque())
        if len(own) >= self._most_waiting or sum(map(len, self._waiting.values())) >= MOST_WAITING:
            raise Refused(
                429, f"{len(own)} of your questions wait already: wait for them.", headers={"Retry-After": "5"}
            )
        turn: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        own.append(turn)
        try:
            async with asyncio.timeout(self._patience):
                await turn
        except BaseException as error:
            if turn.done() and not turn.cancelled():
                self._end(person)
            else:
                self._forget(person, turn)
            if isinstance(error, TimeoutError):
                busy = "Others' questions take long: try again, or ask for less at once."
                raise Refused(503, busy, headers={"Retry-After": "10"}) from None
            raise

    def _forget(self, person: str, turn: asyncio.Future[None]) -> None:
        own = self._waiting.get(person)
        if own is not None and turn in own:
            own.remove(turn)
            if not own:
                del self._waiting[person]

    def _end(self, person: str) -> None:
        self._running[person] -= 1
        if not self._running[person]:
            del self._running[person]
        for other in list(self._waiting):
            while other in self._waiting and self._free(other):
                own = self._waiting[other]
                turn = own.popleft()
                if own:
                    self._waiting.move_to_end(other)
                else:
                    del self._waiting[other]
                if not turn.done():
                    self._running[other] += 1
                    turn.set_result(None)
                    break
