"""Running a kit's commands and following its logs on a host that is reached over SSH."""

from __future__ import annotations

import asyncio
import shlex
from collections.abc import Coroutine, Sequence
from typing import Any, TypeVar

from balise.api.remote import RemoteTarget
from balise.collect.kits.sources.source import MOST_BYTES, SourceProblem
from balise.collect.remote.link import AT_ONCE, LinkProblem
from balise.collect.remote.ssh import SshLink

MORE = 30.0
"""Seconds that connecting may take besides the command itself."""
T = TypeVar("T")


class SshHand:
    """Does what has to be done on a host over one SSH connection, for a thread that may wait.

    Args:
        loop: the event loop that the connection lives on; never the caller's own.
    """

    def __init__(self, target: RemoteTarget, loop: asyncio.AbstractEventLoop) -> None:
        self._loop = loop
        self.link = SshLink(target, asyncio.Semaphore(AT_ONCE))

    def run(self, words: Sequence[str], limit: float) -> tuple[int, str, str]:
        text = f"LC_ALL=C; PATH=$PATH:/usr/sbin:/sbin; export LC_ALL PATH; exec {shlex.join(words)} </dev/null\n"
        return self._wait(self.link.command(text, limit, MOST_BYTES), limit)

    def read(self, path: str) -> str:
        code, out, err = self.run(("head", "-c", str(MOST_BYTES - 1), "--", path), MORE)
        if code:
            raise SourceProblem(" ".join(err.split())[:200] or f"{path} cannot be read")
        return out

    def close(self) -> None:
        asyncio.run_coroutine_threadsafe(self.link.close(), self._loop)

    def _wait(self, work: Coroutine[Any, Any, T], limit: float) -> T:
        future = asyncio.run_coroutine_threadsafe(work, self._loop)
        try:
            return future.result(limit + MORE)
        except LinkProblem as problem:
            raise SourceProblem(str(problem), lost=True) from None
        except TimeoutError:
            future.cancel()
            raise SourceProblem(f"no answer over SSH within {limit:g} s", lost=True) from None
