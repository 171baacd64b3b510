"""Telling people: webhooks as CloudEvents, mail over SMTP, each tried until it is through or too late."""

from __future__ import annotations

import ipaddress
import logging
import smtplib
import socket
import ssl
import threading
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from typing import Any
from urllib.parse import urlsplit

import httpx
from sqlalchemy import or_, select, update
from sqlalchemy.orm import Session

from balise.api.spans import rfc3339
from balise.server.mail import compose
from balise.store.state.secrets import Sealer
from balise.store.state.store import StateStore
from balise.store.state.tables import Channel, Delivery

log = logging.getLogger(__name__)
TIME_LIMIT = 10.0
FIRST_WAIT = 5.0
LONGEST_WAIT = 900.0
GIVE_UP_AFTER = 24 * 3600.0
SIDE_BY_SIDE = 4
MOST_DUE = 200


class NotThrough(Exception):
    """The channel did not take it; the message is for people."""


def wait_before(attempt: int) -> float:
    """Seconds before the next try: 5, 15, 45 … at most 15 minutes."""
    return min(LONGEST_WAIT, FIRST_WAIT * 3.0 ** max(0, attempt - 1))


def checked_address(host: str, port: int) -> str:
    """The address a webhook is sent to.

    Link-local addresses (where clouds keep the credentials of a machine), multicast and unspecified ones are
    refused, and what was checked is what is connected to.

    Raises:
        NotThrough: the name does not resolve, or only to refused addresses.
    """
    try:
        found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
    except OSError as error:
        raise NotThrough(f"{host} cannot be resolved: {error.strerror or error}") from None
    for *_, address in found:
        plain = ipaddress.ip_address(str(address[0]).split("%")[0])
        mapped = getattr(plain, "ipv4_mapped", None) or plain
        if not (mapped.is_link_local or mapped.is_multicast or mapped.is_unspecified or mapped.is_reserved):
            return str(address[0])
    raise NotThrough(f"{host} leads to an address that webhooks are not sent to (link-local, multicast or reserved)")


class _Pinned(httpx.HTTPTransport):
    """Connects to the checked address while the certificate and Host header are those of the name."""

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        host = request.url.host
        port = request.url.port or (443 if request.url.scheme == "https" else 80)
        address = checked_address(host, port)
        request.extensions = {**request.extensions, "sni_hostname": host}
        request.url = request.url.copy_with(host=address)
        return super().handle_request(request)


def cloud_event(delivery: Delivery) -> dict[str, Any]:
    """The alert as a CloudEvent 1.0; the id is the same at every try, so that a receiver can tell a repeat."""
    at = delivery.created_at
    return {
        "specversion": "1.0",
        "id": f"delivery-{delivery.id}",
        "source": "/balise",
        "type": f"balise.alert.{delivery.kind}" if delivery.kind != "test" else "balise.test",
        "subject": str(delivery.content.get("host", "")),
        "time": rfc3339(at),
        "datacontenttype": "application/json",
        "data": delivery.content,
    }


def send_webhook(settings: dict[str, Any], secret: str | None, delivery: Delivery) -> None:
    """Raises NotThrough unless the receiver answers with 2xx."""
    headers = {"Content-Type": "application/cloudevents+json; charset=utf-8", "User-Agent": "balise"}
    if secret:
        headers["Authorization"] = f"Bearer {secret}"
    parts = urlsplit(settings["url"])
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise NotThrough("the URL of the channel is not http or https")
    try:
        with (
            httpx.Client(transport=_Pinned(), timeout=TIME_LIMIT, follow_redirects=False) as client,
            client.stream("POST", settings["url"], json=cloud_event(delivery), headers=headers) as answer,
        ):
            status = answer.status_code
    except httpx.TimeoutException:
        raise NotThrough(f"no answer within {TIME_LIMIT:.0f} s") from None
    except (httpx.HTTPError, httpx.InvalidURL) as error:
        raise NotThrough(f"cannot be reached: {error}") from None
    if not 200 <= status < 300:
        raise NotThrough(f"the receiver answered {status}")


