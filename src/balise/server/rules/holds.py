"""Since when things have been breached, kept so that a hold goes on through a restart."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence

from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.server.rules.packed import packed, unpacked
from balise.server.rules.watched import Watched
from balise.store.state.store import StateStore
from balise.store.state.tables import Rule, RuleState

LARGE = 2_000
"""Breaches of one rule beyond which they are written less often, as writing them takes longer."""
LARGE_EVERY = 10.0

Breaches = dict[str, list[float]]


class HoldBook:
    """Writes what changed of the breaches of rules that have a hold, beside the ticks and within a second or so."""

    def __init__(self, state: StateStore) -> None:
        self._state = state
        self._written_at: dict[str, float] = {}
        self._waiting: set[str] = set()

    def read(self) -> dict[str, Breaches]:
        """By rule and key, warning and critical; unix seconds, NaN where there is none."""
        # What was kept before a rule became another is of no use to it.
        kept = select(RuleState.rule, RuleState.content).join(Rule).where(Rule.updated_at <= RuleState.at)
        return {
            rule: unpacked(content, _read) or {} for rule, content in self._state.read(lambda s: s.execute(kept).all())
        }

    def touch(self, rule: str) -> None:
        """A rule is another now: what is kept of it is written anew."""
        self._waiting.add(rule)

    def due(self, rules: Mapping[str, Watched], now: float, *, all_of_them: bool) -> dict[str, Breaches]:
        """The breaches of rules in which one began or ended since they were written; of large ones not every time."""
        found: dict[str, Breaches] = {}
        for name, rule in rules.items():
            if max(rule.holds, default=0.0) <= 0:
                continue
            if rule.machine.take_moved():
                self._waiting.add(name)
            if name in self._waiting:
                breaches = rule.breaches()
                rested = now - self._written_at.get(name, 0.0) >= LARGE_EVERY
                if all_of_them or rested or len(breaches) < LARGE:
                    found[name] = breaches
        return found

    def write(self, due: Mapping[str, Breaches], now: float) -> None:
        if due:
            self._state.write(lambda s: _write(s, due, now))
            self._waiting -= set(due)
            self._written_at.update(dict.fromkeys(due, now))

    def forget(self, rule: str) -> None:
        """A rule has gone or is another now."""
        self._waiting.discard(rule)
        self._written_at.pop(rule, None)

        def drop(session: Session) -> None:
            row = session.get(RuleState, rule)
            if row is not None:
                session.delete(row)

        self._state.write(drop)


def _write(session: Session, due: Mapping[str, Breaches], now: float) -> None:
    there = set(session.scalars(select(Rule.name).where(Rule.name.in_(due))))
    for name, breaches in due.items():
        if name not in there:
            continue
        session.merge(RuleState(rule=name, at=now, content=packed(_told(breaches))))


def _told(breaches: Mapping[str, Sequence[float]]) -> dict[str, list[float | None]]:
    return {key: [None if math.isnan(at) else at for at in since] for key, since in breaches.items()}


def _read(told: dict[str, list[float | None]]) -> Breaches:
    return {str(k): [math.nan if at is None else float(at) for at in since] for k, since in told.items()}
