"""What every way of asking a service has in common."""

from __future__ import annotations

import ipaddress
import socket
import time
from collections.abc import Hashable, Mapping, Sequence
from typing import Any, Protocol, runtime_checkable

from balise.api.credentials import CredentialBody, LoginCredential
from balise.api.kits import Target
from balise.api.places import is_nobodys
from balise.core.kits.reading import refused_sql

MOST_BYTES = 4 << 20
"""Bytes of one answer; a longer one is refused."""
MOST_ROWS = 2000
Rows = list[dict[str, Any]]


class SourceProblem(Exception):
    """A service that could not be asked.

    Args:
        message: what is wrong and what to do, for people.
        lost: whether the connection itself failed, so that asking further makes no sense.
    """

    def __init__(self, message: str, *, lost: bool = False) -> None:
        super().__init__(message)
        self.lost = lost


class Source(Protocol):
    """One protocol, spoken to one service over a connection that is kept between questions."""

    def ask(self, question: Mapping[str, Any]) -> Rows:
        """The answer as rows. Raises SourceProblem."""

    def close(self) -> None: ...


READS = "may only read"


@runtime_checkable
class Account(Protocol):
    """A source that can say what its account may do beyond what is asked of it."""

    def may_write(self) -> str:
        """What lets the account write, in words; empty when it may only read. Raises SourceProblem."""


class Accounts:
    """Whether accounts may write, asked of each once an hour: it takes a look at all that a server has."""

    def __init__(self, *, again: float = 3600.0, most: int = 1000) -> None:
        self._again = again
        self._most = most
        self._known: dict[Hashable, tuple[float, str | None]] = {}

    def of(self, whose: Hashable, source: Source) -> str | None:
        """What a source's account may do, in words; None where that cannot be asked."""
        at, said = self._known.get(whose, (0.0, None))
        now = time.monotonic()
        if whose not in self._known or now - at > self._again:
            if len(self._known) >= self._most:
                self._known.clear()
            said = _account_of(source)
            self._known[whose] = now, said
        return said


def _account_of(source: Source) -> str | None:
    if not isinstance(source, Account):
        return None
    try:
        why = source.may_write()
    except SourceProblem:
        return None
    return f"may write ({why}): grant it what the kit asks for and no more" if why else READS


class Hand(Protocol):
    """Does on a service's own host what needs to be there: this host, or one that is reached over SSH."""

    def run(self, words: Sequence[str], limit: float) -> tuple[int, str, str]:
        """Runs a program, never a shell: its status, what it said, what it complained. Raises SourceProblem."""

    def read(self, path: str) -> str:
        """A file's text. Raises SourceProblem."""


class Asked(Protocol):
    """Makes a source for a target."""

    def __call__(self, target: Target, credential: CredentialBody | None, time_limit: float, **more: Any) -> Source: ...


def filled(text: str, target: Mapping[str, Any]) -> str:
    """Text with the target's fields in place of `{field}`; braces around anything else stay as they are."""
    for name, held in target.items():
        text = text.replace("{" + name + "}", str(held))
    return text


def statement_of(question: Mapping[str, Any], target: Mapping[str, Any]) -> str:
    """The SQL of a question; `{field}` alone stands for a statement that the target has.

    Raises:
        SourceProblem: the target has none, or it does more than ask.
    """
    text = str(question.get("sql") or "").strip()
    if text.startswith("{") and text.endswith("}"):
        held = target.get(text[1:-1])
        if not held:
            raise SourceProblem(f"the target has no {text[1:-1]}")
        text = str(held)
    if why := refused_sql(text):
        raise SourceProblem(why)
    return text


def with_value(rows: Rows) -> Rows:
    """A row of one column has it under the name `value` too."""
    return [{**row, "value": next(iter(row.values()))} if len(row) == 1 else row for row in rows]


def login_of(credential: CredentialBody | None) -> tuple[str, str] | None:
    """User and password, or nothing."""
    if isinstance(credential, LoginCredential):
        return credential.user, credential.password.reveal()
    return None


def place_of(target: Target, default_port: int) -> tuple[str, int]:
    """Address and port, the address checked as far as it can be."""
    address = str(target.get("address") or "127.0.0.1")
    port = int(target.get("port") or default_port)
    return safe_address(address, port), port


def safe_address(address: str, port: int) -> str:
    """The address that a name stands for, when connecting to it cannot reach a place that is no server.

    Raises:
        SourceProblem: the name is unknown, or leads to a link-local, multicast or reserved address.
    """
    try:
        ipaddress.ip_address(address)
        found = [address]
    except ValueError:
        try:
            found = [str(i[4][0]) for i in socket.getaddrinfo(address, port, type=socket.SOCK_STREAM)]
        except (OSError, UnicodeError):
            raise SourceProblem(f"the name {address!r} is not known to the resolver here", lost=True) from None
    if any(is_nobodys(one) for one in found):
        raise SourceProblem(f"{address} leads to a link-local, multicast or reserved address", lost=True)
    return found[0]


def plain_reason(error: OSError) -> str:
    """An operating system's error in words."""
    if isinstance(error, TimeoutError):
        return "did not answer in time"
    if isinstance(error, ConnectionRefusedError):
        return "refused the connection: does the service run, and is the port right?"
    return str(error.strerror or error)
