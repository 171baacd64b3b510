"""Who would be told, if something happened now or at another time."""

from __future__ import annotations

import time
from collections.abc import Iterator

from sqlalchemy.orm import Session

from balise.api.callouts import WhoAsked, WouldBeTold
from balise.api.spans import instant, rfc3339, seconds
from balise.core import filters
from balise.core.callouts.hours import holds
from balise.server.callouts.book import CalloutBook, Ready
from balise.server.callouts.ways import Nobody, Way, ways_to
from balise.server.hosts.directory import Directory
from balise.server.incidents.facts import facts_about
from balise.server.incidents.surroundings import Surroundings
from balise.store.state.store import StateStore


class Who:
    """Asks the callouts, rotas and people as they are now."""

    def __init__(
        self, *, state: StateStore, callouts: CalloutBook, directory: Directory, surroundings: Surroundings
    ) -> None:
        self._state = state
        self._callouts = callouts
        self._directory = directory
        self._surroundings = surroundings

    def told(self, asked: WhoAsked) -> list[WouldBeTold]:
        """Everybody by when they would be told, unless somebody takes it."""
        at = instant(asked.at, time.time())
        wanted = asked.incident
        applications = {wanted.application} if wanted.application else set[str]()
        if wanted.host:
            applications |= {hurt.application for hurt in self._surroundings.touched_by(wanted.host)}
        facts = facts_about(
            severity=wanted.severity,
            hosts=[wanted.host] if wanted.host else [],
            applications=applications,
            rules=[wanted.rule] if wanted.rule else [],
            directory=self._directory,
        )

        def read(session: Session) -> list[WouldBeTold]:
            found: list[WouldBeTold] = []
            for ready in self._callouts.ready():
                if ready.when is not None and not filters.matches(ready.when, facts.get):
                    continue
                if ready.body.hours is None or holds(ready.body.hours, at):
                    found += _of_callout(session, ready, at, wanted.severity)
            return sorted(found, key=lambda one: (one.after_seconds, one.callout))

        return self._state.read(read)


def _of_callout(session: Session, ready: Ready, at: float, severity: str) -> Iterator[WouldBeTold]:
    waits = seconds(ready.body.digest) if ready.body.digest and severity == "warning" else 0.0
    for number, step in enumerate(ready.body.in_steps(), start=1):
        after = max(seconds(step.after), waits)
        for target in step.tell:
            for way in ways_to(session, target, at + after):
                yield _would_be(ready.name, number, after, way, at)


def _would_be(callout: str, step: int, after: float, way: Way | Nobody, at: float) -> WouldBeTold:
    if isinstance(way, Nobody):
        return WouldBeTold(callout=callout, step=step, after_seconds=after, person=None, channel=None, because=way.why)
    because = way.because
    if way.quiet_until is not None:
        because += f"; in quiet hours until {rfc3339(way.quiet_until)[:16].replace('T', ' ')} UTC, told then"
        after = way.quiet_until - at
    return WouldBeTold(
        callout=callout, step=step, after_seconds=after, person=way.person, channel=way.channel, because=because
    )
