"""Opening the link that speaks a target's protocol; what it needs is loaded only then."""

from __future__ import annotations

import asyncio
from collections.abc import Callable

from balise.api.remote import RemoteTarget
from balise.collect.remote.link import AT_ONCE, Link


def open_link(target: RemoteTarget, gate: asyncio.Semaphore | None = None) -> Link:
    """The link to a target.

    Args:
        gate: how many may shake hands at once: that is where the processor's time goes.
    """
    return OPENERS[target.protocol](target, gate or asyncio.Semaphore(AT_ONCE))


def _ssh(target: RemoteTarget, gate: asyncio.Semaphore) -> Link:
    from balise.collect.remote.ssh import SshLink

    return SshLink(target, gate)


def _snmp(target: RemoteTarget, _gate: asyncio.Semaphore) -> Link:
    from balise.collect.remote.snmp import SnmpLink

    return SnmpLink(target)


def _kit(target: RemoteTarget, _gate: asyncio.Semaphore) -> Link:
    from balise.collect.remote.kit import KitLink

    return KitLink(target)


OPENERS: dict[str, Callable[[RemoteTarget, asyncio.Semaphore], Link]] = {"ssh": _ssh, "snmp": _snmp, "kit": _kit}
