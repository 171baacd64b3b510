"""Maintenance windows as they are kept, and the hosts that are in one now."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from balise.api.maintenance import MaintenanceBody, Window
from balise.api.spans import rfc3339
from balise.core.filters import Filter
from balise.core.maintenance import Time, Times
from balise.server.asking import read_filter
from balise.server.errors import Refused, bad_field, unknown
from balise.server.hosts.directory import Directory, Known
from balise.server.people.access import audit
from balise.store.state import tables
from balise.store.state.store import StateStore

MOST_WINDOWS = 2000
Members = Callable[[], Mapping[str, list[tuple[str, str | None]]]]
"""By host the applications that it is a part of."""


@dataclass(frozen=True)
class _Held:
    """A window as it is worked with."""

    name: str
    body: MaintenanceBody
    times: Times
    where: Filter | None
    ended_at: float | None
    updated_by: str

    def time_at(self, now: float) -> Time | None:
        """The time that goes on, unless somebody has ended it."""
        found = self.times.at(now)
        return None if found is None or (self.ended_at is not None and found.start <= self.ended_at) else found


class MaintenanceBook:
    """All windows. `paused` holds the hosts that are in one, each with the name of the window."""

    def __init__(self, *, state: StateStore, directory: Directory, members: Members) -> None:
        self._state = state
        self._directory = directory
        self._members = members
        self._lock = threading.Lock()
        self._held: dict[str, _Held] = {}
        self.paused: dict[int, str] = {}
        self._read()
        self.look(time.time())

    def _read(self) -> None:
        rows = self._state.read(lambda s: list(s.scalars(select(tables.Maintenance).order_by(tables.Maintenance.name))))
        self._held = {row.name: _held(row) for row in rows}

    # --- asking

    def all(self) -> list[Window]:
        """Those that go on first, then by when they come."""
        now = time.time()
        found = [self._answer(held, now) for held in list(self._held.values())]
        return sorted(found, key=lambda w: (not w.going_on, w.starts_at is None, w.starts_at or "", w.name))

    def get(self, name: str) -> Window:
        held = self._held.get(name)
        if held is None:
            raise unknown("maintenance window", name)
        return self._answer(held, time.time())

    def times_of(self, start: float, end: float) -> list[tuple[str, MaintenanceBody, list[Time]]]:
        """Every window with its times in [start, end)."""
        return [(held.name, held.body, list(held.times.between(start, end))) for held in list(self._held.values())]

    def _answer(self, held: _Held, now: float) -> Window:
        going_on = held.time_at(now)
        shown = going_on or held.times.next_after(now)
        return Window(
            **held.body.model_dump(),
            name=held.name,
            going_on=going_on is not None,
            starts_at=rfc3339(shown.start) if shown else None,
            ends_at=rfc3339(shown.end) if shown else None,
            paused=sum(name == held.name for name in list(self.paused.values())),
            updated_by=held.updated_by,
        )

    # --- who is in one

    def look(self, now: float) -> None:
        """Works out anew which hosts are in a window."""
        with self._lock:
            going_on = [held for held in list(self._held.values()) if held.time_at(now) is not None]
            needed = any(held.body.applications for held in going_on)
            members = self._members() if needed else {}
            paused: dict[int, str] = {}
            for held in going_on:
                for known in self._directory.all():
                    if known.id not in paused and self._is_in(held, known, members):
                        paused[known.id] = held.name
            self.paused = paused

    def _is_in(self, held: _Held, known: Known, members: Mapping[str, list[tuple[str, str | None]]]) -> bool:
        body = held.body
        return (
            known.name in body.hosts
            or any(group in body.groups for group in known.groups)
            or any(name in body.applications for name, _ in members.get(known.name, ()))
            or (held.where is not None and bool(self._directory.matching(held.where, of=[known])))
        )

    # --- changing

    def put(self, name: str, body: MaintenanceBody, who: str) -> Window:
        """Raises Refused 422 for what cannot be read or is not there, 409 when there are too many."""
        now = time.time()
        read_filter(body.where, "where")
        self._check_there(body)

        def write(session: Session) -> None:
            row = session.get(tables.Maintenance, name)
            if row is None:
                if (session.scalar(select(func.count()).select_from(tables.Maintenance)) or 0) >= MOST_WINDOWS:
                    raise Refused(409, f"There are {MOST_WINDOWS} maintenance windows already: delete some first.")
                row = tables.Maintenance(name=name)
                session.add(row)
            row.body, row.said_at, row.ended_at = body.model_dump(mode="json", by_alias=True), now, None
            row.updated_at, row.updated_by = now, who
            audit(session, who, "maintenance.put", name, about=body.about)

        self._changed(write)
        return self.get(name)

    def _check_there(self, body: MaintenanceBody) -> None:
        for field, names, there in (
            ("hosts", body.hosts, {known.name for known in self._directory.all()}),
            ("groups", body.groups, set(self._directory.groups)),
            ("applications", body.applications, None),
        ):
            if there is None:
                there = {name for found in self._members().values() for name, _ in found} if names else set()
            missing = [name for name in names if name not in there]
            if missing:
                raise bad_field(field, f"there is no {', '.join(missing[:5])}")

    def end(self, name: str, who: str) -> Window:
        """The time that goes on is over now. Raises Refused 409 when none does."""
        now = time.time()

        def write(session: Session) -> None:
            row = self._row(session, name)
            if _held(row).time_at(now) is None:
                raise Refused(409, f"The maintenance window {name!r} does not go on at the moment.")
            row.ended_at = now
            audit(session, who, "maintenance.end", name)

        self._changed(write)
        return self.get(name)

    def delete(self, name: str, who: str) -> None:
        def write(session: Session) -> None:
            session.delete(self._row(session, name))
            audit(session, who, "maintenance.delete", name)

        self._changed(write)

    def _changed(self, write: Callable[[Session], None]) -> None:
        self._state.write(write)
        self._read()
        self.look(time.time())

    @staticmethod
    def _row(session: Session, name: str) -> tables.Maintenance:
        row = session.get(tables.Maintenance, name)
        if row is None:
            raise unknown("maintenance window", name)
        return row


def _held(row: tables.Maintenance) -> _Held:
    body = MaintenanceBody.model_validate(row.body)
    where = read_filter(body.where, "where")
    return _Held(row.name, body, Times(body, row.said_at), where, row.ended_at, row.updated_by)
