"""Where something is on the network."""

from __future__ import annotations

import ipaddress
import re
from typing import Annotated

from pydantic import AfterValidator, Field

_ADDRESS = re.compile(r"[A-Za-z0-9](?:[A-Za-z0-9._:%-]{0,252}[A-Za-z0-9])?|[0-9A-Fa-f:.]{2,45}")


def is_nobodys(address: str) -> bool:
    """Whether an IP address is none of a single server: link-local (where clouds keep secrets), multicast, or none."""
    try:
        found = ipaddress.ip_address(address.split("%", maxsplit=1)[0])
    except ValueError:
        return False
    if found.is_loopback:
        return False
    return found.is_link_local or found.is_multicast or found.is_unspecified or found.is_reserved


def _checked_address(text: str) -> str:
    if not _ADDRESS.fullmatch(text):
        raise ValueError(f"{text[:60]!r} is no address and no host name")
    if is_nobodys(text):
        raise ValueError(f"{text!r} is link-local, multicast or reserved: give the address of a server")
    return text


Address = Annotated[str, Field(min_length=1, max_length=253, examples=["192.0.2.17"]), AfterValidator(_checked_address)]
Port = Annotated[int, Field(ge=1, le=65_535)]
