"""Probes that are no stream of text: names, directories, echoes, and queries whose answer is judged."""

from __future__ import annotations

import os
import socket
import struct
import time
from math import ceil
from typing import Any

from balise.api.credentials import LoginCredential
from balise.api.kits import Target
from balise.api.probes import PORTS, ProbeExpect, ProbeTarget
from balise.collect.kits.reader import source_class
from balise.collect.kits.sources.source import READS, Accounts, SourceProblem
from balise.collect.probes.errors import ProbeFailed
from balise.collect.probes.http import judge_text
from balise.collect.probes.talk import Talk

ECHO_REQUEST, ECHO_REPLY = 8, 0
_ACCOUNTS = Accounts()


def probe_dns(probe: ProbeTarget, talk: Talk) -> str:
    """Asks a DNS server (RFC 1035) for a name, and looks whether the answer has what it has to have."""
    place = probe.place()
    address, port = talk.resolve(place["address"], int(place.get("port") or PORTS["dns"]))
    name = place.get("name")
    if not name:
        raise ProbeFailed("the target has no name to ask for")
    target: Target = {"address": address, "port": port}
    with talk.phase("wait for the answer"):
        try:
            source = source_class("dns")(target, None, talk.left())
            [row] = source.ask({"name": name, "type": place.get("type") or "A"})
        except SourceProblem as problem:
            raise ProbeFailed(str(problem)) from None
    if row["rcode"] != "NOERROR":
        raise ProbeFailed(f"{name}: {row['rcode']}")
    found = [text.strip() for text in str(row["text"]).split(";") if text.strip()]
    for wanted in probe.body.expect.answers or []:
        if wanted not in found:
            raise ProbeFailed(f"{name} is {', '.join(found) or 'nothing'}; {wanted} was expected")
    if not found:
        raise ProbeFailed(f"{name} has no such record")
    judge_text(probe.body.expect, str(row["text"]))
    return f"{name} is {', '.join(found)}"[:200]


def probe_ldap(probe: ProbeTarget, talk: Talk) -> str:
    """Binds to a directory (RFC 4511) and, with a base, searches for it."""
    import ldap3
    from ldap3.core.exceptions import LDAPException

    place = probe.place()
    secure = place.get("tls") == "from-the-start"
    address, port = talk.resolve(place["address"], int(place.get("port") or (636 if secure else PORTS["ldap"])))
    login = probe.credential if isinstance(probe.credential, LoginCredential) else None
    try:
        server = ldap3.Server(
            address, port=port, use_ssl=secure, get_info=ldap3.NONE, connect_timeout=max(1, ceil(talk.left()))
        )
        with talk.phase("connect"):
            connection = ldap3.Connection(
                server,
                login.user if login else None,
                login.password.reveal() if login else None,
                receive_timeout=max(1, ceil(talk.left())),
                raise_exceptions=False,
            )
            connection.open()
        with talk.phase("bind"):
            bound = connection.bind()
        if not bound:
            raise ProbeFailed(f"it does not let the user in: {connection.result.get('description')}")
        if place.get("base"):
            with talk.phase("search"):
                found = connection.search(place["base"], "(objectClass=*)", ldap3.BASE)
            if not found:
                raise ProbeFailed(f"{place['base']} was not found: {connection.result.get('description')}")
        connection.unbind()
    except LDAPException as error:
        raise ProbeFailed(f"ldap: {str(error)[:200]}") from None
    return f"bound{' and found ' + place['base'] if place.get('base') else ''}"


