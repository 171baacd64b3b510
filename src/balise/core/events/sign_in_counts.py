"""Sign-ins counted by account, by address or by both, with what of them should be looked at."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Set
from dataclasses import dataclass, field
from typing import Literal, Protocol

from balise.core.events.sign_ins import Outcome

By = Literal["account", "address", "pair"]
Kind = Literal["success-after-failures", "sweep", "first-seen", "failing", "usual"]
KINDS: tuple[Kind, ...] = ("success-after-failures", "sweep", "first-seen", "failing", "usual")
"""What has to be looked at first comes first."""
MANY = 5
"""Failures in a row after which a success is told."""


class Row(Protocol):
    """One try, in the order of time."""

    @property
    def time(self) -> int: ...
    @property
    def host(self) -> str: ...
    @property
    def account(self) -> str: ...
    @property
    def address(self) -> str: ...
    @property
    def outcome(self) -> Outcome: ...
    @property
    def count(self) -> int: ...


@dataclass
class Tries:
    """The tries of one account, one address, or one with the other. Times in unix nanoseconds."""

    failed: int = 0
    succeeded: int = 0
    first: int = 0
    last: int = 0
    in_a_row: int = 0
    got_in: bool = False
    """Whether a success came after many failures."""
    new: bool = False
    """Whether an account signed in from an address as never before."""
    accounts: Counter[str] = field(default_factory=Counter)
    refused: set[str] = field(default_factory=set)
    """Accounts that failed."""
    addresses: Counter[str] = field(default_factory=Counter)
    hosts: Counter[str] = field(default_factory=Counter)

    def add(self, row: Row, *, known: bool) -> None:
        self.first = min(self.first or row.time, row.time)
        self.last = max(self.last, row.time)
        self.accounts[row.account] += row.count
        self.addresses[row.address] += row.count
        self.hosts[row.host] += row.count
        if row.outcome == "failed":
            self.failed += row.count
            self.in_a_row += row.count
            self.refused.add(row.account)
            return
        self.succeeded += row.count
        self.got_in = self.got_in or self.in_a_row >= MANY
        self.new = self.new or not known
        self.in_a_row = 0

    def kind(self, sweep: int | None) -> Kind:
        """What of it should be looked at; `sweep` is from how many accounts on it is one."""
        if self.got_in:
            return "success-after-failures"
        if sweep is not None and len(self.refused) >= sweep:
            return "sweep"
        if self.new:
            return "first-seen"
        return "failing" if self.failed else "usual"


def counted(rows: Iterable[Row], by: By, known: Set[tuple[str, str]]) -> dict[tuple[str, str], Tries]:
    """Tries by account and address, one of them empty unless it is by both. `known` signed in together before."""
    found: dict[tuple[str, str], Tries] = {}
    for row in rows:
        if row.outcome not in ("failed", "succeeded"):
            continue
        key = ("" if by == "address" else row.account, "" if by == "account" else row.address)
        # On the host itself nobody comes from anywhere.
        seen = not row.address or (row.account, row.address) in known
        found.setdefault(key, Tries()).add(row, known=seen)
    return found
