"""Days of events: which there are, set aside, brought back and let go."""

from __future__ import annotations

import logging
from collections.abc import Callable
from datetime import UTC, datetime

from balise.api.event_days import DayCopy, EventDay
from balise.api.spans import rfc3339
from balise.core.moments import now_nanos, seconds_of
from balise.server.errors import Refused, bad_field
from balise.server.people.access import audit
from balise.store.events.aside import Aside, CannotSetAside, Copy
from balise.store.events.store import EventStore, day_name
from balise.store.state.store import StateStore

log = logging.getLogger(__name__)


class DayBook:
    """What people do with whole days. What is done is written down before it is begun."""

    def __init__(self, *, state: StateStore, events: EventStore, aside: Aside) -> None:
        self._state = state
        self._events = events
        self._aside = aside
        self._problem = ""

    def all(self) -> list[EventDay]:
        """The newest first."""
        copies, back, here = self._aside.copies(), self._events.brought_back(), set(self._events.days())
        found = []
        for day in sorted(here | copies.keys(), reverse=True):
            copy = copies.get(day)
            events = self._events.count(day) if day in here else copy.events if copy is not None else 0
            found.append(
                EventDay(
                    day=day_name(day),
                    here=day in here,
                    events=events,
                    bytes=self._events.size_of(day) if day in here else 0,
                    brought_back=day in back,
                    copy=_told(copy) if copy is not None else None,
                )
            )
        return found

    def set_aside(self, day: str, who: str) -> EventDay:
        """Copies a day and reads the copy back. Raises Refused 409 when it cannot be, 422 for what is no day."""
        return self._do(day, who, "set-aside", lambda number: self._aside.put(number, now_nanos()))

    def bring_back(self, day: str, who: str) -> EventDay:
        """Raises Refused 409 when there is no copy that reads, or the day is here; 422 for what is no day."""
        return self._do(day, who, "bring-back", self._aside.bring_back)

    def let_go(self, day: str, who: str) -> EventDay:
        """Raises Refused 409 when there is no copy of all that is here; 422 for what is no day."""
        return self._do(day, who, "let-go", self._aside.let_go)

    def _do(self, day: str, who: str, what: str, work: Callable[[int], Copy]) -> EventDay:
        number = _number(day)
        self._state.write(lambda s: audit(s, who, f"day.{what}", day))
        try:
            work(number)
        except CannotSetAside as problem:
            raise Refused(409, f"{str(problem)[:1].upper()}{str(problem)[1:]}.") from None
        return next(one for one in self.all() if one.day == day)

    def may_forget(self, day: int) -> bool:
        """Sets aside what is about to be forgotten; False when that did not go, so that it stays for now."""
        try:
            self._aside.put(day, now_nanos())
        except (CannotSetAside, OSError) as problem:
            self._problem = f"{day_name(day)} is over and stays, as it cannot be set aside: {problem}"
            log.warning("%s", self._problem)
            return False
        self._problem = ""
        return True

    def warnings(self, _now: float) -> list[str]:
        return [self._problem] if self._problem else []


def _number(day: str) -> int:
    try:
        return int(datetime.strptime(day, "%Y-%m-%d").replace(tzinfo=UTC).timestamp()) // 86_400
    except ValueError:
        raise bad_field("day", f"{day!r} is no day: write it like 2026-11-27") from None


def _told(copy: Copy) -> DayCopy:
    return DayCopy(
        events=copy.events,
        bytes=copy.size,
        packed_bytes=copy.packed,
        digest=copy.digest,
        written_at=rfc3339(seconds_of(copy.written_at)),
    )
