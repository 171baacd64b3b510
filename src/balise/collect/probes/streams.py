"""Protocols over TCP that greet, and TCP and TLS themselves."""

from __future__ import annotations

import ftplib
import imaplib
import poplib
import smtplib
import socket
import ssl
from typing import Any

from balise.api.credentials import LoginCredential
from balise.api.probes import PORTS, ProbeTarget
from balise.collect.probes.errors import ProbeFailed
from balise.collect.probes.http import judge_text
from balise.collect.probes.talk import Talk

STARTTLS = {"smtp": (b"EHLO balise.invalid\r\n", b"STARTTLS\r\n", b"2"), "imap": (b"", b"a STARTTLS\r\n", b"a OK"),
            "pop3": (b"", b"STLS\r\n", b"+OK")}  # fmt: skip


def _opened(probe: ProbeTarget, talk: Talk) -> tuple[socket.socket, dict[str, Any]]:
    place = probe.place()
    port = place.get("port") or PORTS.get(probe.body.kind)
    if port is None:
        raise ProbeFailed("the target has no port")
    line: socket.socket = talk.connect(place["address"], int(port))
    if place.get("tls") == "from-the-start" or probe.body.kind == "tls":
        expect = probe.body.expect
        line = talk.secure(line, place.get("name") or place["address"], trusted=expect.trusted, days=expect.days_left)
    line.settimeout(talk.left())
    return line, place


def probe_tcp(probe: ProbeTarget, talk: Talk) -> str:
    """Whether a connection is accepted; with a text to expect, whether the other side says it unasked."""
    line, _ = _opened(probe, talk)
    with line:
        if probe.body.expect.text is None and probe.body.expect.not_text is None:
            return "the connection was accepted"
        said = _line(line, talk)
        judge_text(probe.body.expect, said)
        return f"it greets: {said.strip()[:100]}"


def probe_tls(probe: ProbeTarget, talk: Talk) -> str:
    """Whether TLS is agreed on with a certificate that is trusted, fits the name and is good for long enough."""
    line, _ = _opened(probe, talk)
    with line:
        own = talk.certificates[0] if talk.certificates else None
        days = f", good for {own.days_left:.0f} days" if own else ""
        kind = line.version() if isinstance(line, ssl.SSLSocket) else ""
        return f"{kind}, certificate {own.subject if own else 'unread'}{days}"


def probe_ssh(probe: ProbeTarget, talk: Talk) -> str:
    """Whether an SSH server (RFC 4253) greets."""
    line, _ = _opened(probe, talk)
    with line:
        said = _line(line, talk)
    if not said.startswith("SSH-"):
        raise ProbeFailed(f"this is no SSH server: it says {said.strip()[:80]!r}")
    judge_text(probe.body.expect, said)
    return said.strip()[:100]


def _line(line: socket.socket, talk: Talk) -> str:
    with talk.phase("wait for the greeting"):
        try:
            return line.recv(4096).decode("utf-8", "replace")
        except OSError as error:
            if isinstance(error, TimeoutError):
                raise
            raise ProbeFailed(f"the connection ended before a greeting: {error.strerror}") from None


def _upgraded(probe: ProbeTarget, talk: Talk, line: socket.socket, place: dict[str, Any]) -> socket.socket:
    hello, ask, good = STARTTLS[probe.body.kind]
    with talk.phase("ask for TLS"):
        line.recv(4096)
        if hello:
            line.sendall(hello)
            line.recv(8192)
        line.sendall(ask)
        said = line.recv(4096)
    if not said.startswith(good):
        raise ProbeFailed(f"it does not start TLS: {said[:80].decode('utf-8', 'replace').strip()!r}")
    expect = probe.body.expect
    return talk.secure(line, place.get("name") or place["address"], trusted=expect.trusted, days=expect.days_left)


def _login(probe: ProbeTarget) -> tuple[str, str] | None:
    held = probe.credential
    return (held.user, held.password.reveal()) if isinstance(held, LoginCredential) else None


