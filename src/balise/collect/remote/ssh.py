"""A host read over SSH, with one connection that is kept."""

from __future__ import annotations

import asyncio
import logging
import secrets
import time
import zlib
from collections.abc import Mapping, Sequence

from balise.api.inventory import EVENT
from balise.api.remote import FollowedFile, RemoteTarget
from balise.collect.follow import LineReader
from balise.collect.inventory import UPGRADES_EVERY
from balise.collect.paths import is_pattern
from balise.collect.readings import Kept
from balise.collect.remote.globs import find_command, named
from balise.collect.remote.inventory import PENDING, inventory_of, problem_of
from balise.collect.remote.inventory import SCRIPT as INVENTORY
from balise.collect.remote.link import LinkProblem, Taken
from balise.collect.remote.linux import (
    LinuxHost,
    Unreadable,
    follow_parts,
    followed,
    parts_of,
    script,
    script_of,
)
from balise.collect.remote.ssh_connection import SshConnection
from balise.core.events.parsers import ParserReader
from balise.core.kits.logs import LogReader

FACTS_EVERY = 3600.0
INVENTORY_LIMIT = 120.0
log = logging.getLogger(__name__)


class SshLink:
    """One host over SSH. `host_key` is the pinned key, taken on first use."""

    def __init__(self, target: RemoteTarget, gate: asyncio.Semaphore) -> None:
        self._target = target
        self._connection = SshConnection(target, gate)
        self._positions = dict(target.positions)
        self._host = LinuxHost(target.off)
        self._facts_at = 0.0
        # A fleet that is taken up together does not tell its inventories together.
        first = 0.0 if target.refresh else zlib.crc32(target.host.encode()) % 300 + 5.0
        self._inventory_due = time.monotonic() + first
        self._pending, self._pending_at = "", 0.0
        self._inventory_task: asyncio.Task[list[Kept]] | None = None
        self._named: dict[str, list[FollowedFile]] = {}
        """The files that each pattern named at the last reading."""
        self._readers: dict[str, tuple[FollowedFile, ParserReader]] = {}

    @property
    def host_key(self) -> str:
        return self._connection.host_key

    async def read(self, now: float) -> Taken:
        await self._connection.open()
        began = time.monotonic()
        nonce = secrets.token_hex(8)
        tell_facts = began - self._facts_at > FACTS_EVERY or not self._facts_at
        follow = self._followed()
        asked = script(nonce, facts=tell_facts, follow=follow, positions=self._positions, also=self._globs())
        async with asyncio.timeout(self._target.time_limit):
            text = await self._connection.run(asked)
        moment = time.monotonic()
        try:
            parts = parts_of(text, nonce)
            found = self._host.found(parts, now, moment)
            facts = self._host.facts(parts, self._target.host, now) if tell_facts else None
        except Unreadable as error:
            raise LinkProblem("no-permission", f"{self._connection.user} may sign in but not look: {error}") from None
        if facts:
            self._facts_at = began
        taken = Taken(
            found.readings,
            self._host.meanings,
            moment - began,
            kept=found.kept,
            facts=facts,
        )
        self._take_lines(taken, follow, parts, now, {})
        self._take_names(taken, parts)
        self._take_inventory(taken, now)
        return taken

    def _take_inventory(self, taken: Taken, now: float) -> None:
        """Hands over the inventory that was read meanwhile, and begins to read it again when that is due."""
        task = self._inventory_task
        if task is not None and task.done():
            self._inventory_task = None
            if not task.cancelled():
                taken.kept.extend(task.result())
        every = self._target.inventory_every
        if task is None and every is not None and time.monotonic() >= self._inventory_due:
            self._inventory_due = time.monotonic() + every
            self._inventory_task = asyncio.create_task(self._inventory(now))

    def _patterns(self) -> list[FollowedFile]:
        return [file for file in self._target.follow if is_pattern(file.path)]

    def _globs(self) -> dict[str, str]:
        """What finds the files of the patterns, for the next reading."""
        return {f"glob-{number}": find_command(file.path) for number, file in enumerate(self._patterns())}

    def _followed(self) -> list[FollowedFile]:
        """The files to follow, with those that patterns named at the last reading."""
        plain = [file for file in self._target.follow if not is_pattern(file.path)]
        named = [file for found in self._named.values() for file in found]
        return list({file.path: file for file in [*named, *plain]}.values())

    def _take_names(self, taken: Taken, parts: Mapping[str, str]) -> None:
        """Which files the patterns name now. What is new since the last reading is read from its beginning."""
        for number, file in enumerate(self._patterns()):
            before = {one.path: one for one in self._named.get(file.path, [])}
            paths = named(file.path, parts.get(f"glob-{number}", ""))
            known = file.path in self._named or any(path in self._positions for path in paths)
            begin = file.from_start or known
            self._named[file.path] = [
                before.get(path) or file.model_copy(update={"path": path, "from_start": begin}) for path in paths
            ]
            if not paths:
                nothing = {"status": "nothing-matches", "detail": "no file has a name like this"}
                taken.files.append({"path": file.path, "lines": 0, "behind": 0, **nothing})

    def _reader(self, file: FollowedFile) -> LineReader | None:
        """What reads a file's lines as its parser says; kept from reading to reading."""
        if file.parser is None:
            return None
        held = self._readers.get(file.path)
        if held is None or held[0] != file:
            held = self._readers[file.path] = (file, ParserReader(file.parser))
        return held[1]

    def _take_lines(
        self,
        taken: Taken,
        follow: Sequence[FollowedFile],
        parts: Mapping[str, str],
        now: float,
        readers: Mapping[str, LineReader],
    ) -> None:
        for number, file in enumerate(follow):
            held = self._positions.get(file.path)
            text = parts.get(f"follow-{number}", "")
            lines, position, status = followed(file, text, held, now, readers.get(file.path) or self._reader(file))
            taken.lines.extend(lines)
            taken.files.append(status)
            if position:
                taken.positions[file.path] = position

    async def _inventory(self, now: float) -> list[Kept]:
        """What is on the host, kind by kind. What cannot be told this time is told the next."""
        nonce = secrets.token_hex(8)
        began = time.monotonic()
        ask_pending = not self._pending_at or began - self._pending_at > UPGRADES_EVERY
        asked = {**INVENTORY, **(PENDING if ask_pending else {})}
        try:
            async with asyncio.timeout(INVENTORY_LIMIT):
                parts = parts_of(await self._connection.run(script_of(nonce, asked)), nonce)
            if ask_pending:
                self._pending, self._pending_at = parts.get("pending", ""), began
            found = inventory_of({**parts, "pending": self._pending})
        except Exception as error:  # noqa: BLE001  whatever a host says of itself must not stop its being read
            why = str(error) or type(error).__name__
            log.warning("host=%s its inventory cannot be read: %s", self._target.host, why)
            return []
        return [Kept(now, EVENT, {"kind": k, "items": i, "problem": problem_of(k, i)}) for k, i in found.items()]

    async def follow(self, taken: Taken, readers: Mapping[str, LogReader], now: float) -> None:
        """Takes the new lines of the target's files alone, each read by its own reader."""
        await self._connection.open()
        nonce = secrets.token_hex(8)
        asked = script_of(nonce, follow_parts(self._target.follow, self._positions))
        async with asyncio.timeout(self._target.time_limit):
            parts = parts_of(await self._connection.run(asked), nonce)
        self._take_lines(taken, self._target.follow, parts, now, readers)

    async def command(self, text: str, limit: float, most: int) -> tuple[int, str, str]:
        """What /bin/sh says to one command, on both ways, and its status; within a time and a number of letters."""
        await self._connection.open()
        async with asyncio.timeout(limit):
            return await self._connection.say(text, most)

    def adopt(self, target: RemoteTarget) -> None:
        self._target = target
        self._connection.adopt(target)
        self._positions = dict(target.positions)

    def settle(self, taken: Taken) -> None:
        self._positions.update(taken.positions)

    async def close(self) -> None:
        if self._inventory_task is not None and self._inventory_task is not asyncio.current_task():
            self._inventory_task.cancel()
            self._inventory_task = None
        await self._connection.close()
