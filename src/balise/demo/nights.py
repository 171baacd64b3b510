"""What happens at the bastion: people who sign in, and a night in which somebody else tries to."""

from __future__ import annotations

import random
from collections.abc import Iterator

from balise.demo.fleet import Ship

DAY = 86_400.0
SWEEP_AT, GUESS_AT = 2.0 * 3600 + 41 * 60, 3.0 * 3600 + 4 * 60
"""Seconds after midnight, UTC."""
_TRIED = """
root admin test oracle postgres ubuntu backup ftp git deploy guest info mail mysql office operator pi sales support
tomcat user web www
"""
TRIED = _TRIED.split()
STRANGER, AT_HOME, OFFICE = "203.0.113.66", "198.51.100.23", "192.0.2.12"

Said = tuple[float, str, str]
"""When, by which source, and what."""


def said_at_bastion(ship: Ship, start: float, end: float) -> Iterator[Said]:
    """Lines about sign-ins in [start, end), unix seconds; the same whenever they are asked for."""
    if ship.role != "bastion":
        return
    for day in range(int(start // DAY), int(end // DAY) + 1):
        for at, source, text in _of_day(ship, day):
            if start <= at < end:
                yield at, source, text


def _of_day(ship: Ship, day: int) -> Iterator[Said]:
    chance = random.Random(f"{ship.name} {day}")
    midnight = day * DAY
    for number, account in enumerate(TRIED):
        at = midnight + SWEEP_AT + number * 2.2
        port = 40_000 + number
        yield at, "sshd", f"Failed password for invalid user {account} from {STRANGER} port {port} ssh2"
    for number in range(7):
        at = midnight + GUESS_AT + number * 11
        yield at, "sshd", f"Failed password for fares from {AT_HOME} port {51_000 + number} ssh2"
    yield midnight + GUESS_AT + 92, "sshd", f"Accepted password for fares from {AT_HOME} port 51020 ssh2"
    yield midnight + GUESS_AT + 140, "sudo", "   fares : TTY=pts/2 ; PWD=/home/fares ; USER=root ; COMMAND=/usr/bin/id"
    for watch in range(3):
        at = midnight + watch * 28_800 + 420 + chance.uniform(0, 60)
        yield at, "sshd", f"Accepted publickey for ops from {OFFICE} port {chance.randrange(30_000, 60_000)} ssh2"
        yield (
            at + 30,
            "sudo",
            "     ops : TTY=pts/0 ; PWD=/home/ops ; USER=root ; COMMAND=/usr/bin/systemctl status gate",
        )
    if day % 3 == 0:
        at = midnight + 9.5 * 3600
        yield (
            at,
            "useradd",
            f"new user: name=crew{day % 100}, UID={2000 + day % 100}, GID=100, home=/home/crew, shell=/bin/sh",
        )
        yield at + 5, "usermod", f"add 'crew{day % 100}' to group 'gates'"