def send_mail(settings: dict[str, Any], secret: str | None, delivery: Delivery, base_url: str) -> None:
    """Raises NotThrough unless the mail server took it for every address."""
    message = compose(settings, delivery.kind, delivery.content, base_url, f"delivery-{delivery.id}")
    context = ssl.create_default_context()
    try:
        if settings["security"] == "tls":
            server: smtplib.SMTP = smtplib.SMTP_SSL(
                settings["server"], settings["port"], timeout=TIME_LIMIT, context=context
            )
        else:
            server = smtplib.SMTP(settings["server"], settings["port"], timeout=TIME_LIMIT)
        with server:
            if settings["security"] == "starttls":
                server.starttls(context=context)
            if settings.get("user"):
                server.login(settings["user"], secret or "")
            refused = server.send_message(message)
    except smtplib.SMTPAuthenticationError:
        raise NotThrough("the mail server refuses the user or the password") from None
    except smtplib.SMTPNotSupportedError as error:
        raise NotThrough(f"the mail server cannot do that: {error}; check the channel's security") from None
    except ssl.SSLError as error:
        raise NotThrough(f"the mail server's TLS is not trusted: {error.reason}") from None
    except (smtplib.SMTPException, OSError) as error:
        raise NotThrough(f"the mail server did not take it: {error}") from None
    if refused:
        raise NotThrough(f"the mail server refused {', '.join(refused)}")


class Courier:
    """Sends what is due. What waits is in the database, so a restart loses nothing and repeats nothing sent."""

    def __init__(self, state: StateStore, sealer: Sealer, base_url: str) -> None:
        self._state = state
        self._sealer = sealer
        self._base_url = base_url
        self._wake = threading.Event()
        self._pool = ThreadPoolExecutor(SIDE_BY_SIDE, thread_name_prefix="courier")

    def wake(self) -> None:
        """There is something new to send."""
        self._wake.set()

    def wait(self, longest: float) -> None:
        self._wake.wait(longest)
        self._wake.clear()

    def send_due(self, now: float) -> int:
        """Tries everything that is due, channels side by side, each channel in order; answers how many it tried."""

        def due(session: Session) -> list[Delivery]:
            waiting = (Delivery.state == "waiting") & or_(Delivery.next_at.is_(None), Delivery.next_at <= now)
            return list(session.scalars(select(Delivery).where(waiting).order_by(Delivery.id).limit(MOST_DUE)))

        by_channel: dict[str, list[Delivery]] = {}
        for delivery in self._state.read(due):
            by_channel.setdefault(delivery.channel, []).append(delivery)
        list(self._pool.map(self._send_channel, by_channel.values()))
        return sum(len(d) for d in by_channel.values())

    def _send_channel(self, deliveries: Sequence[Delivery]) -> None:
        for delivery in deliveries:
            if not self._send_one(delivery):
                return

    def _send_one(self, delivery: Delivery) -> bool:
        problem: str | None = None
        try:
            self.send(delivery)
        except NotThrough as error:
            problem = str(error)
        except Exception as error:
            log.exception("delivery=%d channel=%s", delivery.id, delivery.channel)
            problem = f"could not be sent: {type(error).__name__}"
        now = time.time()
        attempts = delivery.attempts + 1
        too_late = now - delivery.created_at > GIVE_UP_AFTER or delivery.kind == "test"
        values: dict[str, Any] = {"attempts": attempts, "problem": problem}
        if problem is None:
            values |= {"state": "sent", "sent_at": now, "next_at": None}
        elif too_late:
            values |= {"state": "given-up", "next_at": None}
        else:
            values |= {"next_at": now + wait_before(attempts)}
        self._state.write(lambda s: s.execute(update(Delivery).where(Delivery.id == delivery.id).values(**values)))
        return problem is None

    def send(self, delivery: Delivery) -> None:
        """Sends one delivery now; raises NotThrough when it is not taken."""
        channel = self._state.read(lambda s: s.get(Channel, delivery.channel))
        if channel is None:
            raise NotThrough(f"there is no channel {delivery.channel!r} any more")
        try:
            secret = self._sealer.open(channel.secret) if channel.secret else None
        except RuntimeError as error:
            raise NotThrough(str(error)) from None
        if channel.kind == "webhook":
            send_webhook(channel.settings, secret, delivery)
        else:
            send_mail(channel.settings, secret, delivery, self._base_url)

    def close(self) -> None:
        self._pool.shutdown(wait=False, cancel_futures=True)
