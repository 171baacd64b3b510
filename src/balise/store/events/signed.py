"""Sign-ins of a span, from what is kept of them beside the events."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from balise.core.events.sign_ins import OUTCOMES, Outcome
from balise.core.moments import Nanos
from balise.store.events.store import EventStore

MOST_ROWS = 500_000
"""Sign-ins of one question, the newest."""


@dataclass(frozen=True, slots=True)
class SignedRow:
    """One try or change; `event` is the day and number of the event that says it."""

    time: int
    host: str
    account: str
    address: str
    outcome: Outcome
    how: str
    detail: str
    count: int
    event: tuple[int, int]


class SignedIn:
    """Reads sign-ins."""

    def __init__(self, events: EventStore) -> None:
        self._events = events

    def rows(self, start: Nanos, end: Nanos) -> tuple[list[SignedRow], bool]:
        """All of a span in the order of time, and whether there are more than are read."""
        found: list[SignedRow] = []
        for day, file in self._events.existing(start, end):
            rows = file.read(
                "SELECT time, host, account, address, outcome, how, detail, count, id FROM sign_in "
                "WHERE time >= ? AND time < ? ORDER BY time DESC, id DESC LIMIT ?",
                [start, end, MOST_ROWS - len(found) + 1],
            )
            found += [_row(day, row) for row in rows]
            if len(found) > MOST_ROWS:
                return found[:MOST_ROWS][::-1], True
        return found[::-1], False

    def known_before(self, moment: Nanos) -> set[tuple[str, str]]:
        """The accounts and addresses that signed in together before a moment."""
        found: set[tuple[str, str]] = set()
        for _, file in self._events.existing(0, moment):
            for account, address in file.read(
                "SELECT DISTINCT account, address FROM sign_in WHERE outcome = ? AND time < ? LIMIT ?",
                [OUTCOMES.index("succeeded"), moment, MOST_ROWS],
            ):
                found.add((account, address))
            if len(found) > MOST_ROWS:
                break
        return found


def _row(day: int, row: Sequence[Any]) -> SignedRow:
    time, host, account, address, outcome, how, detail, count, number = row
    return SignedRow(time, host, account, address, OUTCOMES[outcome], how, detail, count, (day, number))
