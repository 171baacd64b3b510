"""From when on things were there or not, as it is kept of each kind of them."""

from __future__ import annotations

import time
from bisect import bisect_right
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import ColumnElement, and_, func, or_, select, true, tuple_
from sqlalchemy.orm import InstrumentedAttribute, Session, aliased

from balise.api.applications import ApplicationBody, ApplicationPart
from balise.api.availability import Presence
from balise.api.hosts import State
from balise.api.spans import seconds
from balise.core.applications import rolled
from balise.core.availability import Change, lasted_before, with_gaps
from balise.core.health import worst
from balise.core.moments import seconds_of
from balise.core.series.steps import steps_between
from balise.server.applications.book import ApplicationBook
from balise.server.errors import Refused, bad_field, unknown
from balise.server.events.evidence import filters_text
from balise.server.hosts.directory import Directory
from balise.server.keeping.runs import ConsoleRuns
from balise.server.metrics.questions import Metrics
from balise.server.probes.results import GRACE, LATE, LEVELS, ProbeResults
from balise.store.database import ASKED_AT_ONCE, in_pieces, rows_together
from balise.store.series.query import TooLarge
from balise.store.state.store import StateStore
from balise.store.state.tables import Service, ServiceStep, StateChange

F64 = NDArray[np.float64]
MOST_CHANGES = 20_000
A_MOMENT = 0.001
"""Seconds below which a sum is nothing but rounding."""
PROBE_STEPS = 2000
_OF_HOST: Mapping[str, Presence] = {"silent": "down", "paused": "maintenance"}
_OF_SERVICE: Mapping[str, Presence] = {"silent": "unknown", "paused": "maintenance"}
_STATES: Mapping[Presence, State] = {"up": "ok", "down": "critical", "unknown": "silent", "maintenance": "paused"}


