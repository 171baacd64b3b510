"""Where something is on the network."""

from __future__ import annotations

import ipaddress
import re
from typing import Annotated

from pydantic import AfterValidator, Field

_ADDRESS = re.compile(r"[A-Za-z0-9](?:[A-Za-z0-9._:%-]{0,252}[A-Za-z0-9])?|[0-9A-Fa-f:.]{2,45}")


_Ip = ipaddress.IPv4Address | ipaddress.IPv6Address
_MACHINES_OWN = [
    ipaddress.ip_network(text)
    for text in ("100.100.100.200/32", "168.63.129.16/32", "192.0.0.192/32", "fd00:ec2::/32", "fd20:ce::254/128")
]
"""Where clouds tell a machine its secrets, besides link-local addresses."""
_TRANSLATED = ipaddress.ip_network("64:ff9b::/96")


def is_nobodys(address: str) -> bool:
    """Whether an IP address is none that anything is sent to: link-local and others where clouds tell a machine its
    secrets, multicast, reserved, or none. This is the one place that decides it, for all that goes out."""
    try:
        found = _meant(ipaddress.ip_address(address.split("%", maxsplit=1)[0]))
    except ValueError:
        return False
    if found.is_loopback:
        return False
    if found.is_link_local or found.is_multicast or found.is_unspecified or found.is_reserved:
        return True
    return any(found.version == own.version and found in own for own in _MACHINES_OWN)


def _meant(address: _Ip) -> _Ip:
    """The IPv4 address that an IPv6 one stands for (RFC 4291, 3056 and 6052), else itself."""
    if isinstance(address, ipaddress.IPv4Address):
        return address
    if address in _TRANSLATED:
        return ipaddress.IPv4Address(int(address) & 0xFFFFFFFF)
    return address.ipv4_mapped or address.sixtofour or address


def _checked_address(text: str) -> str:
    if not _ADDRESS.fullmatch(text):
        raise ValueError(f"{text[:60]!r} is no address and no host name")
    if is_nobodys(text):
        raise ValueError(f"{text!r} is link-local, multicast or reserved: give the address of a server")
    return text


Address = Annotated[str, Field(min_length=1, max_length=253, examples=["192.0.2.17"]), AfterValidator(_checked_address)]
Port = Annotated[int, Field(ge=1, le=65_535)]
