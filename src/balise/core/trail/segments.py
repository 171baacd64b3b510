"""Which parts of the network addresses are in."""

from __future__ import annotations

import ipaddress
from collections.abc import Iterable

WIDTH = {4: 24, 6: 64}
"""Leading bits of an address that those beside it share; hosts do not tell their masks."""


def segments(addresses: Iterable[str]) -> set[str]:
    """`segments(["10.1.2.3", "::1"]) == {"10.1.2.0/24"}`; what is no address, or only the host's own, is in none."""
    found = set()
    for text in addresses:
        try:
            address = ipaddress.ip_address(text)
        except ValueError:
            continue
        if not (address.is_loopback or address.is_link_local or address.is_unspecified or address.is_multicast):
            found.add(str(ipaddress.ip_network((address, WIDTH[address.version]), strict=False)))
    return found
