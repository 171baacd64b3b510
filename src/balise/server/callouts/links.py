"""Signed links in messages: whoever has one may act on one incident, for a time, as one person."""

from __future__ import annotations

import base64
import binascii
import hashlib
import hmac
import json
from dataclasses import dataclass
from urllib.parse import quote

from balise.store.state.secrets import Sealer
from balise.store.state.tables import Delivery

GOOD_FOR = 3 * 86_400.0
"""Seconds from the making of a delivery."""
MOST_CHARACTERS = 600


@dataclass(frozen=True)
class Grant:
    """What a link is good for. `person` is who acts, None where a channel has many readers."""

    incident: int
    channel: str
    person: str | None
    until: float


class Links:
    """Makes and reads links. They are signed with a key of their own, made of the service's secret key."""

    def __init__(self, sealer: Sealer, public_url: str) -> None:
        self._key = sealer.derived("links to act on incidents")
        self._public_url = public_url

    def of(self, delivery: Delivery) -> str:
        """The link for whoever gets a delivery; empty for one that is about no incident."""
        if delivery.incident is None:
            return ""
        grant = Grant(delivery.incident, delivery.channel, delivery.person, delivery.created_at + GOOD_FOR)
        return f"{self._public_url}/incidents/{grant.incident}/act/{self.token(grant)}"

    def page(self, incident: int) -> str:
        return f"{self._public_url}/incidents/{incident}"

    def token(self, grant: Grant) -> str:
        said = [grant.incident, grant.channel, grant.person, round(grant.until)]
        content = base64.urlsafe_b64encode(json.dumps(said, separators=(",", ":")).encode()).decode().rstrip("=")
        return quote(f"{content}.{self._signature(content)}", safe="")

    def read(self, token: str, now: float) -> Grant | None:
        """What a link is good for; None for one that is not ours, or is not good any more."""
        content, _, signature = token.partition(".")
        if len(token) > MOST_CHARACTERS or not hmac.compare_digest(
            signature.encode(), self._signature(content).encode()
        ):
            return None
        try:
            padded = content + "=" * (-len(content) % 4)
            incident, channel, person, until = json.loads(base64.urlsafe_b64decode(padded))
        except (ValueError, binascii.Error):
            return None
        return Grant(int(incident), str(channel), person, float(until)) if now < until else None

    def _signature(self, content: str) -> str:
        made = hmac.new(self._key, content.encode(), hashlib.sha256).digest()
        return base64.urlsafe_b64encode(made).decode().rstrip("=")
