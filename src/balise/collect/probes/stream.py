"""Probes over a TCP connection."""

from __future__ import annotations

import socket
from typing import ClassVar

from balise.api.probes import PORTS
from balise.collect.probes.errors import ProbeFailed
from balise.collect.probes.probe import Probe


class StreamProbe(Probe):
    """A probe that has a connection, in TLS from the start where its target says so."""

    always_secure: ClassVar[bool] = False
    upgrade: ClassVar[tuple[bytes, bytes, bytes] | None] = None
    """How the protocol goes on in TLS: what is said first, what asks for TLS, and how a good answer begins."""

    def _opened(self) -> socket.socket:
        port = self._place.get("port") or PORTS.get(self.kind)
        if port is None:
            raise ProbeFailed("the target has no port")
        line: socket.socket = self._talk.connect(self._place["address"], int(port))
        if self.always_secure or self._place.get("tls") == "from-the-start":
            line = self._secured(line)
        line.settimeout(self._talk.left())
        return line

    def _secured(self, line: socket.socket) -> socket.socket:
        name = self._place.get("name") or self._place["address"]
        return self._talk.secure(line, name, trusted=self._expect.trusted, days=self._expect.days_left)

    def _greeting(self, line: socket.socket) -> str:
        with self._talk.phase("wait for the greeting"):
            try:
                return line.recv(4096).decode("utf-8", "replace")
            except OSError as error:
                if isinstance(error, TimeoutError):
                    raise
                raise ProbeFailed(f"the connection ended before a greeting: {error.strerror}") from None

    @property
    def _starts_tls(self) -> bool:
        return self._place.get("tls") == "starttls"

    def _upgraded(self, line: socket.socket) -> socket.socket:
        """The connection in TLS, if the target says that it is to go on so."""
        if not self._starts_tls:
            return line
        if self.upgrade is None:
            raise ProbeFailed(f"{self.kind}: take tls from-the-start, or none")
        hello, ask, good = self.upgrade
        with self._talk.phase("ask for TLS"):
            line.recv(4096)
            if hello:
                line.sendall(hello)
                line.recv(8192)
            line.sendall(ask)
            said = line.recv(4096)
        if not said.startswith(good):
            raise ProbeFailed(f"it does not start TLS: {said[:80].decode('utf-8', 'replace').strip()!r}")
        return self._secured(line)
