"""Syslog: one line of RFC 5424 for each thing that is told."""

from __future__ import annotations

import ssl
from collections.abc import Sequence
from typing import Any

from balise.api.events import Event, Severity
from balise.api.spans import rfc3339
from balise.core.events.formats import syslog_line
from balise.server.callouts.channels.channel import Channel, NotThrough, Sent
from balise.server.callouts.channels.messages import line_of
from balise.server.callouts.channels.places import checked_address, in_our_words
from balise.server.sending.syslog_link import SyslogLink
from balise.store.state.tables import Delivery

_SEVERITIES: dict[str, Severity] = {"critical": "critical", "warning": "warning"}


class Syslog(Channel):
    """Sends lines that other systems keep or act on. They name the incident's page; nobody can act by them."""

    kind = "syslog"

    def send(self, delivery: Delivery, only: Sequence[str] | None) -> Sent:
        """As Channel.send. Over UDP nobody answers."""
        settings = self._settings
        address = checked_address(settings["server"], settings["port"])
        link = SyslogLink(address, settings["port"], settings["transport"], name=settings["server"])
        try:
            link.send([self._line(delivery).encode()])
        except (OSError, ssl.SSLError) as error:
            raise NotThrough(in_our_words(error)) from None
        finally:
            link.close()
        return Sent(answer="" if settings["transport"] == "udp" else "acknowledged by the other side's system")

    def _line(self, delivery: Delivery) -> str:
        content = delivery.content
        severity = _SEVERITIES.get(str(content.get("severity")), "notice")
        told: dict[str, Any] = {
            "syslog.facility": str(self._settings["facility"]),
            "syslog.appname": "balise",
            "syslog.msgid": delivery.kind,
            "delivery": str(delivery.id),
        }
        if delivery.incident is not None:
            told |= {
                "incident": str(delivery.incident),
                "hosts": ",".join(content.get("hosts", [])[:20]),
                "applications": ",".join(hurt["application"] for hurt in content.get("hurts", [])),
                "link": f"{self._outside.public_url}/incidents/{delivery.incident}",
            }
        event = Event(
            id="0",
            time=rfc3339(delivery.created_at),
            host="balise",
            severity="notice" if delivery.kind == "recovered" or content.get("practice") else severity,
            source="balise",
            body=line_of(delivery),
            attributes=told,
        )
        return syslog_line(event)

    @staticmethod
    def place_of(settings: dict[str, Any]) -> tuple[Any, ...]:
        return settings.get("server"), settings.get("port"), settings.get("transport")