class Histories:
    """Reads what was.

    A host is up while it is heard, a service while it answers whoever reads it, a probe while it does not fail from as
    many places as it takes, an application while its fronts have what they need of all these.
    """

    def __init__(
        self,
        *,
        state: StateStore,
        directory: Directory,
        probes: ProbeResults,
        applications: ApplicationBook,
        metrics: Metrics,
        runs: ConsoleRuns,
        clock: Callable[[], float] = time.time,
    ) -> None:
        self._state = state
        self._directory = directory
        self._probes = probes
        self._applications = applications
        self._metrics = metrics
        self._runs = runs
        self._clock = clock

    def hosts(self, names: Iterable[str], start: float, end: float) -> dict[str, list[Change]]:
        """Of each host that there is."""
        numbers = {known.id: known.name for name in names if (known := self._directory.find(name)) is not None}
        found: dict[str, list[Change]] = {name: [] for name in numbers.values()}

        def read(session: Session) -> None:
            # Of more than one question may name, all are read: that takes less than naming them.
            chosen = StateChange.host.in_(numbers) if len(numbers) <= ASKED_AT_ONCE else true()
            mine = _reaching_into(start, end, chosen, StateChange.at, StateChange.host)
            query = select(StateChange.host, StateChange.at, StateChange.state).where(mine)
            for host, at, host_state in rows_together(session, query.order_by(StateChange.at, StateChange.id)):
                if host in numbers:
                    found[numbers[host]].append((at, _OF_HOST.get(host_state, "up")))

        self._state.read(read)
        gaps = self._runs.gaps(start, end)
        return {name: with_gaps(changes, gaps) for name, changes in found.items()} if gaps else found

    def hosts_down(self, start: float, end: float) -> dict[str, float]:
        """For how many seconds of a span each host was down, as `hosts` says of it, but for a rounding; those that
        never were are left out."""
        later = aliased(StateChange)
        comes_after = tuple_(later.at, later.id) > tuple_(StateChange.at, StateChange.id)
        after = select(later.at).where(later.host == StateChange.host, later.at <= end, comes_after)
        until = func.coalesce(after.order_by(later.at, later.id).limit(1).scalar_subquery(), end)
        silent = StateChange.state.in_([state for state, presence in _OF_HOST.items() if presence == "down"])
        stretches = select(StateChange.host, StateChange.at, until.label("until")).where(silent, StateChange.at < end)
        # Looked up once for each, not once more where it is asked for.
        every = stretches.cte().prefix_with("MATERIALIZED")
        query = select(every.c.host, every.c.at, every.c.until).where(every.c.until > start)
        rows = self._state.read(lambda session: rows_together(session, query))
        hosts, since, ended = np.array(rows, np.float64).reshape(-1, 3).T
        since = np.maximum(since, start)
        # Where nobody was there to see, it is not known.
        unseen = lasted_before(self._runs.gaps(start, end), np.array([since, ended]))
        each = np.bincount(hosts.astype(np.int64), ended - since - (unseen[1] - unseen[0]))
        down = np.flatnonzero(each > A_MOMENT).tolist()
        return {known.name: float(each[host]) for host in down if (known := self._directory.get(host)) is not None}

    def services(self, names: Iterable[str], start: float, end: float) -> dict[str, list[Change]]:
        """Of each service, called HOST/SERVICE."""
        wanted = dict.fromkeys(names)
        found: dict[str, list[Change]] = {}

        def read(session: Session) -> None:
            numbers = {}
            for row in session.scalars(select(Service)):
                name = f"{self._directory.name(row.host) or ''}/{row.name}"
                if name in wanted:
                    numbers[row.id], found[name] = name, []
            steps: dict[int, list[ServiceStep]] = {}
            for piece in in_pieces(list(numbers)):
                mine = and_(ServiceStep.service.in_(piece), ServiceStep.what.in_(("state", "answering")))
                mine = _reaching_into(start, end, mine, ServiceStep.at, ServiceStep.service, ServiceStep.what)
                query = select(ServiceStep).where(mine)
                for step in session.scalars(query.order_by(ServiceStep.at, ServiceStep.id)):
                    steps.setdefault(step.service, []).append(step)
            for number, own in steps.items():
                found[numbers[number]] = _of_steps(own)

        self._state.read(read)
        gaps = self._runs.gaps(start, end)
        return {name: with_gaps(changes, gaps) for name, changes in found.items()}

    def probe(self, name: str, start: float, end: float) -> list[Change]:
        """From the series that probes keep of their state, over all their places."""
        metric = self._metrics.metric("probe.state")
        if metric is None:
            return []
        steps = steps_between(start, end, step=None, points=PROBE_STEPS)
        try:
            answer = self._metrics.engine.ask(metric, f"probe eq {filters_text(name)}", steps, "last", ["probe"])
        except TooLarge as error:
            raise bad_field("from", str(error)) from None
        if not len(answer.values):
            return []
        known = self._probes.known.get(name)
        patience = LATE * seconds(known.body.every) + GRACE if known is not None else 0.0
        steps = answer.steps
        patience = max(patience, 2 * seconds_of(steps.width))
        return _of_line(answer.values[0], steps.start, steps.width, LEVELS["critical"], patience)

    def application(self, body: ApplicationBody, start: float, end: float) -> list[Change]:
        """From what its parts were, moment by moment, as it is drawn now."""
        histories = self._of_parts(body.parts, start, end)
        moments = sorted({at for history in histories.values() for at, _ in history})[:MOST_CHANGES]
        fronts = {part.name for part in body.parts} - {to for need in body.needs for to in need.to}
        found: list[Change] = []
        for moment in moments:
            own = {name: _STATES[_at(history, moment)] for name, history in histories.items()}
            states = rolled(own, body.needs)
            state = worst(states[name][0] for name in fronts or own)
            presence: Presence = {"critical": "down", "silent": "unknown", "paused": "maintenance"}.get(state, "up")  # type: ignore[assignment]
            if not found or found[-1][1] != presence:
                found.append((moment, presence))
        return found

    def _of_parts(self, parts: Sequence[ApplicationPart], start: float, end: float) -> dict[str, list[Change]]:
        members = {
            part.name: [known.name for known in self._directory.all() if part.group in known.groups]
            for part in parts
            if part.group is not None
        }
        wanted = {name for names in members.values() for name in names}
        hosts = self.hosts(wanted | {p.host for p in parts if p.host is not None}, start, end)
        services = self.services((f"{p.host}/{p.service}" for p in parts if p.service is not None), start, end)
        found: dict[str, list[Change]] = {}
        for part in parts:
            if part.probe is not None:
                found[part.name] = self.probe(part.probe, start, end)
            elif part.group is not None:
                found[part.name] = _any_of([hosts[name] for name in members[part.name]])
            elif part.service is not None and services.get(f"{part.host}/{part.service}"):
                found[part.name] = services[f"{part.host}/{part.service}"]
            else:
                found[part.name] = hosts.get(part.host or "", [])
        return found

    # --- one, or all of a kind

    def of(self, kind: str, name: str, start: float, end: float) -> list[Change]:
        """The history of one thing. Raises Refused 404 when there is no such thing."""
        if kind == "host":
            found = self.hosts([name], start, end)
        elif kind == "service":
            found = self.services([name], start, end)
        elif kind == "probe":
            if name not in self._probes.known:
                raise unknown("probe", name)
            return self.probe(name, start, end)
        else:
            drawing = next((body for drawn, body in self._applications.drawings() if drawn == name), None)
            if drawing is None:
                raise unknown("application", name)
            return self.application(drawing, start, end)
        if name not in found:
            hint = " A service is named HOST/SERVICE." if kind == "service" else ""
            raise Refused(404, f"There is no {kind} {name!r}.{hint}")
        return found[name]

    def all_of(self, kind: str, start: float, end: float) -> dict[str, list[Change]]:
        """The histories of all of a kind other than hosts."""
        if kind == "service":
            rows = self._state.read(lambda s: list(s.scalars(select(Service))))
            every = [
                f"{self._directory.name(row.host)}/{row.name}" for row in rows if self._directory.is_here(row.host)
            ]
            return self.services(every, start, end)
        if kind == "probe":
            return {name: self.probe(name, start, end) for name in sorted(self._probes.known)}
        return {name: self.application(body, start, end) for name, body in self._applications.drawings()}


