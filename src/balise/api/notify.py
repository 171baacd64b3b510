"""Channels, callouts, and the record of what was told to whom."""

from __future__ import annotations

import re
from typing import Annotated, Literal
from urllib.parse import urlsplit

from pydantic import AfterValidator, BaseModel, ConfigDict, Field

from balise.api.metrics import FilterText, NamedFilter
from balise.api.secrets import OfLength, Secret
from balise.api.spans import Name


def _address(text: str) -> str:
    if not re.fullmatch(r"[^@\s<>\"',;:\\]{1,64}@[A-Za-z0-9.-]{1,190}", text):
        raise ValueError(f"{text[:60]!r} is not a mail address: write it as name@example.org")
    return text


def _token(text: str) -> str:
    if not re.fullmatch(r"[\x21-\x7e]+", text):
        raise ValueError("a token has visible ASCII characters alone, no spaces and no line ends: copy it anew")
    return text


def _webhook(text: str) -> str:
    try:
        parts = urlsplit(text)
        good = bool(parts.hostname) and parts.port != 0
    except ValueError:
        good = False
    if not good:
        raise ValueError("this is no address: write https://host:port/path")
    return text


MailAddress = Annotated[str, Field(max_length=254), AfterValidator(_address)]


class Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", hide_input_in_errors=True)


class WebhookChannel(Strict):
    """CloudEvents 1.0 as JSON, sent by POST."""

    kind: Literal["webhook"]
    url: Annotated[str, Field(pattern=r"^https?://[^\s]+$", max_length=1000), AfterValidator(_webhook)]
    bearer: Annotated[Secret, OfLength(1, 500, _token)] | None = Field(
        default=None, description="sent as Authorization; kept encrypted, never shown"
    )


class EmailChannel(Strict):
    kind: Literal["email"]
    to: Annotated[list[MailAddress], Field(min_length=1, max_length=50)]
    sender: MailAddress = "balise@localhost.localdomain"
    server: Annotated[str, Field(max_length=253)] = "127.0.0.1"
    port: Annotated[int, Field(ge=1, le=65535)] = 25
    security: Literal["starttls", "tls", "none"] = "starttls"
    user: Annotated[str, Field(max_length=200)] | None = None
    password: Annotated[Secret, OfLength(0, 200)] | None = Field(
        default=None, description="kept encrypted, never shown"
    )


ChannelBody = Annotated[WebhookChannel | EmailChannel, Field(discriminator="kind")]


class Channel(BaseModel):
    name: str
    kind: Literal["webhook", "email"]
    settings: dict[str, object]
    has_secret: bool
    last_result: str | None
    last_at: str | None


class CalloutBody(Strict):
    when: FilterText = 'severity ge "warning"'
    filter: NamedFilter = None
    tell: Annotated[list[Name], Field(min_length=1, max_length=20)]


class Callout(CalloutBody):
    name: str


class Delivery(BaseModel):
    """One telling of one thing by one channel."""

    id: int
    alert: int | None
    channel: str
    kind: Literal["opened", "changed", "recovered", "console", "test"]
    state: Literal["waiting", "sent", "given-up"]
    attempts: int
    created_at: str
    next_at: str | None
    sent_at: str | None
    problem: str | None
