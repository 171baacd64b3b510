"""Channels: ways to reach people."""

from __future__ import annotations

import base64
import binascii
import re
from typing import Annotated, Literal
from urllib.parse import urlsplit

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, model_validator

from balise.api.secrets import OfLength, Secret


def _address(text: str) -> str:
    if not re.fullmatch(r"[^@\s<>\"',;:\\]{1,64}@[A-Za-z0-9.-]{1,190}", text):
        raise ValueError(f"{text[:60]!r} is not a mail address: write it as name@example.org")
    return text


def _token(text: str) -> str:
    if not re.fullmatch(r"[\x21-\x7e]+", text):
        raise ValueError("a token has visible ASCII characters alone, no spaces and no line ends: copy it anew")
    return text


def _token_or_words(text: str) -> str:
    if not re.fullmatch(r"[\x20-\x7e]+", text):
        raise ValueError("a header has visible ASCII characters and spaces alone, no line ends")
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


def _signing(text: str) -> str:
    try:
        key = base64.b64decode(text.removeprefix("whsec_"), validate=True)
    except (binascii.Error, ValueError):
        key = b""
    if not text.startswith("whsec_") or not 24 <= len(key) <= 64:
        raise ValueError("a signing secret is whsec_ and 24 to 64 bytes in base64")
    return text


def _header_name(text: str) -> str:
    if not re.fullmatch(r"[A-Za-z0-9-]{1,60}", text) or text.lower() in _OWN_HEADERS:
        raise ValueError(f"{text[:60]!r} is not a header that can be set")
    return text


_OWN_HEADERS = {
    "host", "content-length", "content-type", "transfer-encoding", "connection", "authorization", "upgrade", "te",
    "webhook-id", "webhook-timestamp", "webhook-signature",
}  # fmt: skip
HeaderName = Annotated[str, AfterValidator(_header_name)]
HeaderValue = Annotated[Secret, OfLength(1, 1000, _token_or_words)]
MailAddress = Annotated[str, Field(max_length=254), AfterValidator(_address)]


class Strict(BaseModel):
    model_config = ConfigDict(extra="forbid", hide_input_in_errors=True)


class WebhookChannel(Strict):
    """CloudEvents 1.0 as JSON, sent by POST, or a body of one's own."""

    kind: Literal["webhook"]
    url: Annotated[str, Field(pattern=r"^https?://[^\s]+$", max_length=1000), AfterValidator(_webhook)]
    bearer: Annotated[Secret, OfLength(1, 500, _token)] | None = Field(
        default=None, description="sent as Authorization; kept encrypted, never shown"
    )
    headers: Annotated[dict[HeaderName, HeaderValue], Field(max_length=20)] = Field(
        default={}, description="more headers; their values are kept encrypted, never shown"
    )
    signing_secret: Annotated[Secret, OfLength(1, 200, _signing)] | None = Field(
        default=None,
        description="signed as Standard Webhooks says; for a day after a change, the one before signs as well",
    )
    template: Annotated[str, Field(max_length=10_000)] | None = Field(
        default=None, description="a Jinja2 template of the body, instead of a CloudEvent"
    )
    content_type: Annotated[str, Field(pattern=r"^[a-z]+/[a-zA-Z0-9.+-]+$", max_length=100)] = "application/json"
    of: Literal["incidents", "alerts"] = Field(default="incidents", description="alerts: each alert by itself")


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


class SyslogChannel(Strict):
    """RFC 5424 lines."""

    kind: Literal["syslog"]
    server: Annotated[str, Field(min_length=1, max_length=253)]
    port: Annotated[int, Field(ge=1, le=65535)] = 514
    transport: Literal["udp", "tcp", "tls"] = "udp"
    facility: Annotated[int, Field(ge=0, le=23)] = 16


class SnmpChannel(Strict):
    """Notifications of SNMP, as BALISE-MIB says. Version 3 signs and encrypts them. `confirmed` ones (informs) are
    answered, and sent again until they are; others are traps."""

    kind: Literal["snmp"]
    server: Annotated[str, Field(min_length=1, max_length=253)]
    port: Annotated[int, Field(ge=1, le=65535)] = 162
    version: Literal["v2c", "v3"] = "v3"
    confirmed: bool = True
    community: Annotated[Secret, OfLength(1, 100, _token)] | None = Field(default=None, description="of v2c")
    user: Annotated[str, Field(pattern=r"^[\x21-\x7e]{1,32}$")] | None = Field(default=None, description="of v3")
    authentication: Annotated[Secret, OfLength(8, 200)] | None = Field(default=None, description="of v3, SHA-256")
    privacy: Annotated[Secret, OfLength(8, 200)] | None = Field(default=None, description="of v3, AES-128")
    engine: Annotated[str, Field(pattern=r"^[0-9a-f]{10,64}$")] = Field(
        default="80007ed90462616c697365",
        description="the identity of this console's SNMP engine, in hexadecimal digits",
    )

    @model_validator(mode="after")
    def _goes_together(self) -> SnmpChannel:
        if self.version == "v3" and not self.user:
            raise ValueError("user: version 3 needs one")
        if self.privacy is not None and self.authentication is None:
            raise ValueError("authentication: what is encrypted is signed, too")
        return self


class SmsChannel(Strict):
    """Short messages, through a gateway that takes HTTP."""

    kind: Literal["sms"]
    url: Annotated[str, Field(pattern=r"^https?://[^\s]+$", max_length=1000), AfterValidator(_webhook)]
    to: Annotated[list[Annotated[str, Field(pattern=r"^\+[0-9]{6,15}$")]], Field(min_length=1, max_length=20)]
    bearer: Annotated[Secret, OfLength(1, 500, _token)] | None = None
    template: Annotated[str, Field(max_length=2000)] = Field(
        default='{"to": {{ to | tojson }}, "text": {{ text | tojson }}}',
        description="a Jinja2 template of what the gateway takes, for each number",
    )
    content_type: Annotated[str, Field(pattern=r"^[a-z]+/[a-zA-Z0-9.+-]+$", max_length=100)] = "application/json"


class CommandChannel(Strict):
    """A program on the console's own machine, where the service's configuration allows it. What is told comes as JSON
    on its standard input; its arguments are handed over as they are, by no shell."""

    kind: Literal["command"]
    arguments: Annotated[list[Annotated[str, Field(max_length=500)]], Field(min_length=1, max_length=50)]


ChannelBody = Annotated[
    WebhookChannel | EmailChannel | SyslogChannel | SnmpChannel | SmsChannel | CommandChannel,
    Field(discriminator="kind"),
]
ChannelKind = Literal["webhook", "email", "syslog", "snmp", "sms", "command"]


class Channel(BaseModel):
    name: str
    kind: ChannelKind
    settings: dict[str, object]
    has_secret: bool
    last_result: str | None
    last_at: str | None
    circuit: Literal["closed", "open"] = Field(
        default="closed", description="open: it failed again and again, and is tried now and then alone"
    )
    waiting: int = Field(default=0, description="deliveries that wait for it")


class Preview(Strict):
    """A template, tried on a real incident; the newest unless said."""

    template: Annotated[str, Field(max_length=10_000)]
    incident: Annotated[int, Field(ge=1, le=2**63 - 1)] | None = None


class Previewed(BaseModel):
    body: str