def _reaching_into(
    start: float, end: float, mine: ColumnElement[bool], at: InstrumentedAttribute[float], *keys: Any
) -> ColumnElement[bool]:
    """Which changes tell what things were within a span: those in it, and of each of `keys` the last before."""
    before = select(func.max(at)).where(mine, at <= start).group_by(*keys)
    return and_(mine, at < end, or_(at > start, at.in_(before)))


def _of_steps(steps: Iterable[ServiceStep]) -> list[Change]:
    """A service is down while whoever reads it gets no answer; where nobody reads it, nothing is known."""
    state, answers = "ok", True
    found: list[Change] = []
    for step in steps:
        if step.what == "state":
            state = step.after
        else:
            answers = step.after != "no"
        presence = _OF_SERVICE.get(state, "up" if answers else "down")
        if not found or found[-1][1] != presence:
            found.append((step.at, presence))
    return found


def _of_line(values: F64, start: int, width: int, failing: float, patience: float) -> list[Change]:
    """Steps of a probe's state as changes, [steps]: what it was holds for so many seconds, then it is not known."""
    found: list[Change] = []
    heard: float | None = None
    for place in np.flatnonzero(~np.isnan(values)).tolist():
        at = seconds_of(start + place * width)
        if heard is not None and at - heard > patience:
            found.append((heard + patience, "unknown"))
        presence: Presence = "down" if values[place] >= failing else "up"
        if not found or found[-1][1] != presence:
            found.append((at, presence))
        heard = at
    if heard is not None:
        found.append((heard + patience, "unknown"))
    return found


def _any_of(histories: Sequence[Sequence[Change]]) -> list[Change]:
    """A group is up while any of it is."""
    best: dict[Presence, int] = {"up": 0, "maintenance": 1, "unknown": 2, "down": 3}
    found: list[Change] = []
    for moment in sorted({at for history in histories for at, _ in history})[:MOST_CHANGES]:
        presence = min((_at(history, moment) for history in histories), key=lambda p: best[p])
        if not found or found[-1][1] != presence:
            found.append((moment, presence))
    return found


def _at(history: Sequence[Change], moment: float) -> Presence:
    place = bisect_right(history, moment, key=lambda change: change[0])
    return history[place - 1][1] if place else "unknown"
