"""Telling people: webhooks as CloudEvents, mail over SMTP, each tried until it is through or too late."""

from __future__ import annotations

import logging
import os
import smtplib
import socket
import ssl
from collections.abc import Sequence
from typing import Any
from urllib.parse import urlsplit

import httpx
from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.places import is_nobodys
from balise.api.spans import rfc3339
from balise.server.callouts.mail import compose
from balise.store.state.secrets import Sealer
from balise.store.state.store import StateStore
from balise.store.state.tables import Callout, Channel, Delivery

log = logging.getLogger(__name__)
TIME_LIMIT = 10.0
_TYPES = {"test": "balise.test", "console": "balise.console"}
OF_ITS_CONTENT = (400, 413, 415, 422)
"""What a receiver answers to a delivery that it does not understand, while others may get through."""


class NotThrough(Exception):
    """The channel did not take it; the message is for people.

    `alone` says that this delivery was not taken while others may be, `final` that trying again is of no use.
    """

    def __init__(self, why: str, *, alone: bool = False, final: bool = False) -> None:
        super().__init__(why)
        self.alone = alone or final
        self.final = final


def checked_address(host: str, port: int) -> str:
    """The address a webhook or a mail is sent to.

    Link-local addresses (where clouds keep the credentials of a machine), multicast and unspecified ones are
    refused, and what was checked is what is connected to.

    Raises:
        NotThrough: the name does not resolve, or only to refused addresses.
    """
    try:
        found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
    except (OSError, UnicodeError):
        raise NotThrough(f"{host[:100]} cannot be resolved: is the name right?") from None
    for *_, address in found:
        if not is_nobodys(str(address[0])):
            return str(address[0])
    raise NotThrough(f"{host[:100]} leads to an address that nothing is sent to (link-local, multicast or reserved)")


def _in_our_words(error: BaseException) -> str:
    """What went wrong, without what a library puts into its messages: those may hold addresses and secrets."""
    step: BaseException | None = error
    while step is not None:
        if isinstance(step, ssl.SSLError):
            return f"its TLS is not trusted: {step.reason or 'the handshake failed'}"
        if isinstance(step, OSError) and step.errno:
            return f"cannot be reached: {os.strerror(step.errno)}"
        step = step.__cause__ or step.__context__
    if isinstance(error, httpx.RemoteProtocolError | httpx.ReadError | httpx.WriteError):
        return "the connection broke off before there was an answer"
    if isinstance(error, httpx.InvalidURL | httpx.UnsupportedProtocol | httpx.LocalProtocolError):
        return "the address or the token of the channel cannot be sent: set it again"
    return "cannot be reached"


class _Pinned(httpx.HTTPTransport):
    """Connects to the checked address while the certificate and Host header are those of the name."""

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        host = request.url.host
        port = request.url.port or (443 if request.url.scheme == "https" else 80)
        address = checked_address(host, port)
        request.extensions = {**request.extensions, "sni_hostname": host}
        request.url = request.url.copy_with(host=address)
        return super().handle_request(request)


def cloud_event(delivery: Delivery, public_url: str) -> dict[str, Any]:
    """The alert as a CloudEvent 1.0; the id is the same at every try, so that a receiver can tell a repeat.

    `link` in its data is the alert's page at the address by which people reach the console.
    """
    at = delivery.created_at
    alert = delivery.content.get("id")
    link = {"link": f"{public_url}/alerts/{alert}"} if alert else {}
    return {
        "specversion": "1.0",
        "id": f"delivery-{delivery.id}",
        "source": "/balise",
        "type": _TYPES.get(delivery.kind) or f"balise.alert.{delivery.kind}",
        "subject": str(delivery.content.get("host", "")),
        "time": rfc3339(at),
        "datacontenttype": "application/json",
        "data": {**delivery.content, **link},
    }


def send_webhook(settings: dict[str, Any], secret: str | None, delivery: Delivery, public_url: str) -> None:
    """Raises NotThrough unless the receiver answers with 2xx."""
    headers = {"Content-Type": "application/cloudevents+json; charset=utf-8", "User-Agent": "balise"}
    if secret:
        if not secret.isascii() or not secret.isprintable():
            raise NotThrough("the channel's token has characters that cannot be sent: set it again")
        headers["Authorization"] = f"Bearer {secret}"
    parts = urlsplit(settings["url"])
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise NotThrough("the URL of the channel is not http or https")
    try:
        with (
            httpx.Client(transport=_Pinned(), timeout=TIME_LIMIT, follow_redirects=False) as client,
            client.stream("POST", settings["url"], json=cloud_event(delivery, public_url), headers=headers) as answer,
        ):
            status = answer.status_code
    except httpx.TimeoutException:
        raise NotThrough(f"no answer within {TIME_LIMIT:.0f} s") from None
    except (httpx.HTTPError, httpx.InvalidURL) as error:
        raise NotThrough(_in_our_words(error)) from None
    if not 200 <= status < 300:
        raise NotThrough(f"the receiver answered {status}", alone=status in OF_ITS_CONTENT)


