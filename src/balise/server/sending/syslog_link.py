"""Syslog to another system: UDP (RFC 5426), TCP (RFC 6587, lines), TLS (RFC 5425)."""

from __future__ import annotations

import array
import fcntl
import socket
import ssl
import termios
import time
from collections.abc import Sequence
from typing import Literal

TIME_LIMIT = 10.0
LONGEST_DATAGRAM = 60_000
LOOK_EVERY = 0.005
Transport = Literal["udp", "tcp", "tls"]


class SyslogLink:
    """A connection that is made when there is something to send, and made again when it was lost.

    Syslog has no answers. Over TCP and TLS, what the other side's system has not acknowledged counts as not delivered.
    """

    def __init__(self, host: str, port: int, transport: Transport, ca: str | None = None, name: str = "") -> None:
        """`ca` are certificates to trust, the system's unless given; `name` is whose certificate it has to be."""
        self._place = (host, port)
        self._transport = transport
        self._ca = ca
        self._name = name or host
        self._socket: socket.socket | None = None

    def send(self, lines: Sequence[bytes]) -> None:
        """Raises OSError, or ssl.SSLError, when they did not arrive for all that can be known."""
        try:
            link = self._socket or self._connect()
            self._socket = link
            if self._transport == "udp":
                for line in lines:
                    link.send(line[:LONGEST_DATAGRAM])
                return
            if self._transport == "tls":
                link.sendall(b"".join(b"%d %b" % (len(line), line) for line in lines))
            else:
                link.sendall(b"".join(line + b"\n" for line in lines))
            self._await_acknowledged(link)
        except (OSError, ssl.SSLError):
            self.close()
            raise

    def _connect(self) -> socket.socket:
        if self._transport == "udp":
            family, kind, protocol, _, place = socket.getaddrinfo(*self._place, type=socket.SOCK_DGRAM)[0]
            link = socket.socket(family, kind, protocol)
            link.settimeout(TIME_LIMIT)
            link.connect(place)
            return link
        link = socket.create_connection(self._place, timeout=TIME_LIMIT)
        if self._transport == "tls":
            context = ssl.create_default_context(cadata=self._ca)
            context.minimum_version = ssl.TLSVersion.TLSv1_2
            try:
                return context.wrap_socket(link, server_hostname=self._name)
            except (OSError, ssl.SSLError):
                link.close()
                raise
        return link

    @staticmethod
    def _await_acknowledged(link: socket.socket) -> None:
        """Returns once nothing of what was sent is unacknowledged. Raises OSError when the connection is lost."""
        left = array.array("i", [0])
        deadline = time.monotonic() + TIME_LIMIT
        while True:
            fcntl.ioctl(link.fileno(), termios.TIOCOUTQ, left)
            broken = link.getsockopt(socket.SOL_SOCKET, socket.SO_ERROR)
            if broken:
                raise OSError(broken, "the connection was lost")
            if not left[0]:
                return
            if time.monotonic() > deadline:
                raise TimeoutError("the other side does not take what is sent")
            time.sleep(LOOK_EVERY)

    def close(self) -> None:
        if self._socket is not None:
            self._socket.close()
            self._socket = None
