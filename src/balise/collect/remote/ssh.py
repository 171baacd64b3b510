"""A host read over SSH, with one connection that is kept."""

from __future__ import annotations

import asyncio
import logging
import secrets
import socket
import time
import zlib
from collections.abc import Mapping, Sequence

import asyncssh

from balise.api.credentials import SshCredential
from balise.api.inventory import EVENT
from balise.api.places import is_nobodys
from balise.api.remote import FollowedFile, RemoteTarget
from balise.collect.inventory import UPGRADES_EVERY
from balise.collect.readings import Kept
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
from balise.core.kits.logs import LogReader

MOST_ANSWER = 8 << 20
MOST_COMPLAINT = 16_384
VERIFY_EVERY = 60.0
"""Seconds between looks at the key that the host shows to a new connection: a kept one would never notice a change."""
FACTS_EVERY = 3600.0
INVENTORY_LIMIT = 120.0
log = logging.getLogger(__name__)
logging.getLogger("asyncssh").setLevel(logging.ERROR)


_FINGERPRINT = "SHA256:"


def fingerprint(key: str) -> str:
    """`SHA256:…` of a public key in OpenSSH's one-line form, as ssh-keygen -l prints it; of a fingerprint, itself."""
    if not key or key.startswith(_FINGERPRINT):
        return key
    return asyncssh.import_public_key(key).get_fingerprint()


class _Doorkeeper(asyncssh.SSHClient):
    """Takes the host's key when none is pinned, else no other than the pinned one."""

    def __init__(self, pinned: str) -> None:
        self._pinned = pinned
        self.shown: asyncssh.SSHKey | None = None

    def validate_host_public_key(self, host: str, addr: str, port: int, key: asyncssh.SSHKey) -> bool:
        del host, addr, port
        self.shown = key
        return is_pinned(self._pinned, key)


def is_pinned(pinned: str, key: asyncssh.SSHKey) -> bool:
    """Whether a key is the pinned one, given in full or as its SHA256 fingerprint; nothing pinned takes any."""
    if not pinned:
        return True
    if pinned.startswith(_FINGERPRINT):
        return key.get_fingerprint() == pinned
    return bool(key.public_data == asyncssh.import_public_key(pinned).public_data)


