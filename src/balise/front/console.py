"""The console as the front knows it: whoever is asked, and answers some time."""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Mapping
from itertools import count
from typing import Any

from balise.front.frames import PATHS, Caller, Ends, Kind, Line, Sent, Taken, counted, packed_request, unpacked_head


class Gone(Exception):
    """The console is not there any more."""


class Broken(Exception):
    """An answer broke off."""


class Answer:
    """An answer that comes bit by bit; whoever takes it says so, as only so much is sent ahead."""

    def __init__(self, console: Console, number: int) -> None:
        self._console = console
        self._number = number
        self._waits: deque[bytes | Exception] = deque()
        self._there = asyncio.Event()
        self._ended = False

    def put(self, found: bytes | Exception) -> None:
        """What comes next: the head, a part of the content, or why there is nothing more to wait for."""
        self._waits.append(found)
        self._there.set()

    async def head(self) -> tuple[int, list[tuple[bytes, bytes]], str, bool]:
        """Status, headers, who asked, "" for nobody that is known, and whether that is somebody who delivers."""
        return unpacked_head(await self._next())

    async def part(self) -> tuple[bytes, bool]:
        """The next of its content, and whether there is more."""
        content = await self._next()
        self._ended = content[0] != Ends.GOES_ON
        if content[0] == Ends.CUT:
            raise Broken
        return content[1:], not self._ended

    def took(self, size: int) -> None:
        self._console.say(Kind.MORE, self._number, counted(size))

    async def _next(self) -> bytes:
        while not self._waits:
            self._there.clear()
            await self._there.wait()
        found = self._waits.popleft()
        if isinstance(found, Exception):
            raise found
        return found

    def close(self) -> None:
        """Nothing of it is wanted any more."""
        self._console.forget(self._number)
        if not self._ended:
            self._console.say(Kind.LEFT, self._number)


class Console(Line):
    """Asks the console, over the line to it."""

    def __init__(self) -> None:
        super().__init__()
        self._numbers = count(1)
        self._questions: dict[int, asyncio.Future[bytes]] = {}
        self._answers: dict[int, Answer] = {}
        self.lost = asyncio.Event()
        self.hears |= {
            Kind.KNOWN: self._answered,
            Kind.TAKEN: self._answered,
            Kind.BEGUN: self._put,
            Kind.PART: self._put,
        }

    async def caller(self, path: str, token: str) -> Caller:
        """Whose a token is, and whether it may deliver at a path.

        Raises:
            Gone: the console went before it answered; so it is with all questions.
        """
        asked = bytes([PATHS.index(path)]) + token.encode("latin-1")
        return Caller.unpacked(await self._asked(Kind.WHO, asked))

    async def take(self, sent: Sent) -> Taken:
        """Answers once what a delivery brings is durable, or is not taken."""
        return Taken.unpacked(await self._asked(Kind.TAKE, sent.packed()))

    def ask(self, scope: Mapping[str, Any], body: bytes) -> Answer:
        """Any other request."""
        if not self.is_there:
            raise Gone
        number = next(self._numbers)
        answer = self._answers[number] = Answer(self, number)
        self.say(Kind.ASK, number, packed_request(scope, body))
        return answer

    def forget(self, number: int) -> None:
        self._answers.pop(number, None)

    async def _asked(self, kind: int, content: bytes) -> bytes:
        if not self.is_there:
            raise Gone
        number = next(self._numbers)
        answer: asyncio.Future[bytes] = asyncio.get_running_loop().create_future()
        self._questions[number] = answer
        try:
            self.say(kind, number, content)
            return await answer
        finally:
            del self._questions[number]

    def _answered(self, number: int, content: bytes) -> None:
        waiting = self._questions.get(number)
        if waiting is not None and not waiting.done():
            waiting.set_result(content)

    def _put(self, number: int, content: bytes) -> None:
        answer = self._answers.get(number)
        if answer is not None:
            answer.put(content)

    def connection_lost(self, exc: Exception | None) -> None:
        for question in self._questions.values():
            if not question.done():
                question.set_exception(Gone())
        for answer in self._answers.values():
            answer.put(Gone())
        self.lost.set()
