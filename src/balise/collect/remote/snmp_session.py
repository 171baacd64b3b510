"""Asking a device over SNMP v2c (RFC 3416) and v3 (RFC 3414)."""

from __future__ import annotations

import asyncio
import socket
from typing import Any

from pysnmp.hlapi.v3arch.asyncio import (
    CommunityData,
    ContextData,
    ObjectIdentity,
    ObjectType,
    SnmpEngine,
    Udp6TransportTarget,
    UdpTransportTarget,
    UsmUserData,
    bulk_cmd,
    get_cmd,
)
from pysnmp.hlapi.v3arch.asyncio import auth as protocols
from pysnmp.proto import errind
from pysnmp.proto.rfc1905 import EndOfMibView, NoSuchInstance, NoSuchObject

from balise.api.credentials import Snmp2Credential, Snmp3Credential
from balise.api.places import is_nobodys
from balise.api.remote import RemoteTarget
from balise.collect.remote.link import LinkProblem

AT_ONCE = 25
"""Rows asked for in one request: a reply stays below the 1,472 bytes of a datagram for most tables."""
MOST_ROWS = 2000
_AUTH = {
    "MD5": protocols.USM_AUTH_HMAC96_MD5,
    "SHA-1": protocols.USM_AUTH_HMAC96_SHA,
    "SHA-224": protocols.USM_AUTH_HMAC128_SHA224,
    "SHA-256": protocols.USM_AUTH_HMAC192_SHA256,
    "SHA-384": protocols.USM_AUTH_HMAC256_SHA384,
    "SHA-512": protocols.USM_AUTH_HMAC384_SHA512,
}
_PRIVACY = {
    "DES": protocols.USM_PRIV_CBC56_DES,
    "AES-128": protocols.USM_PRIV_CFB128_AES,
    "AES-192": protocols.USM_PRIV_CFB192_AES,
    "AES-256": protocols.USM_PRIV_CFB256_AES,
}

Column = dict[str, Any]
"""The values of one column of a table by the row's index."""


class SnmpSession:
    """One device, asked. There is no connection; the engine, which knows the other's boots and time, is kept."""

    def __init__(self, target: RemoteTarget) -> None:
        self._target = target
        self._engine = SnmpEngine()
        self._user = _user_data(target)
        self._transport: Any = None

    def adopt(self, target: RemoteTarget) -> None:
        self._target = target

    async def close(self) -> None:
        self._engine.close_dispatcher()

    async def columns(self, names: list[str]) -> dict[str, Column]:
        """Columns of a table by their object identifiers, each by the row's index. Raises LinkProblem."""
        try:
            async with asyncio.timeout(self._target.time_limit):
                return {name: await self.walk(name) for name in names}
        except TimeoutError:
            raise self.silence() from None

    async def get(self, names: list[str]) -> Column:
        """The values that there are, each by its object identifier. Raises LinkProblem, TimeoutError."""
        answer = await get_cmd(
            self._engine,
            self._user,
            await self._there(),
            ContextData(),
            *(ObjectType(ObjectIdentity(n)) for n in names),
        )
        return {str(name): value for name, value in self._checked(answer) if is_value(value)}

    async def walk(self, base: str) -> Column:
        """One column of a table, by GetBulk; an agent that goes in circles is left after `MOST_ROWS`."""
        found: Column = {}
        last, prefix = base, base + "."
        while len(found) < MOST_ROWS:
            answer = await bulk_cmd(
                self._engine,
                self._user,
                await self._there(),
                ContextData(),
                0,
                AT_ONCE,
                ObjectType(ObjectIdentity(last)),
            )
            rows = self._checked(answer)
            before = len(found)
            for name, value in rows:
                last = str(name)
                if not last.startswith(prefix) or isinstance(value, EndOfMibView):
                    return found
                found[last.removeprefix(prefix)] = value
            if len(found) == before:
                break
        return found

    async def _there(self) -> Any:
        if self._transport is None:
            address = await self._resolved()
            kind = Udp6TransportTarget if ":" in address else UdpTransportTarget
            each = max(0.5, self._target.time_limit / 3)
            try:
                self._transport = await kind.create((address, self._target.port), timeout=each, retries=1)
            except Exception:  # noqa: BLE001  its own classes for an address that cannot be used
                raise LinkProblem("failed", "the address cannot be used: is it right?") from None
        return self._transport

    async def _resolved(self) -> str:
        """The address that is sent to, looked at before anything goes there."""
        name, port = self._target.address, self._target.port
        try:
            found = await asyncio.get_running_loop().getaddrinfo(name, port, type=socket.SOCK_DGRAM)
        except (OSError, UnicodeError):
            raise LinkProblem("failed", f"the name {name!r} cannot be resolved: is it right?") from None
        address = str(found[0][4][0])
        if is_nobodys(address):
            raise LinkProblem("failed", f"{name} leads to {address}, which is no server's address")
        return address

    def _checked(self, answer: Any) -> list[tuple[Any, Any]]:
        problem, status, _, rows = answer
        if problem:
            raise self._problem(problem)
        if status:
            words = status.prettyPrint()
            if words in ("authorizationError", "noAccess", "readOnly"):
                raise LinkProblem("no-permission", f"the device knows this user but lets it see nothing ({words})")
            raise LinkProblem("failed", f"the device answers {words}")
        return [(name, value) for name, value in rows]

    def _problem(self, problem: Any) -> LinkProblem:
        if isinstance(problem, errind.UnknownUserName):
            return LinkProblem("wrong-credential", "the device does not know this SNMP user")
        if isinstance(problem, errind.WrongDigest | errind.AuthenticationFailure | errind.AuthenticationError):
            return LinkProblem("wrong-credential", "the device does not accept the authentication password or protocol")
        if isinstance(problem, errind.UnsupportedSecurityLevel):
            return LinkProblem("wrong-credential", "the device wants another security level (auth, privacy)")
        if isinstance(problem, errind.RequestTimedOut):
            return self.silence()
        return LinkProblem("failed", f"SNMP: {str(problem)[:200]}")

    def silence(self) -> LinkProblem:
        """What it means that nothing came back."""
        secret = "community" if isinstance(self._target.credential, Snmp2Credential) else "privacy password"
        return LinkProblem(
            "timed-out",
            f"no answer from {self._target.address} port {self._target.port}: the address or port is wrong, a filter "
            f"drops it, or the {secret} is wrong (a device answers nothing to a wrong one)",
        )


def is_value(value: Any) -> bool:
    """Whether a device has what it was asked for."""
    return not isinstance(value, NoSuchObject | NoSuchInstance | EndOfMibView)


def _user_data(target: RemoteTarget) -> Any:
    c = target.credential
    if isinstance(c, Snmp2Credential):
        return CommunityData(c.community.reveal(), mpModel=1)  # noqa: S508  many devices speak nothing newer
    if not isinstance(c, Snmp3Credential):
        raise LinkProblem("wrong-credential", "this credential is not for SNMP: name one of kind snmp")
    return UsmUserData(
        c.user,
        c.auth.password.reveal() if c.auth else None,
        c.privacy.password.reveal() if c.privacy else None,
        authProtocol=_AUTH[c.auth.protocol] if c.auth else protocols.USM_AUTH_NONE,
        privProtocol=_PRIVACY[c.privacy.protocol] if c.privacy else protocols.USM_PRIV_NONE,
    )