class SshLink:
    """One host over SSH. `host_key` is the pinned key, taken on first use."""

    def __init__(self, target: RemoteTarget, gate: asyncio.Semaphore) -> None:
        self._gate = gate
        if not isinstance(target.credential, SshCredential):
            raise LinkProblem("wrong-credential", "this credential is not for SSH: name one of kind ssh")
        self._target = target
        self._credential = target.credential
        self.host_key = target.host_key
        self._positions = dict(target.positions)
        self._connection: asyncssh.SSHClientConnection | None = None
        self._host = LinuxHost(target.off)
        self._facts_at = 0.0
        self._verified_at = 0.0
        # A fleet that is taken up together does not tell its inventories together.
        first = 0.0 if target.refresh else zlib.crc32(target.host.encode()) % 300 + 5.0
        self._inventory_due = time.monotonic() + first
        self._pending, self._pending_at = "", 0.0
        self._inventory_task: asyncio.Task[list[Kept]] | None = None

    async def read(self, now: float) -> Taken:
        connection = await self._connected()
        began = time.monotonic()
        nonce = secrets.token_hex(8)
        tell_facts = began - self._facts_at > FACTS_EVERY or not self._facts_at
        follow = self._target.follow
        asked = script(nonce, facts=tell_facts, follow=follow, positions=self._positions)
        async with asyncio.timeout(self._target.time_limit):
            text = await self._run(connection, asked)
        moment = time.monotonic()
        try:
            parts = parts_of(text, nonce)
            found = self._host.found(parts, now, moment)
            facts = self._host.facts(parts, self._target.host, now) if tell_facts else None
        except Unreadable as error:
            raise LinkProblem("no-permission", f"{self._credential.user} may sign in but not look: {error}") from None
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
        self._take_inventory(taken, connection, now)
        return taken

    def _take_inventory(self, taken: Taken, connection: asyncssh.SSHClientConnection, now: float) -> None:
        """Hands over the inventory that was read meanwhile, and begins to read it again when that is due."""
        task = self._inventory_task
        if task is not None and task.done():
            self._inventory_task = None
            if not task.cancelled():
                taken.kept.extend(task.result())
        every = self._target.inventory_every
        if task is None and every is not None and time.monotonic() >= self._inventory_due:
            self._inventory_due = time.monotonic() + every
            self._inventory_task = asyncio.create_task(self._inventory(connection, now))

    def _take_lines(
        self,
        taken: Taken,
        follow: Sequence[FollowedFile],
        parts: Mapping[str, str],
        now: float,
        readers: Mapping[str, LogReader],
    ) -> None:
        for number, file in enumerate(follow):
            held = self._positions.get(file.path)
            text = parts.get(f"follow-{number}", "")
            lines, position, status = followed(file, text, held, now, readers.get(file.path))
            taken.lines.extend(lines)
            taken.files.append(status)
            if position:
                taken.positions[file.path] = position

    async def _inventory(self, connection: asyncssh.SSHClientConnection, now: float) -> list[Kept]:
        """What is on the host, kind by kind. What cannot be told this time is told the next."""
        nonce = secrets.token_hex(8)
        began = time.monotonic()
        ask_pending = not self._pending_at or began - self._pending_at > UPGRADES_EVERY
        asked = {**INVENTORY, **(PENDING if ask_pending else {})}
        try:
            async with asyncio.timeout(INVENTORY_LIMIT):
                parts = parts_of(await self._run(connection, script_of(nonce, asked)), nonce)
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
        connection = await self._connected()
        nonce = secrets.token_hex(8)
        asked = script_of(nonce, follow_parts(self._target.follow, self._positions))
        async with asyncio.timeout(self._target.time_limit):
            parts = parts_of(await self._run(connection, asked), nonce)
        self._take_lines(taken, self._target.follow, parts, now, readers)

    async def command(self, text: str, limit: float, most: int) -> tuple[int, str, str]:
        """What /bin/sh says to one command, on both ways, and its status; within a time and a number of letters."""
        connection = await self._connected()
        async with asyncio.timeout(limit):
            return await self._said(connection, text, most)

    def adopt(self, target: RemoteTarget) -> None:
        self._target = target
        self._positions = dict(target.positions)

    def settle(self, taken: Taken) -> None:
        self._positions.update(taken.positions)

    async def _run(self, connection: asyncssh.SSHClientConnection, text: str) -> str:
        return (await self._said(connection, text, MOST_ANSWER))[1]

    async def _said(self, connection: asyncssh.SSHClientConnection, text: str, most: int) -> tuple[int, str, str]:
        """What /bin/sh says to a script on its standard input: the account's own shell does not matter."""
        try:
            async with connection.create_process("/bin/sh -s", encoding="utf-8", errors="surrogateescape") as process:
                process.stdin.write(text)
                process.stdin.write_eof()
                said: list[str] = []
                size = 0
                while part := await process.stdout.read(1 << 18):
                    said.append(part)
                    size += len(part)
                    if size > most:
                        raise LinkProblem("failed", f"the host says more than {most >> 20} MiB: nothing is read")
                complaint = await process.stderr.read(MOST_COMPLAINT)
                await process.wait_closed()
                status = process.exit_status
                return status if status is not None else -1, "".join(said), complaint
        except (asyncssh.Error, OSError) as error:
            if isinstance(error, TimeoutError):
                raise
            await self.close()
            raise LinkProblem("failed", f"the connection broke: {_words(error)}") from None

    async def _connected(self) -> asyncssh.SSHClientConnection:
        if self._connection is not None and not self._connection.is_closed():
            if time.monotonic() - self._verified_at > VERIFY_EVERY:
                await self._verify()
            return self._connection
        keeper = _Doorkeeper(self.host_key)
        greeted = await self._greeted()
        try:
            async with self._gate, asyncio.timeout(self._target.time_limit):
                self._connection = await self._shake_hands(greeted, keeper)
        except asyncssh.HostKeyNotVerifiable:
            shown = keeper.shown.get_fingerprint() if keeper.shown else "another one"
            raise self._another_key(shown) from None
        except asyncssh.KeyExchangeFailed as error:
            if self.host_key:
                raise LinkProblem(
                    "wrong-host-key",
                    f"the host no longer has a key of the pinned kind ({fingerprint(self.host_key)}): if it was set up "
                    "anew, accept its new key",
                ) from None
            raise LinkProblem("failed", f"no common way to encrypt: {_words(error)}") from None
        except asyncssh.PermissionDenied:
            raise LinkProblem("wrong-credential", self._denied()) from None
        except (asyncssh.Error, ConnectionError) as error:
            raise LinkProblem("failed", f"no connection: {_words(error)}") from None
        finally:
            if self._connection is None:
                greeted.close()
        self._verified_at = time.monotonic()
        if keeper.shown and (not self.host_key or self.host_key.startswith(_FINGERPRINT)):
            self.host_key = keeper.shown.export_public_key("openssh").decode().strip()
        return self._connection

    async def _greeted(self) -> socket.socket:
        """A connection on whose other end somebody has begun to speak (RFC 4253 section 4.2): waiting costs nothing."""
        loop = asyncio.get_running_loop()
        where = f"{self._target.address} port {self._target.port}"
        made: socket.socket | None = None
        try:
            async with asyncio.timeout(self._target.time_limit):
                kind, *_, place = (
                    await loop.getaddrinfo(self._target.address, self._target.port, type=socket.SOCK_STREAM)
                )[0]
                if is_nobodys(str(place[0])):
                    raise LinkProblem("failed", f"{where} leads to {place[0]}, which is no server's address")
                made = socket.socket(kind, socket.SOCK_STREAM)
                made.setblocking(False)
                await loop.sock_connect(made, place)
                spoke = loop.create_future()
                loop.add_reader(made, lambda: None if spoke.done() else spoke.set_result(None))
                try:
                    await spoke
                finally:
                    loop.remove_reader(made)
            return made
        except ConnectionRefusedError:
            _close(made)
            raise LinkProblem("refused", f"nothing listens on {where}: is sshd running, on this port?") from None
        except OSError as error:
            _close(made)
            if isinstance(error, TimeoutError):
                raise TimeoutError from None
            raise LinkProblem("failed", f"no connection to {where}: {_words(error)}") from None
        except BaseException:
            _close(made)
            raise

    async def _shake_hands(self, greeted: socket.socket, keeper: _Doorkeeper) -> asyncssh.SSHClientConnection:
        return await asyncssh.connect(
            self._target.address,
            self._target.port,
            sock=greeted,
            username=self._credential.user,
            password=self._credential.password.reveal() if self._credential.password else None,
            client_keys=self._keys() or None,
            passphrase=None,
            known_hosts=([], [], []),
            client_factory=lambda: keeper,
            server_host_key_algs=_algorithms(self.host_key) or "default",
            agent_path=None,
            config=None,
            gss_host=None,
            preferred_auth="publickey,password,keyboard-interactive",
            keepalive_interval=30,
            connect_timeout=None,
            login_timeout="10m",
        )

    async def _verify(self) -> None:
        """Looks whether the host still shows the pinned key to those who come anew."""
        self._verified_at = time.monotonic()
        try:
            async with self._gate, asyncio.timeout(self._target.time_limit):
                shown = await asyncssh.get_server_host_key(
                    self._target.address,
                    self._target.port,
                    server_host_key_algs=_algorithms(self.host_key) or "default",
                    config=None,
                )
        except (asyncssh.Error, OSError):
            # Whether the kept connection still works is told by using it.
            return
        if shown is not None and not is_pinned(self.host_key, shown):
            raise self._another_key(shown.get_fingerprint())

    def _another_key(self, shown: str) -> LinkProblem:
        return LinkProblem(
            "wrong-host-key",
            f"the host key has changed: pinned is {fingerprint(self.host_key)}, the host shows {shown}. If the host "
            "was set up anew, accept its new key; if not, somebody may stand in between",
        )

    def _denied(self) -> str:
        by = " and ".join(
            part
            for part, there in (("key", self._credential.private_key), ("password", self._credential.password))
            if there
        )
        hint = "and its key in authorized_keys" if self._credential.private_key else "and may it sign in by password"
        return f"the host does not let {self._credential.user} in with this {by}: is the user there, {hint}?"

    def _keys(self) -> Sequence[asyncssh.SSHKey]:
        if not self._credential.private_key:
            return []
        try:
            passphrase = self._credential.passphrase.reveal() if self._credential.passphrase else None
            return [asyncssh.import_private_key(self._credential.private_key.reveal(), passphrase)]
        except (asyncssh.KeyImportError, asyncssh.KeyEncryptionError) as error:
            raise LinkProblem("wrong-credential", f"the private key cannot be read: {_words(error)}") from None

    async def close(self) -> None:
        connection, self._connection = self._connection, None
        if self._inventory_task is not None and self._inventory_task is not asyncio.current_task():
            self._inventory_task.cancel()
            self._inventory_task = None
        if connection is not None:
            connection.abort()
            await asyncio.sleep(0)


def _close(made: socket.socket | None) -> None:
    if made is not None:
        made.close()


def _algorithms(pinned: str) -> list[str]:
    """The host key algorithms that lead to a key of the pinned kind."""
    if not pinned or pinned.startswith(_FINGERPRINT):
        return []
    key = asyncssh.import_public_key(pinned)
    return [name.decode("ascii") for name in key.sig_algorithms]


def _words(error: BaseException) -> str:
    text = str(getattr(error, "reason", "") or getattr(error, "strerror", "") or error or type(error).__name__)
    return text[:200]