def tell_all(state: StateStore, content: dict[str, Any], now: float) -> None:
    """Puts something about the console itself into the deliveries of every channel by which anybody is called."""

    def write(session: Session) -> None:
        channels = {name for told in session.scalars(select(Callout.tell)) for name in told}
        for name in sorted(channels):
            session.add(
                Delivery(channel=name, kind="console", content=content, state="waiting", created_at=now, next_at=now)
            )

    state.write(write)


class _Mail(smtplib.SMTP):
    """Connects to the checked address while the certificate is that of the name."""

    def _get_socket(self, host: str, port: int, timeout: float) -> socket.socket:
        made: socket.socket = super()._get_socket(checked_address(host, port), port, timeout)  # type: ignore[misc]
        return made


class _MailOverTls(smtplib.SMTP_SSL, _Mail):
    """The same from the first byte on in TLS."""


def send_mail(
    settings: dict[str, Any], secret: str | None, delivery: Delivery, public_url: str, only: Sequence[str] | None
) -> list[str]:
    """Sends to the addresses that have not taken it yet; answers those to be tried again.

    An address that is refused for good is not tried again, as long as others take it.

    Raises:
        NotThrough: the mail server took it for no address.
    """
    message = compose(settings, delivery.kind, delivery.content, public_url, f"delivery-{delivery.id}")
    context = ssl.create_default_context()
    try:
        if settings["security"] == "tls":
            server: smtplib.SMTP = _MailOverTls(
                settings["server"], settings["port"], timeout=TIME_LIMIT, context=context
            )
        else:
            server = _Mail(settings["server"], settings["port"], timeout=TIME_LIMIT)
        with server:
            if settings["security"] == "starttls":
                server.starttls(context=context)
            if settings.get("user"):
                server.login(settings["user"], secret or "")
            refused = server.send_message(message, to_addrs=list(only or settings["to"]))
    except ValueError:
        raise NotThrough("the channel's addresses, user or password have characters that mail cannot carry") from None
    except smtplib.SMTPAuthenticationError:
        raise NotThrough("the mail server refuses the user or the password") from None
    except smtplib.SMTPNotSupportedError:
        raise NotThrough("the mail server cannot do that: check the channel's security and user") from None
    except ssl.SSLError as error:
        raise NotThrough(f"the mail server's TLS is not trusted: {error.reason}") from None
    except smtplib.SMTPRecipientsRefused as error:
        said = "; ".join(f"{to}: {code}" for to, (code, _) in error.recipients.items())
        # Those who were left out before have had their answer: what is left is refused for good now, or is not.
        final = only is not None and all(code >= 500 for code, _ in error.recipients.values())
        raise NotThrough(f"the mail server refuses {said}", alone=only is not None, final=final) from None
    except smtplib.SMTPDataError as error:
        raise NotThrough(f"the mail server did not take it: {error.smtp_code}", alone=True) from None
    except (smtplib.SMTPException, OSError) as error:
        code = getattr(error, "smtp_code", None)
        raise NotThrough(f"the mail server did not take it: {code or _in_our_words(error)}") from None
    for address, (code, _) in refused.items():
        log.warning("delivery=%d channel=%s refused by %s: %d", delivery.id, delivery.channel, address, code)
    return [address for address, (code, _) in refused.items() if code < 500]


class Post:
    """Sends deliveries by the channels they name."""

    def __init__(self, state: StateStore, sealer: Sealer, public_url: str) -> None:
        self._state = state
        self._sealer = sealer
        self._public_url = public_url

    def send(self, delivery: Delivery, only: Sequence[str] | None = None) -> list[str]:
        """Sends one delivery now; answers the addresses that did not take it for the moment.

        Raises:
            NotThrough: nobody took it.
        """
        channel = self._state.read(lambda s: s.get(Channel, delivery.channel))
        if channel is None:
            raise NotThrough(f"there is no channel {delivery.channel!r} any more", final=True)
        try:
            secret = self._sealer.open(channel.secret) if channel.secret else None
        except RuntimeError as error:
            raise NotThrough(str(error)) from None
        if channel.kind == "webhook":
            send_webhook(channel.settings, secret, delivery, self._public_url)
            return []
        return send_mail(channel.settings, secret, delivery, self._public_url, only)
