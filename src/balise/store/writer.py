"""One thread that writes a database: it takes all that waits, commits once, and wakes everybody."""

from __future__ import annotations

import asyncio
import logging
import threading
from collections import deque
from collections.abc import Callable, Sequence
from concurrent.futures import Future
from typing import Any, Generic, TypeVar

T = TypeVar("T")
R = TypeVar("R")
log = logging.getLogger(__name__)

MOST_AT_ONCE = 512
GATHER = 0.015
"""Seconds at most in which others gather while many are about: each commit costs the same, whatever is in it."""
LATELY = 16
"""Groups of which the largest says how many are about."""


class Busy(Exception):
    """More waits to be written than is allowed: try again in a moment."""


class Stopped(Exception):
    """The store is being closed."""


class GroupWriter(Generic[T]):
    """Writes payloads in groups with `commit`, and runs single tasks between the groups.

    Args:
        commit: writes a group durably; raising means that none of it was written.
        limit: the weight that may wait; `put` raises `Busy` beyond it.
    """

    def __init__(self, name: str, commit: Callable[[Sequence[T]], None], *, limit: int) -> None:
        self._commit = commit
        self._limit = limit
        self._waiting: list[tuple[T, int, Any]] = []
        self._tasks: list[tuple[Callable[[], Any], Future[Any]]] = []
        self._weight = 0
        self._wake = threading.Condition()
        self._stopping = False
        self._expected = 1
        """So many are about; nobody is waited for when they are there."""
        self.failures = 0
        self._thread = threading.Thread(target=self._run, name=name, daemon=True)
        self._thread.start()

    @property
    def waiting(self) -> int:
        return self._weight

    def put(self, payload: T, weight: int = 1) -> asyncio.Future[None]:
        """A future of the running loop that is done when the payload is durable."""
        future: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self._add(payload, weight, future)
        return future

    def write(self, payload: T, weight: int = 1) -> None:
        """Waits, from an ordinary thread, until the payload is durable."""
        future: Future[None] = Future()
        self._add(payload, weight, future)
        future.result()

    def run(self, task: Callable[[], R]) -> R:
        """Runs a task on the writer's thread and waits for its result."""
        if threading.current_thread() is self._thread:
            return task()
        future: Future[R] = Future()
        with self._wake:
            if self._stopping:
                raise Stopped
            self._tasks.append((task, future))
            self._wake.notify()
        return future.result()

    def _add(self, payload: T, weight: int, future: Any) -> None:
        with self._wake:
            if self._stopping:
                raise Stopped
            if self._weight + weight > self._limit and self._weight:
                raise Busy
            self._waiting.append((payload, weight, future))
            self._weight += weight
            if len(self._waiting) >= self._expected:
                self._wake.notify()

    def close(self) -> None:
        """Writes what waits and ends the thread."""
        with self._wake:
            self._stopping = True
            self._wake.notify()
        self._thread.join(30)

    def _run(self) -> None:
        sizes: deque[int] = deque([1], LATELY)
        while True:
            with self._wake:
                self._wake.wait_for(lambda: self._waiting or self._tasks or self._stopping)
                self._expected = max(sizes)
                if self._waiting:
                    self._wake.wait_for(lambda: len(self._waiting) >= self._expected or self._stopping, GATHER)
                self._expected = 1
                group, self._waiting = self._waiting[:MOST_AT_ONCE], self._waiting[MOST_AT_ONCE:]
                tasks, self._tasks = self._tasks[:1], self._tasks[1:]
                if not group and not tasks and self._stopping:
                    return
            if group:
                sizes.append(len(group))
            try:
                if group:
                    self._write_group(group)
                for task, future in tasks:
                    _settle(future, task)
            except BaseException:
                # Nothing may end the one thread that writes.
                self.failures += 1
                log.exception("writer=%s", self._thread.name)

    def _write_group(self, group: list[tuple[T, int, Any]]) -> None:
        problem: BaseException | None = None
        try:
            self._commit([payload for payload, *_ in group])
        except BaseException as error:  # noqa: BLE001  whatever went wrong, those who wait must be told
            problem = error
            self.failures += 1
            log.error("could not write a group of %d: %s", len(group), error)
        with self._wake:
            self._weight -= sum(weight for _, weight, _ in group)
        by_loop: dict[asyncio.AbstractEventLoop, list[asyncio.Future[None]]] = {}
        for _, _, future in group:
            if isinstance(future, Future):
                future.set_exception(problem) if problem else future.set_result(None)
            else:
                by_loop.setdefault(future.get_loop(), []).append(future)
        for loop, futures in by_loop.items():
            if not loop.is_closed():
                loop.call_soon_threadsafe(_finish, futures, problem)


def _finish(futures: list[asyncio.Future[None]], problem: BaseException | None) -> None:
    for future in futures:
        if not future.done():
            if problem:
                future.set_exception(problem)
            else:
                future.set_result(None)


def _settle(future: Future[Any], task: Callable[[], Any]) -> None:
    try:
        answer = task()
    except BaseException as error:  # noqa: BLE001  it is raised again where the task was asked for
        future.set_exception(error)
    else:
        future.set_result(answer)


def tell(listeners: Sequence[Callable[..., None]], *told: Any) -> int:
    """Calls listeners with what is written; answers how many failed, which changes nothing for the others."""
    failed = 0
    for listener in listeners:
        try:
            listener(*told)
        except Exception:
            failed += 1
            log.exception("listener=%r", listener)
    return failed
