"""SNMP notifications, as BALISE-MIB says."""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from typing import Any

from pysnmp.hlapi.v3arch.asyncio import (
    USM_AUTH_HMAC192_SHA256,
    USM_AUTH_NONE,
    USM_PRIV_CFB128_AES,
    USM_PRIV_NONE,
    CommunityData,
    ContextData,
    NotificationType,
    ObjectIdentity,
    SnmpEngine,
    Udp6TransportTarget,
    UdpTransportTarget,
    UsmUserData,
    send_notification,
)
from pysnmp.proto.rfc1902 import Integer32, OctetString, Unsigned32

from balise.server.callouts.channels.channel import TIME_LIMIT, Channel, NotThrough, Sent
from balise.server.callouts.channels.messages import line_of
from balise.server.callouts.channels.places import checked_address, in_our_words
from balise.store.state.tables import Delivery

BASE = "1.3.6.1.4.1.32473.1"
"""Below the number that RFC 5612 keeps for examples, until Balise has one of its own."""
NOTIFICATIONS = {"opened": 1, "changed": 2, "recovered": 3, "test": 4, "console": 5}
OBJECTS = ("number", "title", "severity", "what", "hosts", "applications", "since", "alerts", "link", "taken")
"""The objects of an incident, in the order of the MIB."""
LONGEST = 255


class Snmp(Channel):
    """Sends confirmed notifications, or traps that nobody answers. They name the incident's page; nobody can act by
    them."""

    kind = "snmp"
    secret_names = ("community", "authentication", "privacy")

    def send(self, delivery: Delivery, only: Sequence[str] | None) -> Sent:
        """As Channel.send."""
        address = checked_address(self._settings["server"], self._settings["port"])
        try:
            problem = asyncio.run(asyncio.wait_for(self._send(address, delivery), TIME_LIMIT))
        except TimeoutError:
            problem = "no answer"
        except OSError as error:
            raise NotThrough(in_our_words(error)) from None
        except ValueError as error:
            raise NotThrough(f"the channel's settings cannot be used: {str(error)[:100]}") from None
        if problem:
            raise NotThrough(f"SNMP: {problem[:200]}")
        return Sent(answer="confirmed" if self._settings["confirmed"] else "")

    async def _send(self, address: str, delivery: Delivery) -> str:
        engine = SnmpEngine(OctetString(hexValue=self._settings["engine"]))
        target = Udp6TransportTarget if ":" in address else UdpTransportTarget
        try:
            place = await target.create((address, self._settings["port"]), timeout=TIME_LIMIT / 3, retries=1)
            number = NOTIFICATIONS.get(delivery.kind, 5)
            notification = NotificationType(ObjectIdentity(f"{BASE}.0.{number}"))
            notification.add_varbinds(*[(f"{BASE}.1.{i}.0", value) for i, value in self._values(delivery)])
            kind = "inform" if self._settings["confirmed"] else "trap"
            answer = await send_notification(engine, self._whom(), place, ContextData(), kind, notification)
            problem, status = answer[0], answer[1]
            return str(problem or status or "") if problem or int(status or 0) else ""
        finally:
            engine.close_dispatcher()

    def _whom(self) -> Any:
        if self._settings["version"] == "v2c":
            return CommunityData(self._secrets.get("community", "public"), mpModel=1)  # noqa: S508  where v3 is not known
        signed, sealed = self._secrets.get("authentication"), self._secrets.get("privacy")
        return UsmUserData(
            self._settings["user"],
            signed,
            sealed,
            authProtocol=USM_AUTH_HMAC192_SHA256 if signed else USM_AUTH_NONE,
            privProtocol=USM_PRIV_CFB128_AES if sealed else USM_PRIV_NONE,
        )

    def _values(self, delivery: Delivery) -> list[tuple[int, Any]]:
        """The number and the value of each object."""
        content = delivery.content
        page = f"{self._outside.public_url}/incidents/{delivery.incident}" if delivery.incident is not None else ""
        severity = {"warning": 1, "critical": 2}.get(str(content.get("severity")), 1)
        return [
            (1, Unsigned32(delivery.incident or 0)),
            (2, _text(line_of(delivery))),
            (3, Integer32(severity)),
            (4, Integer32(NOTIFICATIONS.get(delivery.kind, 5))),
            (5, _text(", ".join(content.get("hosts", [])))),
            (6, _text(", ".join(hurt["application"] for hurt in content.get("hurts", [])))),
            (7, _text(str(content.get("opened_at", "")))),
            (8, Unsigned32(int(content.get("alert_count", 0)))),
            (9, _text(page)),
            (10, _text(str(content.get("taken_by") or ""))),
        ]

    @staticmethod
    def place_of(settings: dict[str, Any]) -> tuple[Any, ...]:
        return settings.get("server"), settings.get("port"), settings.get("version"), settings.get("user")


def _text(text: str) -> OctetString:
    """UTF-8, no longer than an SnmpAdminString may be."""
    return OctetString(text.encode()[:LONGEST].decode("utf-8", "ignore").encode())