def probe_icmp(probe: ProbeTarget, talk: Talk) -> str:
    """One echo (RFC 792)."""
    address, _ = talk.resolve(probe.place()["address"], 0)
    if ":" in address:
        raise ProbeFailed("an echo is sent over IPv4 alone so far")
    try:
        line = socket.socket(socket.AF_INET, socket.SOCK_DGRAM, socket.IPPROTO_ICMP)
    except PermissionError:
        try:
            line = socket.socket(socket.AF_INET, socket.SOCK_RAW, socket.IPPROTO_ICMP)
        except PermissionError:
            raise ProbeFailed(
                "this user may not send an echo here: allow it (net.ipv4.ping_group_range), or probe a port"
            ) from None
    number = int.from_bytes(os.urandom(2), "big")
    with line, talk.phase("wait for the echo"):
        line.sendto(_echo(number), (address, 0))
        while True:
            line.settimeout(talk.left())
            answer, sender = line.recvfrom(2048)
            if sender[0] == address and _is_reply(answer, number):
                return f"an echo came back in {(time.monotonic() - talk.began) * 1000:.1f} ms"


def _echo(number: int) -> bytes:
    body = b"balise" * 4
    head = struct.pack(">BBHHH", ECHO_REQUEST, 0, 0, number, number)
    return struct.pack(">BBHHH", ECHO_REQUEST, 0, checksum(head + body), number, number) + body


def checksum(data: bytes) -> int:
    """The Internet checksum (RFC 1071)."""
    data += b"\0" * (len(data) % 2)
    total: int = sum(struct.unpack(f">{len(data) // 2}H", data))
    while total >> 16:
        total = (total & 0xFFFF) + (total >> 16)
    return ~total & 0xFFFF


def _is_reply(answer: bytes, number: int) -> bool:
    # A raw socket hands over the IP header too; the sequence is ours, the identifier may be the kernel's.
    at = (answer[0] & 15) * 4 if answer and answer[0] >> 4 == 4 else 0
    return len(answer) >= at + 8 and answer[at] == ECHO_REPLY and struct.unpack_from(">H", answer, at + 6)[0] == number


def probe_query(probe: ProbeTarget, talk: Talk) -> str:
    """Signs in, asks, and judges the first value of the answer."""
    place: dict[str, Any] = probe.place()
    kind = probe.body.kind
    address, port = talk.resolve(place["address"], int(place.get("port") or PORTS[kind]))
    target: Target = {**place, "address": address, "port": port}
    target.pop("tls", None)
    question: dict[str, Any] = {"sql": probe.body.query or "select 1"}
    if kind == "redis":
        question = {"command": "call", "words": (probe.body.query or "PING").split()}
    try:
        with talk.phase("sign in"):
            source = source_class(kind)(target, probe.credential, talk.left())  # type: ignore[arg-type]
        try:
            with talk.phase("wait for the answer"):
                rows = source.ask(question)
            account = _ACCOUNTS.of((kind, address, port, getattr(probe.credential, "user", "")), source)
        finally:
            source.close()
    except SourceProblem as problem:
        raise ProbeFailed(str(problem)) from None
    value = next(iter(rows[0].values()), None) if rows else None
    judge_value(probe.body.expect, value)
    judge_text(probe.body.expect, "" if value is None else str(value))
    said = f"it answers {str(value)[:100]}"
    return f"{said}; its account {account}" if account and account != READS else said


def judge_value(expect: ProbeExpect, value: Any) -> None:
    """Whether a query's value is what it has to be. Raises ProbeFailed."""
    if expect.value is not None and str(value) != str(expect.value) and not _same_number(value, expect.value):
        raise ProbeFailed(f"it answers {str(value)[:100]!r}; {expect.value!r} was expected")
    for bound, word in ((expect.above, "above"), (expect.below, "below")):
        if bound is None:
            continue
        try:
            number = float(value)
        except (TypeError, ValueError):
            raise ProbeFailed(f"it answers {str(value)[:100]!r}, which is no number") from None
        if number <= bound if word == "above" else number >= bound:
            raise ProbeFailed(f"it answers {number:g}; a number {word} {bound:g} was expected")


def _same_number(one: Any, other: Any) -> bool:
    try:
        return float(one) == float(other)
    except (TypeError, ValueError):
        return False
