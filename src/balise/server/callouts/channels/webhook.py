"""Webhooks: CloudEvents over HTTP."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any
from urllib.parse import urlsplit

import httpx

from balise.api.notify import ChannelBody, WebhookChannel
from balise.api.secrets import Secret
from balise.api.spans import rfc3339
from balise.server.callouts.channels.channel import TIME_LIMIT, Channel, NotThrough
from balise.server.callouts.channels.places import checked_address, in_our_words
from balise.store.state.tables import Delivery

OF_ITS_CONTENT = (400, 413, 415, 422)
"""What a receiver answers to a delivery that it does not understand, while others may get through."""
_TYPES = {"test": "balise.test", "console": "balise.console"}


class Webhook(Channel):
    """Sends an alert by POST to an address."""

    kind = "webhook"

    def send(self, delivery: Delivery, only: Sequence[str] | None) -> list[str]:
        """As Channel.send: through when the receiver answers with 2xx."""
        url = self._checked_url()
        content = cloud_event(delivery, self._public_url)
        try:
            with (
                httpx.Client(transport=_Pinned(), timeout=TIME_LIMIT, follow_redirects=False) as client,
                client.stream("POST", url, json=content, headers=self._headers()) as answer,
            ):
                status = answer.status_code
        except httpx.TimeoutException:
            raise NotThrough(f"no answer within {TIME_LIMIT:.0f} s") from None
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise NotThrough(in_our_words(error)) from None
        if not 200 <= status < 300:
            raise NotThrough(f"the receiver answered {status}", alone=status in OF_ITS_CONTENT)
        return []

    def _headers(self) -> dict[str, str]:
        headers = {"Content-Type": "application/cloudevents+json; charset=utf-8", "User-Agent": "balise"}
        if self._secret:
            if not self._secret.isascii() or not self._secret.isprintable():
                raise NotThrough("the channel's token has characters that cannot be sent: set it again")
            headers["Authorization"] = f"Bearer {self._secret}"
        return headers

    def _checked_url(self) -> str:
        url = str(self._settings["url"])
        parts = urlsplit(url)
        if parts.scheme not in ("http", "https") or not parts.hostname:
            raise NotThrough("the URL of the channel is not http or https")
        return url

    @staticmethod
    def secret_of(body: ChannelBody) -> Secret | None:
        return body.bearer if isinstance(body, WebhookChannel) else None

    @staticmethod
    def place_of(settings: dict[str, Any]) -> tuple[Any, ...]:
        return (settings.get("url"),)

    @staticmethod
    def shown(settings: dict[str, Any]) -> dict[str, Any]:
        """Without the path, which may be all that it takes to use the address."""
        parts = urlsplit(settings["url"])
        host = f"[{parts.hostname}]" if ":" in (parts.hostname or "") else parts.hostname
        port = f":{parts.port}" if parts.port else ""
        return {**settings, "url": f"{parts.scheme}://{host}{port}/…"}


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
