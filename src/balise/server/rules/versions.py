"""Every form that a rule had: who made it, when and why, and what differs."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from balise.api.rules import RuleVersion as VersionAnswer
from balise.api.spans import rfc3339
from balise.server.errors import unknown
from balise.store.state.store import StateStore
from balise.store.state.tables import RuleVersion

MOST_KEPT = 200
"""Versions of one rule; of more the oldest go."""
_ABSENT = object()


class Versions:
    """Reads and writes versions. A version is never changed."""

    def __init__(self, state: StateStore) -> None:
        self._state = state

    def of(self, rule: str) -> list[VersionAnswer]:
        """The newest first. Raises Refused 404 when there never was such a rule."""
        query = select(RuleVersion).where(RuleVersion.rule == rule).order_by(RuleVersion.version)
        rows = self._state.read(lambda s: list(s.scalars(query)))
        if not rows:
            raise unknown("rule", rule)
        bodies: list[Mapping[str, Any]] = [{}, *(row.body for row in rows)]
        found = [
            VersionAnswer(
                version=row.version,
                at=rfc3339(row.at),
                who=row.who,
                why=row.why,
                what=row.what,  # type: ignore[arg-type]
                changes=list(differences(before, row.body)) if row.what != "deleted" and before else [],
                body=row.body,
            )
            for before, row in zip(bodies, rows, strict=False)
        ]
        return found[::-1]

    def body(self, rule: str, version: int) -> dict[str, Any]:
        """What a rule said in a version. Raises Refused 404."""
        row = self._state.read(lambda s: s.get(RuleVersion, (rule, version)))
        if row is None:
            raise unknown("version", f"{version} of the rule {rule}")
        return row.body


def add_version(
    session: Session, rule: str, body: dict[str, Any], *, at: float, who: str, why: str = "", what: str = "written"
) -> None:
    """Keeps what a rule says from now on."""
    newest = session.scalar(select(func.max(RuleVersion.version)).where(RuleVersion.rule == rule)) or 0
    session.add(RuleVersion(rule=rule, version=newest + 1, at=at, who=who, why=why, what=what, body=body))
    session.execute(delete(RuleVersion).where(RuleVersion.rule == rule, RuleVersion.version <= newest + 1 - MOST_KEPT))


def newest_versions(session: Session) -> dict[str, int]:
    """By rule the number of its newest version."""
    rows = session.execute(select(RuleVersion.rule, func.max(RuleVersion.version)).group_by(RuleVersion.rule))
    return {str(rule): int(version) for rule, version in rows}


def differences(before: Any, after: Any, at: str = "") -> Iterator[str]:
    """`limits.warning.above: 1 -> 2`, for all that differs."""
    if isinstance(before, Mapping) and isinstance(after, Mapping):
        for key in dict.fromkeys([*before, *after]):
            name = f"{at}.{key}" if at else str(key)
            yield from differences(before.get(key, _ABSENT), after.get(key, _ABSENT), name)
    elif before != after:
        yield f"{at}: {_told(before)} -> {_told(after)}"


def _told(value: Any) -> str:
    if value is _ABSENT:
        return "-"
    text = ", ".join(f"{k}: {_told(v)}" for k, v in value.items()) if isinstance(value, Mapping) else str(value)
    return text if len(text) <= 200 else text[:199] + "…"
