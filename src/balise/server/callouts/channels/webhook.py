"""Webhooks: CloudEvents over HTTP, signed as Standard Webhooks says, or a body of one's own."""

from __future__ import annotations

import base64
import hashlib
import hmac
import json
import time
from collections.abc import Mapping, Sequence
from typing import Any

from balise.server.callouts.channels.channel import Channel, NotThrough, Sent
from balise.server.callouts.channels.http import bearer, post, without_path
from balise.server.callouts.channels.messages import cloud_event, for_template
from balise.server.callouts.channels.templates import BadTemplate, filled
from balise.store.state.tables import Delivery

SIGNS_ON_FOR = 86_400.0
"""Seconds for which the signing secret before the last change signs as well."""


class Webhook(Channel):
    """Sends what is told by POST to an address."""

    kind = "webhook"
    secret_names = ("bearer", "headers", "signing_secret")

    def send(self, delivery: Delivery, only: Sequence[str] | None) -> Sent:
        """As Channel.send: through when the receiver answers with 2xx."""
        template = self._settings.get("template")
        if template is None:
            content = "application/cloudevents+json; charset=utf-8"
            body = json.dumps(cloud_event(delivery, self._outside), ensure_ascii=False).encode()
        else:
            content = f"{self._settings['content_type']}; charset=utf-8"
            try:
                body = filled(template, for_template(delivery, self._outside)).encode()
            except BadTemplate as error:
                raise NotThrough(f"the channel's template: {error}", alone=True) from None
        headers = {
            **self._secrets.get("headers", {}),
            "Content-Type": content,
            "User-Agent": "balise",
            **self._signed(f"delivery-{delivery.id}", body),
        }
        if self._secrets.get("bearer"):
            headers |= bearer(self._secrets["bearer"])
        return Sent(answer=post(str(self._settings["url"]), body, headers))

    def _signed(self, number: str, body: bytes) -> dict[str, str]:
        """The headers of Standard Webhooks: a signature by each secret that is good."""
        now = time.time()
        secrets = [self._secrets.get("signing_secret")]
        before, until = self._secrets.get("signed_before", (None, 0.0))
        secrets += [before] if now < until else []
        stamp = f"{now:.0f}"
        content = f"{number}.{stamp}.".encode() + body
        signatures = [f"v1,{_signature(secret, content)}" for secret in secrets if secret]
        if not signatures:
            return {}
        return {"webhook-id": number, "webhook-timestamp": stamp, "webhook-signature": " ".join(signatures)}

    @classmethod
    def kept(cls, before: Mapping[str, Any], new: Mapping[str, Any], now: float) -> dict[str, Any]:
        """As Channel.kept: a signing secret that is changed goes on for a day beside the new one."""
        kept = {**before, **new}
        old = before.get("signing_secret")
        if old and new.get("signing_secret") not in (None, old):
            kept["signed_before"] = [old, now + SIGNS_ON_FOR]
        return kept

    @staticmethod
    def place_of(settings: dict[str, Any]) -> tuple[Any, ...]:
        return (settings.get("url"),)

    @staticmethod
    def shown(settings: dict[str, Any]) -> dict[str, Any]:
        """Without the path, which may be all that it takes to use the address."""
        return {**settings, "url": without_path(settings["url"])}


def _signature(secret: str, content: bytes) -> str:
    key = base64.b64decode(secret.removeprefix("whsec_"))
    return base64.b64encode(hmac.new(key, content, hashlib.sha256).digest()).decode()
