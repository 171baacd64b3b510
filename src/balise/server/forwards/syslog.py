"""Sending events on as syslog."""

from __future__ import annotations

import ssl
from collections.abc import Sequence

from balise.api.events import Event
from balise.api.forwards import SyslogDestination
from balise.core.events.formats import syslog_line
from balise.server.forwards.destination import Undelivered
from balise.server.sending.syslog_link import SyslogLink


class ToSyslog:
    """Lines of RFC 5424 to one place."""

    def __init__(self, to: SyslogDestination) -> None:
        self._address = to.address
        host, _, port = to.address.rpartition(":")
        self._link = SyslogLink(host.strip("[]"), int(port), to.transport, to.ca)

    def send(self, items: Sequence[Event]) -> int:
        try:
            self._link.send([syslog_line(event).encode() for event in items])
        except (OSError, ssl.SSLError) as error:
            raise Undelivered(f"{self._address}: {error}") from None
        return 0

    def close(self) -> None:
        self._link.close()
