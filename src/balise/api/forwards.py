"""Forwards: events and points sent on, all the time, to another system."""

from __future__ import annotations

import re
from typing import Annotated, Literal
from urllib.parse import urlsplit

from pydantic import AfterValidator, BaseModel, Field, model_validator

from balise.api.metrics import FilterName, FilterText
from balise.api.spans import Name

_HOST_PORT = re.compile(r"(?:\[[0-9a-fA-F:.]{2,45}\]|[A-Za-z0-9](?:[A-Za-z0-9.-]{0,252})):(\d{1,5})")
LARGEST_CA = 64 << 10


def _place(text: str) -> str:
    match = _HOST_PORT.fullmatch(text)
    if match is None or not 1 <= int(match[1]) <= 65_535:
        raise ValueError("write a name or an address, and a port, like logs.skerry.example:6514")
    return text


def _url(text: str) -> str:
    try:
        parts = urlsplit(text)
        good = parts.scheme in ("http", "https") and bool(parts.hostname) and parts.port is not False
    except ValueError:
        good = False
    if not good or parts.username is not None or "\\" in text or not text.isprintable():
        raise ValueError("write an address like https://otlp.skerry.example/v1/logs, without a name or password in it")
    return text


class SyslogDestination(BaseModel):
    """Another system that takes syslog: messages of RFC 5424, over TLS framed as RFC 5425 says, over TCP by lines."""

    protocol: Literal["syslog"]
    transport: Literal["udp", "tcp", "tls"]
    address: Annotated[str, Field(max_length=300), AfterValidator(_place)]
    ca: Annotated[str, Field(max_length=LARGEST_CA)] | None = Field(
        default=None, description="certificates, PEM, that the other side's is signed by; those of this system if none"
    )

    @model_validator(mode="after")
    def _fitting(self) -> SyslogDestination:
        if self.ca is not None and self.transport != "tls":
            raise ValueError("ca is for transport tls only: leave it out, or take tls")
        return self


class OtlpDestination(BaseModel):
    """Another system that takes OTLP over HTTP. A credential (name and password) is only sent over HTTPS."""

    protocol: Literal["otlp"]
    url: Annotated[str, Field(max_length=500), AfterValidator(_url)]
    credential: Name | None = None

    @model_validator(mode="after")
    def _kept_secret(self) -> OtlpDestination:
        if self.credential is not None and not self.url.startswith("https:"):
            raise ValueError("a credential is only sent over https: write the address with it, or leave it out")
        return self


MetricNames = Annotated[str, Field(min_length=1, max_length=255)]
Destination = Annotated[SyslogDestination | OtlpDestination, Field(discriminator="protocol")]


class ForwardBody(BaseModel):
    """What is sent on, and where to: events that pass a filter, or points of series that do. Points go over OTLP."""

    what: Literal["lines", "points"] = "lines"
    where: FilterText | None = None
    filter: FilterName | None = None
    metrics: Annotated[list[MetricNames], Field(max_length=100)] = Field(
        default=[], description="of points: names of metrics, * for any characters; all if there are none"
    )
    to: Destination

    @model_validator(mode="after")
    def _fits(self) -> ForwardBody:
        if self.what == "points" and self.to.protocol != "otlp":
            raise ValueError("points are sent on over otlp alone: take that, or what: lines")
        if self.what == "lines" and self.metrics:
            raise ValueError("metrics is for what: points; leave it out, or take that")
        return self


class Forward(ForwardBody):
    """A forward with how it goes. `waiting` events, or deliveries with points, are still to be looked at; they are kept
    here anyway."""

    name: str
    state: Literal["sending", "waiting", "failing"]
    waiting: int
    sent: int = Field(description="since the service began")
    problem: str | None
    last_sent_at: str | None
