"""A service read over the network as its kit says; what looks at its host itself is done there over SSH."""

from __future__ import annotations

import asyncio
from concurrent.futures import ThreadPoolExecutor

from balise.api.credentials import SshCredential
from balise.api.remote import RemoteTarget
from balise.api.services import ServicePart
from balise.collect.kits.reader import ServiceReader, lines_of, reading_of, turn_of
from balise.collect.kits.sources.source import filled
from balise.collect.remote.hand import SshHand
from balise.collect.remote.link import LinkProblem, Taken
from balise.collect.remote.linux import Unreadable
from balise.core.kits.logs import LogReader

_READERS = ThreadPoolExecutor(48, thread_name_prefix="kit")
"""Services are read on threads of their own: most of the time one waits for the other side."""


class KitLink:
    """One service, and the connections to it that its reader keeps. A target's credential is for its host, by SSH."""

    def __init__(self, target: RemoteTarget) -> None:
        if target.service is None:
            raise LinkProblem("failed", "the target names no service")
        self._service = service = target.service
        self._hand: SshHand | None = None
        if isinstance(target.credential, SshCredential):
            self._hand = SshHand(target, asyncio.get_running_loop())
        self._reader = ServiceReader(service, hand=self._hand)
        forms = {filled(one.path, service.target): one for one in service.kit.logs}
        self._logs = {file.path: LogReader(forms[file.path]) for file in target.follow if file.path in forms}

    @property
    def host_key(self) -> str:
        return self._hand.link.host_key if self._hand is not None else ""

    async def read(self, now: float) -> Taken:
        loop = asyncio.get_running_loop()
        read = await loop.run_in_executor(_READERS, self._reader.read, now)
        turn = turn_of(read)
        taken = Taken(read.readings, read.meanings, read.seconds, kept=read.kept, problem=read.problem, turn=turn)
        if self._hand is not None and self._logs and not read.problem:
            turn.parts.append(ServicePart(part="logs", seconds=0.0, problem=await self._follow(self._hand, taken, now)))
        return taken

    async def _follow(self, hand: SshHand, taken: Taken, now: float) -> str | None:
        """Takes the new lines of the service's logs; answers why not, which is no reason to lose what else was read."""
        try:
            await hand.link.follow(taken, self._logs, now)
        except TimeoutError:
            return "the host did not answer over SSH in time"
        except (LinkProblem, Unreadable) as problem:
            return str(problem)
        taken.lines[:] = lines_of(self._service.name, taken.lines)
        for reader in self._logs.values():
            taken.readings.extend(reading_of(value, self._service.name) for value in reader.values())
        lost = [f for f in taken.files if f["status"] not in ("following", "empty")]
        return "; ".join(f"{f['path']}: {f['detail']}" for f in lost) or None

    def adopt(self, target: RemoteTarget) -> None:
        """A service's connections are never another's."""

    def settle(self, taken: Taken) -> None:
        """What was read of logs is kept: the next reading goes on behind it."""
        if self._hand is not None:
            self._hand.link.settle(taken)

    async def close(self) -> None:
        if self._hand is not None:
            await self._hand.link.close()
        await asyncio.get_running_loop().run_in_executor(_READERS, self._reader.close)