def probe_smtp(probe: ProbeTarget, talk: Talk) -> str:
    """Whether a mail server greets and takes EHLO (RFC 5321); signs in when there is a credential."""
    client = smtplib.SMTP(local_hostname="balise.invalid")
    line, place = _opened(probe, talk)
    try:
        if place.get("tls") == "starttls":
            line = _upgraded(probe, talk, line, place)
        client.sock = line
        if place.get("tls") != "starttls":
            with talk.phase("wait for the greeting"):
                code, said = client.getreply()
            if code != 220:
                raise ProbeFailed(f"it greets with {code}: {said[:100].decode('utf-8', 'replace')}")
        with talk.phase("say hello"):
            code, said = client.ehlo()
        if code != 250:
            raise ProbeFailed(f"it answers EHLO with {code}")
        if login := _login(probe):
            with talk.phase("sign in"):
                client.login(*login)
    except smtplib.SMTPException as error:
        words = " ".join(str(a.decode("utf-8", "replace") if isinstance(a, bytes) else a) for a in error.args)
        raise ProbeFailed(f"smtp says: {words[:200]}") from None
    finally:
        line.close()
    text = said.decode("utf-8", "replace")
    judge_text(probe.body.expect, text)
    return text.splitlines()[0][:100]


class _Imap(imaplib.IMAP4):
    """The library's client over a connection that is open already."""

    def __init__(self, line: socket.socket) -> None:
        self._line = line
        super().__init__("")

    def _create_socket(self, timeout: float | None = None) -> socket.socket:
        del timeout
        return self._line


def probe_imap(probe: ProbeTarget, talk: Talk) -> str:
    """Whether an IMAP server greets (RFC 9051); with a credential, whether it lets that in."""
    line, place = _opened(probe, talk)
    try:
        if place.get("tls") == "starttls":
            raise ProbeFailed("imap: take tls from-the-start, or none")
        with talk.phase("wait for the greeting"):
            client = _Imap(line)
        if login := _login(probe):
            with talk.phase("sign in"):
                client.login(*login)
        said = client.welcome.decode("utf-8", "replace")
        judge_text(probe.body.expect, said)
        return said[:100]
    except imaplib.IMAP4.error as error:
        raise ProbeFailed(f"imap says: {str(error)[:200]}") from None
    finally:
        line.close()


def probe_pop3(probe: ProbeTarget, talk: Talk) -> str:
    """Whether a POP3 server greets (RFC 1939); with a credential, whether it lets that in."""
    line, place = _opened(probe, talk)
    try:
        if place.get("tls") == "starttls":
            line = _upgraded(probe, talk, line, place)
        client = poplib.POP3.__new__(poplib.POP3)
        client.sock, client.file, client._debugging = line, line.makefile("rb"), 0  # type: ignore[attr-defined]
        client._tls_established = False  # type: ignore[attr-defined]
        client.host = place["address"]
        said = b"+OK"
        if place.get("tls") != "starttls":
            with talk.phase("wait for the greeting"):
                said = client._getresp()  # type: ignore[attr-defined]
        if login := _login(probe):
            with talk.phase("sign in"):
                client.user(login[0])
                client.pass_(login[1])
        text = said.decode("utf-8", "replace")
        judge_text(probe.body.expect, text)
        return text[:100]
    except poplib.error_proto as error:
        words = error.args[0] if error.args else error
        raise ProbeFailed(
            f"pop3 says: {(words.decode('utf-8', 'replace') if isinstance(words, bytes) else str(words))[:200]}"
        ) from None
    finally:
        line.close()


def probe_ftp(probe: ProbeTarget, talk: Talk) -> str:
    """Whether an FTP server greets (RFC 959) and lets the credential, or anybody, in."""
    line, _ = _opened(probe, talk)
    client = ftplib.FTP()  # noqa: S321  it is what is probed
    client.sock, client.timeout = line, talk.left()
    client.af = line.family
    client.file = line.makefile("r", encoding="utf-8", errors="replace")
    try:
        with talk.phase("wait for the greeting"):
            said = client.getresp()
        with talk.phase("sign in"):
            client.login(*(_login(probe) or ()))
        judge_text(probe.body.expect, said)
        return said.splitlines()[0][:100]
    except ftplib.Error as error:
        raise ProbeFailed(f"ftp says: {str(error)[:200]}") from None
    except EOFError:
        raise ProbeFailed("ftp: the connection ended") from None
    finally:
        line.close()
