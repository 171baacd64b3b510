"""Reading many distant hosts again and again, each at its own interval, none waiting for a slow one."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import time
import zlib
from collections.abc import Awaitable, Callable, Iterable
from dataclasses import dataclass, field

from balise.api.remote import RemoteTarget
from balise.api.services import ServiceTurn
from balise.collect.remote.link import AT_ONCE, Link, LinkProblem, Taken
from balise.collect.remote.open import open_link
from balise.collect.remote.trial import no_answer
from balise.collect.work import Failures

log = logging.getLogger(__name__)
LONGEST_PAUSE = 300.0
"""Seconds between tries of a host that fails: twice the interval after each, up to this."""

Sink = Callable[[RemoteTarget, float, Taken], Awaitable[None]]
"""Takes what was read at a time, unix seconds; returning means that it is kept durably."""


@dataclass
class Turn:
    """How reading a host goes. `cost` is seconds for the last reading."""

    target: RemoteTarget
    problem: str | None = None
    result: str = ""
    cost: float | None = None
    failures: int = 0
    host_key: str = ""
    files: list[dict[str, object]] = field(default_factory=list)
    service: ServiceTurn | None = None


class Rounds:
    """Reads every target it has, at most `side_by_side` at once.

    Hosts that failed last time take turns of their own, so that any number of dead ones never holds up the living.

    Args:
        sink: where readings go.
        listener: told of every turn, good or bad.
        gate: how many may shake hands at once.
        spare: a link to a target that is open already, from its trial.
    """

    def __init__(
        self,
        sink: Sink,
        listener: Callable[[Turn], None],
        *,
        side_by_side: int = 100,
        gate: asyncio.Semaphore | None = None,
        spare: Callable[[RemoteTarget], Link | None] = lambda _target: None,
    ) -> None:
        self._spare = spare
        self._sink = sink
        self._gate = gate or asyncio.Semaphore(AT_ONCE)
        self._listener = listener
        self.side_by_side = side_by_side
        self.failures = Failures("remote")
        self._living = asyncio.Semaphore(side_by_side)
        self._failing = asyncio.Semaphore(max(1, side_by_side // 2))
        self._tasks: dict[tuple[int, int], tuple[RemoteTarget, asyncio.Task[None]]] = {}

    async def set_targets(self, targets: Iterable[RemoteTarget]) -> None:
        """From now on reads these. A host whose target has not changed keeps its connection and its rhythm."""
        wanted = {t.key: t for t in targets}
        ended = [key for key, (target, _) in self._tasks.items() if not _same(wanted.get(key), target)]
        for key in ended:
            await self._end(key)
        for key, target in wanted.items():
            if key not in self._tasks or self._tasks[key][1].done():
                self._tasks[key] = (target, asyncio.create_task(self._keep_reading(target)))

    @property
    def hosts(self) -> list[int]:
        return sorted({host for host, _ in self._tasks})

    async def close(self) -> None:
        for _, task in self._tasks.values():
            task.cancel()
        await asyncio.gather(*(task for _, task in self._tasks.values()), return_exceptions=True)
        self._tasks.clear()

    async def _end(self, key: tuple[int, int]) -> None:
        _, task = self._tasks.pop(key)
        task.cancel()
        with contextlib.suppress(asyncio.CancelledError):
            await task

    async def _keep_reading(self, target: RemoteTarget) -> None:
        turn = Turn(target, host_key=target.host_key)
        link = self._spare(target)
        due = time.monotonic() + first_wait(target)
        try:
            while True:
                await asyncio.sleep(max(0.0, due - time.monotonic()))
                async with self._failing if turn.failures else self._living:
                    link = await self._turn(target, link, turn)
                try:
                    self._listener(turn)
                except Exception as error:
                    self.failures.note(error, time.time())
                    log.exception("host=%s the turn could not be noted", target.host)
                due = max(due + pause_after(target.every, turn.failures), time.monotonic())
        finally:
            if link is not None:
                await link.close()

    async def _turn(self, target: RemoteTarget, link: Link | None, turn: Turn) -> Link | None:
        """Reads once; answers the link for the next time, None when it has to be opened anew."""
        try:
            link = link or open_link(target, self._gate)
            await self._read(target, link, turn)
            return link
        except LinkProblem as problem:
            failure = problem
        except TimeoutError:
            failure = LinkProblem("timed-out", no_answer(target))
        except Exception as error:
            log.exception("host=%s", target.host)
            failure = LinkProblem("failed", f"{type(error).__name__}: {str(error)[:200]}")
        try:
            await self._failed(link, turn, failure)
        except Exception as error:
            self.failures.note(error, time.time())
            log.exception("host=%s its link could not be closed", target.host)
        return None

    async def _read(self, target: RemoteTarget, link: Link, turn: Turn) -> None:
        now = time.time()
        taken = await link.read(now)
        await self._sink(target, now, taken)
        link.settle(taken)
        if turn.failures:
            log.info("host=%s is read again", target.host)
        turn.problem, turn.result, turn.failures = taken.problem, "", 0
        turn.cost, turn.files = taken.seconds, taken.files
        turn.host_key = link.host_key
        turn.service = taken.turn
        held = self._tasks.get(target.key)
        if held is not None and held[0].host_key != link.host_key:
            self._tasks[target.key] = (held[0].model_copy(update={"host_key": link.host_key}), held[1])

    @staticmethod
    async def _failed(link: Link | None, turn: Turn, failure: LinkProblem) -> None:
        message = str(failure)
        if turn.problem != message:
            log.warning("host=%s result=%s %s", turn.target.host, failure.result, message)
        turn.problem, turn.result, turn.service = message, failure.result, None
        turn.failures += 1
        if link is not None:
            await link.close()


def _same(wanted: RemoteTarget | None, running: RemoteTarget) -> bool:
    """Whether a target is read in the same way; how far its files are read is the link's own business.

    A key that is pinned meanwhile changes nothing; one that was let go of, or another, does.
    """
    if wanted is None or running.host_key not in ("", wanted.host_key):
        return False
    apart = {"positions": {}, "host_key": ""}
    return wanted.model_copy(update=apart) == running.model_copy(update=apart)


def first_wait(target: RemoteTarget) -> float:
    """Seconds before a host's first reading: its name decides, so that hosts are spread over the interval."""
    return min(target.every, 10.0) * (zlib.crc32(f"{target.host} {target.key[1]}".encode()) % 1000) / 1000


def pause_after(every: float, failures: int) -> float:
    """Seconds between turns: the interval, and after failures twice as long each time, up to five minutes."""
    return every if not failures else max(every, min(LONGEST_PAUSE, every * 2.0 ** min(failures - 1, 10)))
