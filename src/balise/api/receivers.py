"""Receivers: addresses at which syslog is taken in."""

from __future__ import annotations

import ipaddress
from typing import Annotated, Literal
from zoneinfo import ZoneInfo

from pydantic import AfterValidator, BaseModel, Field, model_validator

from balise.api.spans import Name

CONSOLE = "console"
LARGEST_CA = 64 << 10


def _address(text: str) -> str:
    """`ADDRESS:PORT`, the address in brackets when it is of IPv6."""
    host, _, port = text.rpartition(":")
    try:
        ipaddress.ip_address(host.removeprefix("[").removesuffix("]"))
    except ValueError:
        raise ValueError("write an address and a port, like 0.0.0.0:514 or [::]:514") from None
    if not port.isdecimal() or not 1 <= int(port) <= 65_535:
        raise ValueError("the port is a number from 1 to 65535")
    return text


def _zone(text: str) -> str:
    try:
        ZoneInfo(text)
    except (KeyError, ValueError, OSError):
        raise ValueError(f"there is no time zone {text[:60]!r}: write one like Europe/Oslo or UTC") from None
    return text


def place_of(listen: str) -> tuple[str, int]:
    """`place_of("[::1]:514") == ("::1", 514)`."""
    host, _, port = listen.rpartition(":")
    return host.removeprefix("[").removesuffix("]"), int(port)


class ReceiverBody(BaseModel):
    """Where syslog is taken in, and how. `zone` is that of senders who do not say theirs."""

    protocol: Literal["syslog"] = "syslog"
    transport: Literal["udp", "tcp", "tls"]
    listen: Annotated[str, Field(max_length=100), AfterValidator(_address)]
    at: Name = Field(default=CONSOLE, description="the console, or a relay by its name")
    zone: Annotated[str, Field(max_length=60), AfterValidator(_zone)] = "UTC"
    client_ca: Annotated[str, Field(max_length=LARGEST_CA)] | None = Field(
        default=None, description="certificates, PEM: only senders with one signed by these are listened to"
    )

    @model_validator(mode="after")
    def _fitting(self) -> ReceiverBody:
        if self.client_ca is not None and self.transport != "tls":
            raise ValueError("client_ca is for transport tls only: leave it out, or take tls")
        return self


class ReceiverSender(BaseModel):
    """What one address said to a receiver. `held_back_at` is when it last said more than it may."""

    address: str
    received: int
    dropped: int
    last_at: str | None
    held_back_at: str | None


class Receiver(ReceiverBody):
    """A receiver with how it goes."""

    name: str
    state: Literal["listening", "failed", "waiting"]
    message: str = ""
    listening: bool
    received: int
    dropped: int
    senders: list[ReceiverSender] = Field(description="those heard last, at most 100")
