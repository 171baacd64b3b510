"""How much of a span something was there, its outages with their incidents, and what its target leaves."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping, Sequence
from datetime import tzinfo
from itertools import islice
from typing import Any

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from balise.api.availability import (
    Availability,
    AvailabilityList,
    AvailabilityOfOne,
    AvailabilityTarget,
    AvailableOf,
    Outage,
    PresenceFrom,
)
from balise.api.spans import rfc3339
from balise.core.availability import Away, Summed, down_within, left_of, period_of, summed
from balise.server.asking import read_filter
from balise.server.availability.histories import A_MOMENT, Histories
from balise.server.errors import Refused, bad_field, unknown
from balise.server.hosts.directory import Directory
from balise.server.people.access import audit
from balise.store.state import tables
from balise.store.state.store import StateStore

MOST_OUTAGES = 500
MOST_TARGETS = 5000
MOST_LISTED = 1000
MOST_DRAWN = 200
"""Changes in the ribbon of one of many."""
BEFORE, AFTER = 900.0, 300.0
"""Seconds before and after the beginning of an outage within which an alert may have opened that is about it."""


class AvailabilityBook:
    """Answers, and keeps the targets. `zone` is where months begin as on the wall."""

    def __init__(
        self,
        *,
        state: StateStore,
        directory: Directory,
        histories: Histories,
        zone: tzinfo,
        clock: Callable[[], float] = time.time,
    ) -> None:
        self._state = state
        self._directory = directory
        self._histories = histories
        self._zone = zone
        self._clock = clock

    def of(self, kind: AvailableOf, name: str, start: float, end: float) -> Availability:
        """Of one thing over [start, end), unix seconds. Raises Refused 404 when there is no such thing."""
        now = self._clock()
        found = summed(self._histories.of(kind, name, start, end), start, end, now)
        target = self._state.read(lambda s: s.get(tables.Target, (kind, name)))
        left, left_seconds = self._left(kind, name, target, now) if target is not None else (None, None)
        outages = found.outages[::-1][:MOST_OUTAGES]
        return Availability(
            of=kind,
            name=name,
            **_shares(found, end - start),
            outages=self._told(kind, name, outages),
            ribbon=[PresenceFrom(at=at, presence=presence) for at, presence in found.changes],
            between_seconds=found.between,
            repair_seconds=found.repair,
            target=_target(target),
            left=left,
            left_seconds=left_seconds,
        )

    def all_of(
        self, kind: AvailableOf, where: str | None, start: float, end: float, limit: int = MOST_LISTED
    ) -> AvailabilityList:
        """Of all of a kind, the `limit` that were down longest; `where` chooses hosts, and services by their host."""
        node = read_filter(where, "where")
        if node is not None and kind not in ("host", "service"):
            raise bad_field("where", f"a filter chooses hosts; it says nothing of a {kind}: leave it out")
        chosen = {known.name for known in self._directory.matching(node)} if node is not None else None
        now = self._clock()
        if kind == "host":
            every = sorted(chosen if chosen is not None else (known.name for known in self._directory.all()))
            away = self._histories.hosts_down(start, min(end, now))
            histories = self._histories.hosts(_first_of(every, away, limit), start, end)
        else:
            histories = self._histories.all_of(kind, start, end)
            if chosen is not None:
                histories = {name: h for name, h in histories.items() if name.partition("/")[0] in chosen}
        found = [(name, *down_within(changes, start, end, now)) for name, changes in histories.items()]
        found.sort(key=lambda one: (-one[1], -one[2], one[0]))
        if kind == "host":
            total, down = len(every), sum(name in away for name in every)
        else:
            total, down = len(found), sum(seconds > 0 for _, seconds, _ in found)
        targets = self._targets(kind)
        items = [
            _one(name, summed(histories[name], start, end, now), targets.get(name), end - start)
            for name, _, _ in found[:limit]
        ]
        return AvailabilityList(items=items, left_out=max(0, total - limit), down=down)

    # --- outages and their incidents

    def _told(self, kind: AvailableOf, name: str, outages: Sequence[Away]) -> list[Outage]:
        def read(session: Session) -> list[Outage]:
            found = []
            for away in outages:
                incident = self._incident(session, kind, name, away)
                found.append(
                    Outage(
                        from_=rfc3339(away.start),
                        to=rfc3339(away.end) if away.end is not None else None,
                        seconds=round(away.seconds, 1),
                        incident=incident[0] if incident else None,
                        cause=incident[1] if incident else "",
                    )
                )
            return found

        return self._state.read(read)

    def _incident(self, session: Session, kind: AvailableOf, name: str, away: Away) -> tuple[int, str] | None:
        """The incident that an outage was: the first that opened on the same thing about when it began."""
        alert, placed, incident = tables.Alert, tables.IncidentAlert, tables.Incident
        opened = alert.opened_at.between(away.start - BEFORE, (away.end or self._clock()) + AFTER)
        query = select(incident.id, incident.title, incident.hurts).join(placed, placed.incident == incident.id)
        query = query.join(alert, alert.id == placed.alert).where(opened).order_by(alert.opened_at).limit(200)
        if kind == "application":
            rows = session.execute(query)
            return next(((n, t) for n, t, hurts in rows if any(h["application"] == name for h in hurts)), None)
        if kind == "probe":
            query = query.where(alert.attributes["probe"].as_string() == name)
        else:
            host, _, service = name.partition("/") if kind == "service" else (name, "", "")
            query = query.where(alert.host_name == host)
            if service:
                query = query.where(alert.attributes["service.name"].as_string() == service)
        row = session.execute(query).first()
        return (row[0], row[1]) if row is not None else None

    # --- targets

    def _left(
        self, kind: AvailableOf, name: str, target: tables.Target, now: float
    ) -> tuple[float | None, float | None]:
        first, last = period_of(target.per, now, self._zone)  # type: ignore[arg-type]
        found = summed(self._histories.of(kind, name, first, last), first, last, now)
        left, seconds = left_of(target.share, found.seconds["down"], last - first - found.seconds["maintenance"])
        return round(left, 4), round(seconds, 1)

    def _targets(self, kind: AvailableOf) -> dict[str, tables.Target]:
        query = select(tables.Target).where(tables.Target.of == kind)
        return {row.name: row for row in self._state.read(lambda s: list(s.scalars(query)))}

    def set_target(self, kind: AvailableOf, name: str, target: AvailabilityTarget, who: str) -> None:
        """Raises Refused 404 when there is no such thing, 409 when there are too many."""
        self._histories.of(kind, name, self._clock() - 1, self._clock())

        def write(session: Session) -> None:
            if session.get(tables.Target, (kind, name)) is None:
                count = session.scalar(select(func.count()).select_from(tables.Target)) or 0
                if count >= MOST_TARGETS:
                    raise Refused(409, f"There are {MOST_TARGETS} targets already: take some away first.")
            session.merge(tables.Target(of=kind, name=name, share=target.share, per=target.per))
            audit(session, who, "availability.target", f"{kind} {name}", share=target.share, per=target.per)

        self._state.write(write)

    def drop_target(self, kind: AvailableOf, name: str, who: str) -> None:
        """Raises Refused 404 when there is none."""

        def write(session: Session) -> None:
            if session.get(tables.Target, (kind, name)) is None:
                raise unknown("target of", f"{kind} {name}")
            session.execute(delete(tables.Target).where(tables.Target.of == kind, tables.Target.name == name))
            audit(session, who, "availability.target-gone", f"{kind} {name}")

        self._state.write(write)


def _first_of(names: Sequence[str], down: Mapping[str, float], limit: int) -> list[str]:
    """Those of some hosts, by name, among which the `limit` are that were down longest, `down` being about how long
    each was: what exactly they were has to be looked at only of those."""
    longest = sorted((name for name in names if name in down), key=lambda name: -down[name])
    least = down[longest[limit - 1]] - A_MOMENT if len(longest) >= limit else 0.0
    never = (name for name in names if name not in down)
    return [*(name for name in longest if down[name] >= least), *islice(never, max(0, limit - len(longest)))]


def _one(name: str, found: Summed, target: tables.Target | None, length: float) -> AvailabilityOfOne:
    return AvailabilityOfOne(
        name=name,
        **_shares(found, length),
        target=_target(target),
        ribbon=[PresenceFrom(at=at, presence=presence) for at, presence in found.changes[-MOST_DRAWN:]],
    )


def _shares(found: Summed, length: float) -> dict[str, Any]:
    shares: dict[str, Any] = {presence: seconds / length for presence, seconds in found.seconds.items()}
    return {**shares, "outage_count": len(found.outages), "down_seconds": found.seconds["down"]}


def _target(row: tables.Target | None) -> AvailabilityTarget | None:
    return AvailabilityTarget(share=row.share, per=row.per) if row is not None else None  # type: ignore[arg-type]
