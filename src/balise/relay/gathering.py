"""Writing together what waits at once."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import Generic, TypeVar

T = TypeVar("T")


class Gathering(Generic[T]):
    """While some are written on a thread, others gather: `write` gets all that wait, in order, and `written` is told
    on the loop how many they were."""

    def __init__(self, write: Callable[[list[T]], None], written: Callable[[int], None] = lambda _count: None) -> None:
        self._write = write
        self._written = written
        self._waiting: list[tuple[T, asyncio.Future[None]]] = []
        self._flushing: asyncio.Task[None] | None = None

    async def put(self, one: T) -> None:
        """Returns when it is written.

        Raises:
            OSError: it cannot be.
        """
        future: asyncio.Future[None] = asyncio.get_running_loop().create_future()
        self._waiting.append((one, future))
        if self._flushing is None or self._flushing.done():
            self._flushing = asyncio.create_task(self._flush())
        await future

    async def _flush(self) -> None:
        while self._waiting:
            batch, self._waiting = self._waiting, []
            try:
                await asyncio.to_thread(self._write, [one for one, _ in batch])
            except Exception as error:  # noqa: BLE001  whatever went wrong, those who wait must be told
                told = error if isinstance(error, OSError) else OSError(0, f"{type(error).__name__}: {error}")
                for _, future in batch:
                    if not future.done():
                        future.set_exception(OSError(told.errno, told.strerror))
                continue
            for _, future in batch:
                if not future.done():
                    future.set_result(None)
            self._written(len(batch))

    async def close(self) -> None:
        """Returns when nothing is being written any more."""
        if self._flushing is not None:
            await self._flushing
