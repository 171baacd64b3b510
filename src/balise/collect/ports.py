"""What listens on this machine, and whom it talks to."""

from __future__ import annotations

import os
import socket
from collections.abc import Iterator
from dataclasses import dataclass
from pathlib import Path

from balise.api.services import FoundService
from balise.collect.files import said
from balise.collect.here import user_name

LISTENING = "0A"
"""The state of a listening socket in /proc/net/tcp (include/net/tcp_states.h)."""
ESTABLISHED = "01"
MOST_FOUND = 200
MOST_TEXT = 4 << 20
"""Letters of each table of sockets that are read: some 25,000 connections."""


def listening() -> list[FoundService]:
    """What accepts TCP connections here, with its process where this user may see it."""
    text = said("/proc/net/tcp", MOST_TEXT) + said("/proc/net/tcp6", MOST_TEXT)
    sockets = list(sockets_in(text))
    names = _owners({one.inode for one in sockets})
    found: dict[int, FoundService] = {}
    for one in sockets:
        held, process = found.get(one.port), names.get(one.inode, "")
        if held is None or (not held.process and process):
            user = user_name(one.user)[:100]
            found[one.port] = FoundService(port=one.port, address=one.address, process=process, user=user)
    return [found[number] for number in sorted(found)][:MOST_FOUND]


@dataclass(frozen=True, slots=True)
class ListeningSocket:
    """`user` is the number of the account that owns it."""

    address: str
    port: int
    user: int
    inode: str


def sockets_in(text: str) -> Iterator[ListeningSocket]:
    """Listening sockets of /proc/net/tcp and tcp6 (proc(5))."""
    for line in text.splitlines():
        part = line.split()
        if len(part) > 9 and part[3] == LISTENING:
            address, _, port = part[1].rpartition(":")
            yield ListeningSocket(_address(address), int(port, 16), int(part[7]), part[9])


def connected(listening_ports: set[int]) -> list[tuple[str, int]]:
    """Whom this machine talks to now: address and port of the other side, of connections that began here."""
    found: set[tuple[str, int]] = set()
    text = said("/proc/net/tcp", MOST_TEXT) + said("/proc/net/tcp6", MOST_TEXT)
    for line in text.splitlines():
        part = line.split()
        if len(part) < 10 or part[3] != ESTABLISHED:
            continue
        if int(part[1].rpartition(":")[2], 16) in listening_ports:
            continue
        address, _, port = part[2].rpartition(":")
        found.add((_address(address).removeprefix("::ffff:"), int(port, 16)))
    return sorted(found)


def _address(text: str) -> str:
    """The kernel writes words in the machine's own byte order."""
    words = [bytes.fromhex(text[i : i + 8])[::-1] for i in range(0, len(text), 8)]
    return socket.inet_ntop(socket.AF_INET if len(words) == 1 else socket.AF_INET6, b"".join(words))


def _owners(inodes: set[str]) -> dict[str, str]:
    """The name of the process that holds each socket."""
    found: dict[str, str] = {}
    for pid in filter(str.isdigit, os.listdir("/proc")):
        try:
            for descriptor in os.scandir(f"/proc/{pid}/fd"):
                link = os.readlink(descriptor.path)
                if link.startswith("socket:[") and link[8:-1] in inodes:
                    found[link[8:-1]] = Path(f"/proc/{pid}/comm").read_text("utf-8", "replace").strip()[:100]
        except OSError:
            # Gone meanwhile, or another user's.
            continue
    return found
