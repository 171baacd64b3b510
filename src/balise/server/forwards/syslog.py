"""Sending events on as syslog: UDP (RFC 5426), TCP (RFC 6587, lines), TLS (RFC 5425)."""

from __future__ import annotations

import array
import fcntl
import socket
import ssl
import termios
import time
from collections.abc import Sequence

from balise.api.events import Event
from balise.api.forwards import SyslogDestination
from balise.core.events.formats import syslog_line
from balise.server.forwards.destination import TIME_LIMIT, Undelivered

LONGEST_DATAGRAM = 60_000
LOOK_EVERY = 0.005


class ToSyslog:
    """A connection that is made when there is something to send, and made again when it was lost.

    Syslog has no answers. Over TCP and TLS, what the other side's system has not acknowledged counts as not delivered.
    """

    def __init__(self, to: SyslogDestination) -> None:
        self._to = to
        host, _, port = to.address.rpartition(":")
        self._place = (host.strip("[]"), int(port))
        self._socket: socket.socket | None = None

    def send(self, events: Sequence[Event]) -> int:
        lines = [syslog_line(event).encode() for event in events]
        try:
            link = self._socket or self._connect()
            self._socket = link
            if self._to.transport == "udp":
                for line in lines:
                    link.send(line[:LONGEST_DATAGRAM])
                return 0
            if self._to.transport == "tls":
                link.sendall(b"".join(b"%d %b" % (len(line), line) for line in lines))
            else:
                link.sendall(b"".join(line + b"\n" for line in lines))
            self._await_acknowledged(link)
        except (OSError, ssl.SSLError) as error:
            self.close()
            raise Undelivered(f"{self._to.address}: {error}") from None
        return 0

    def _connect(self) -> socket.socket:
        if self._to.transport == "udp":
            family, kind, protocol, _, place = socket.getaddrinfo(*self._place, type=socket.SOCK_DGRAM)[0]
            link = socket.socket(family, kind, protocol)
            link.settimeout(TIME_LIMIT)
            link.connect(place)
            return link
        link = socket.create_connection(self._place, timeout=TIME_LIMIT)
        if self._to.transport == "tls":
            context = ssl.create_default_context(cadata=self._to.ca)
            context.minimum_version = ssl.TLSVersion.TLSv1_2
            try:
                return context.wrap_socket(link, server_hostname=self._place[0])
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
