"""One connection over SSH that is kept, to a host that shows the pinned key."""

from __future__ import annotations

import asyncio
import logging
import socket
import time
from collections.abc import Sequence

import asyncssh

from balise.api.credentials import SshCredential
from balise.api.places import is_nobodys
from balise.api.remote import RemoteTarget
from balise.collect.remote.link import LinkProblem

MOST_ANSWER = 8 << 20
MOST_COMPLAINT = 16_384
VERIFY_EVERY = 60.0
"""Seconds between looks at the key that the host shows to a new connection: a kept one would never notice a change."""
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


class SshConnection:
    """A connection that is opened when it is wanted. `host_key` is the pinned key, taken on first use."""

    def __init__(self, target: RemoteTarget, gate: asyncio.Semaphore) -> None:
        if not isinstance(target.credential, SshCredential):
            raise LinkProblem("wrong-credential", "this credential is not for SSH: name one of kind ssh")
        self._target = target
        self._gate = gate
        self._credential = target.credential
        self.host_key = target.host_key
        self.user = self._credential.user
        self._connection: asyncssh.SSHClientConnection | None = None
        self._verified_at = 0.0

    async def open(self) -> None:
        """Sees that there is a connection to the right host. Raises LinkProblem, TimeoutError."""
        if self._connection is not None and not self._connection.is_closed():
            if time.monotonic() - self._verified_at > VERIFY_EVERY:
                await self._verify()
            return
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

    async def say(self, text: str, most: int) -> tuple[int, str, str]:
        """What /bin/sh says to a script on its standard input, on both ways, and its status: the account's own shell
        does not matter. Raises LinkProblem when the connection is not open any more."""
        connection = self._connection
        if connection is None:
            raise LinkProblem("failed", "the connection broke")
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

    async def run(self, text: str) -> str:
        """What a script writes to its standard output, within limits."""
        return (await self.say(text, MOST_ANSWER))[1]

    def adopt(self, target: RemoteTarget) -> None:
        self._target = target

    async def close(self) -> None:
        connection, self._connection = self._connection, None
        if connection is not None:
            connection.abort()
            await asyncio.sleep(0)

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
