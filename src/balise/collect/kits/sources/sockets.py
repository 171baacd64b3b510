"""Asking on a socket."""

from __future__ import annotations

import socket
from collections.abc import Mapping
from typing import Any

from balise.api.credentials import CredentialBody
from balise.api.kits import Target
from balise.collect.kits.sources.rows import as_rows
from balise.collect.kits.sources.source import MOST_BYTES, Rows, SourceProblem, plain_reason, safe_address


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


def _all(talk: socket.socket) -> bytes:
    found = b""
    while chunk := talk.recv(65_536):
        found += chunk
        if len(found) > MOST_BYTES:
            raise SourceProblem(f"the answer is longer than {MOST_BYTES >> 20} MiB")
    return found
