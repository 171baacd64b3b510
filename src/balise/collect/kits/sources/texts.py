"""Asking for a text: over HTTP, on a socket, from a command or a file; the text becomes rows as the part says."""

from __future__ import annotations

import socket
import time
from collections.abc import Mapping, Sequence
from typing import Any
from urllib.parse import urljoin, urlsplit, urlunsplit

import httpx

from balise.api.credentials import CredentialBody
from balise.api.kits import Target
from balise.collect.kits.sources.running import Here
from balise.collect.kits.sources.source import (
    MOST_BYTES,
    Hand,
    Rows,
    SourceProblem,
    filled,
    login_of,
    place_of,
    plain_reason,
    safe_address,
)
from balise.core.kits.forms import FormError, rows_of


def as_rows(text: str, question: Mapping[str, Any], target: Target) -> Rows:
    """A text as rows; fields of the target stand in the words of the question."""
    words = {k: filled(v, target) if isinstance(v, str) and k != "pattern" else v for k, v in question.items()}
    try:
        return rows_of(text, {**words, "now": time.time()})
    except FormError as error:
        raise SourceProblem(str(error)) from None


class HttpSource:
    """Target: `url`, and `verify` (whether the certificate is checked).

    A question's `path` is taken from the URL's host, `query` is added to it; no redirect is followed.
    """

    def __init__(self, target: Target, credential: CredentialBody | None, time_limit: float) -> None:
        self._target = target
        self._url = str(target.get("url") or "")
        if not urlsplit(self._url).hostname:
            raise SourceProblem("the target has no url", lost=True)
        self._client = httpx.Client(
            auth=login_of(credential),
            timeout=time_limit,
            verify=target.get("verify") is not False,
            headers={"User-Agent": "balise"},
            trust_env=False,
        )

    def ask(self, question: Mapping[str, Any]) -> Rows:
        path = filled(str(question.get("path") or ""), self._target)
        url = urljoin(self._url, path) if path else self._url
        if urlsplit(url).netloc != urlsplit(self._url).netloc:
            raise SourceProblem(f"{path!r} leads to another host than the target's URL")
        place, headers, extensions = _at_checked_address(url)
        try:
            with self._client.stream("GET", place, headers=headers, extensions=extensions) as answer:
                content = b"".join(_bounded(answer))
                text = content.decode(answer.encoding or "utf-8", "replace")
                status, kind = answer.status_code, answer.headers.get("content-type", "").lower()
        except httpx.HTTPError as error:
            raise SourceProblem(f"{_shown(url)}: {_http_words(error)}", lost=True) from None
        accepted = question.get("status") or [200]
        if status not in accepted:
            raise SourceProblem(f"{_shown(url)} answered {status}{_status_words(status)}", lost=status in (401, 403))
        return as_rows(text, {**question, "content-type": kind}, self._target)

    def close(self) -> None:
        self._client.close()


def _at_checked_address(url: str) -> tuple[str, dict[str, str], dict[str, str]]:
    """A URL at the address that was looked at, with what says for whom it is: a name that leads elsewhere a moment
    later leads nowhere.

    Raises:
        SourceProblem: the name is unknown, or leads to no server.
    """
    parts = urlsplit(url)
    host = parts.hostname or ""
    usual = 443 if parts.scheme == "https" else 80
    address = safe_address(host, parts.port or usual)
    shown = f"[{address}]" if ":" in address else address
    place = parts._replace(netloc=shown + (f":{parts.port}" if parts.port else ""))
    return urlunsplit(place), {"Host": parts.netloc.rpartition("@")[2]}, {"sni_hostname": host}


def _bounded(answer: httpx.Response) -> Any:
    size = 0
    for chunk in answer.iter_bytes():
        size += len(chunk)
        if size > MOST_BYTES:
            raise SourceProblem(f"the answer is longer than {MOST_BYTES >> 20} MiB: ask for less")
        yield chunk


def _shown(url: str) -> str:
    parts = urlsplit(url)
    return f"{parts.scheme}://{parts.netloc}{parts.path}"


def _http_words(error: httpx.HTTPError) -> str:
    if isinstance(error, httpx.TimeoutException):
        return "did not answer in time"
    text = str(error)
    if "refused" in text:
        return "refused the connection: does the service run, and is the port right?"
    return text[:200] or type(error).__name__


def _status_words(status: int) -> str:
    words = {
        401: ": it wants a user and password (a credential of kind login), or these are wrong",
        403: ": this user, or this address, may not read it",
        404: ": there is nothing at this path; is it switched on?",
        503: ": it is there and not ready",
    }
    return words.get(status, "")


class SocketSource:
    """Target: `socket` (a path), or `address` and `port`. A question's `send` is a line; the answer ends the talk."""

    def __init__(self, target: Target, credential: CredentialBody | None, time_limit: float) -> None:
        del credential
        self._target = target
        self._limit = time_limit

    def ask(self, question: Mapping[str, Any]) -> Rows:
        path = self._target.get("socket")
        where = str(path) if path else f"{self._target.get('address')} port {self._target.get('port')}"
        try:
            with self._connect(str(path) if path else None) as talk:
                talk.sendall(str(question.get("send") or "").encode() + b"\n")
                text = _all(talk).decode("utf-8", "replace")
        except OSError as error:
            hint = " (whose group may use the socket?)" if isinstance(error, PermissionError) else ""
            raise SourceProblem(f"{where}: {plain_reason(error)}{hint}", lost=True) from None
        return as_rows(text, question, self._target)

    def _connect(self, path: str | None) -> socket.socket:
        if path:
            talk = socket.socket(socket.AF_UNIX)
            talk.settimeout(self._limit)
            talk.connect(path)
            return talk
        port = int(self._target.get("port") or 0)
        address = safe_address(str(self._target.get("address") or "127.0.0.1"), port)
        return socket.create_connection((address, port), self._limit)

    def close(self) -> None:
        """Each question has a connection of its own."""


class GreetingSource:
    """Target: `address` and `port`. What a service says first, unasked, and how long that took (`seconds`)."""

    def __init__(self, target: Target, credential: CredentialBody | None, time_limit: float) -> None:
        del credential
        self._target = target
        self._limit = time_limit

    def ask(self, question: Mapping[str, Any]) -> Rows:
        began = time.monotonic()
        address, port = place_of(self._target, 22)
        try:
            with socket.create_connection((address, port), self._limit) as talk:
                said = talk.recv(1024).decode("utf-8", "replace")
        except OSError as error:
            raise SourceProblem(f"{address} port {port}: {plain_reason(error)}", lost=True) from None
        took = round(time.monotonic() - began, 5)
        return [{**row, "seconds": took} for row in as_rows(said, question, self._target)]

    def close(self) -> None:
        """Each look has a connection of its own."""


def _all(talk: socket.socket) -> bytes:
    found = b""
    while chunk := talk.recv(65_536):
        found += chunk
        if len(found) > MOST_BYTES:
            raise SourceProblem(f"the answer is longer than {MOST_BYTES >> 20} MiB")
    return found


class FileSource:
    """A question's `path`, which may name fields of the target, read whole."""

    def __init__(
        self, target: Target, credential: CredentialBody | None, time_limit: float, hand: Hand | None = None
    ) -> None:
        del credential, time_limit
        self._target = target
        self._hand = hand or Here()

    def ask(self, question: Mapping[str, Any]) -> Rows:
        path = filled(str(question.get("path") or ""), self._target)
        return as_rows(self._hand.read(path), question, self._target)

    def close(self) -> None:
        """Nothing is kept open."""


class CommandSource:
    """A question's `run`, a program and its words, never a shell; fields of the target stand in single words.

    A word that is nothing but a field with no value is left out.
    """

    def __init__(
        self, target: Target, credential: CredentialBody | None, time_limit: float, hand: Hand | None = None
    ) -> None:
        del credential
        self._target = target
        self._limit = time_limit
        self._hand = hand or Here()

    def ask(self, question: Mapping[str, Any]) -> Rows:
        words = command_words(question.get("run") or [], self._target)
        if not words:
            raise SourceProblem("the part names no program to run")
        code, out, err = self._hand.run(words, self._limit)
        accepted = question.get("status") or [0]
        if code not in accepted:
            said = " ".join((err or out).split())[:200]
            raise SourceProblem(f"{words[0]} ended with {code}: {said or 'it said nothing'}")
        return as_rows(out, question, self._target)

    def close(self) -> None:
        """Nothing is kept open."""


def command_words(run: Sequence[Any], target: Target) -> list[str]:
    """The words of a command, fields filled in."""
    found = []
    for word in run:
        text = filled(str(word), target)
        if text.startswith("{") and text.endswith("}"):
            continue
        found.append(text)
    return found
