"""Laying down the past of the fleet through the bulk path, in a process of its own so that its memory ends with it.

python -m balise.demo.history DATA STARTED FROM TO HOSTS DAYS SEED
"""

from __future__ import annotations

import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import insert, select, update
from sqlalchemy.orm import Session

from balise.api.hosts import Facts
from balise.api.rules import RuleBody
from balise.collect.kits.folder import shipped_kits
from balise.core.moments import NS, seconds_of
from balise.core.rules.limits import LEVEL_NAMES
from balise.core.rules.rehearsal import Breach, rehearse
from balise.core.series.steps import Steps
from balise.demo.fleet import FLEET, GROUPS, Ship
from balise.demo.model import METRICS, Measured, Model
from balise.demo.schedules import schedule_from
from balise.demo.stories import DAY, HOUR, LOST
from balise.demo.tales import TALES
from balise.demo.telling import Teller
from balise.server.alerts.book import group_key
from balise.server.hosts.groups import join_group
from balise.server.life import close
from balise.server.parts import Parts, build
from balise.server.rules.playing import smoothed
from balise.server.settings import Settings
from balise.store.events.day import Snapshot
from balise.store.events.store import Delivery
from balise.store.series.store import SeriesStore
from balise.store.state import tables

F64 = NDArray[np.float64]
FINE, COARSE = 15.0, 60.0
SHIPS_A_STEP = 6
SELDOM, OFTEN = 1500.0, 180.0
"""Seconds between two looks at the hosts, of all the past and around a story."""
SNAPSHOTS_A_STEP = 2000
SILENT_AFTER = 60.0
"""Seconds without a word after which a host counts as silent."""


def _step(alert: int, at: float, what: str, level: int, value: float | None) -> dict[str, Any]:
    step = {"alert": alert, "at": at, "what": what, "level": level, "value": value}
    return {**step, "who": "", "note": "", "placed": False}


def series_of(store: SeriesStore, host: int, measured: list[Measured]) -> NDArray[np.int64]:
    """The numbers of a host's series, in the order measured."""
    catalogue = store.catalogue
    ids = []
    for one in measured:
        unit, kind, description = METRICS[one.metric]
        metric = catalogue.metric(one.metric, unit, kind, description)
        ids.append(catalogue.series_id(host, metric, tuple(sorted(one.attributes.items())), one.part, one.kind))
    return np.array(ids, np.int64)


def grid(start: float, end: float) -> F64:
    """Moments at which the past is known: each 15 s in the last day, each minute before."""
    edge = max(start, end - DAY)
    coarse = np.arange(start // COARSE * COARSE + COARSE, edge, COARSE)
    fine = np.arange(edge // FINE * FINE + FINE, end, FINE)
    return np.concatenate([coarse, fine])


def counted(one: Measured, times: F64) -> F64:
    """A series' values as they would have been sent: a counter adds up what it grew by."""
    if one.kind != "counter":
        return one.values
    return shown(np.cumsum(one.values * np.diff(times, prepend=times[0] - FINE)))


def shown(totals: F64) -> F64:
    """What counters show of what they added up. Never added to: rounded down again and again, a counter that stands
    still would fall, and one that falls began anew."""
    return np.floor(totals * 1000) / 1000


class Past:
    """Writes what was, from `start` to `end`."""

    def __init__(self, console: Parts, ships: tuple[Ship, ...], model: Model, start: float, end: float) -> None:
        self._console = console
        self._ships = ships
        self._model = model
        self._start = start
        self._end = end

    def hosts(self) -> None:
        """Puts the hosts and groups there are into the directory."""
        now = time.time()

        def write(session: Session) -> None:
            for position, name in enumerate(GROUPS):
                if not session.scalar(select(tables.Group).where(tables.Group.name == name)):
                    session.add(tables.Group(name=name, position=position))
            session.flush()
            for ship in self._ships:
                row = session.scalar(select(tables.Host).where(tables.Host.name == ship.name))
                if row is None:
                    row = tables.Host(name=ship.name, created_at=self._start, state_since=self._start, state="ok")
                    session.add(row)
                row.labels, row.mode, row.collected_by = ship.labels, "resident", "its agent"
                row.last_seen = self._end
                row.facts = Facts(
                    host_name=ship.name,
                    os=ship.os,
                    kernel="6.1.0-37-amd64" if "Debian" in ship.os else "",
                    architecture="x86_64",
                    cores=ship.cores,
                    memory=ship.memory,
                    boot_time=now - 41 * DAY,
                    addresses=[ship.address],
                    time_zone="UTC",
                    virtual="physical" if ship.role == "hypervisor" else "virtual machine",
                    agent_version="0.1.0",
                ).model_dump()
                session.flush()
                for group in (ship.site, ship.group):
                    join_group(session, row.id, group)

        self._console.state.write(write)
        self._console.directory.reload()

    def series(self) -> None:
        times = grid(self._start, self._end)
        moments = (times * NS).astype(np.int64)
        for at in range(0, len(self._ships), SHIPS_A_STEP):
            part = self._ships[at : at + SHIPS_A_STEP]
            ids, at_which, values = [], [], []
            for ship in part:
                measured = self._model.measure(ship, times)
                known = self._console.directory.find(ship.name)
                if known:
                    heard = self._heard(ship, times)
                    ids.append(series_of(self._console.series, known.id, measured))
                    at_which.append(moments[heard])
                    values.append(np.vstack([counted(m, times) for m in measured])[:, heard])
            self._console.series.lay_down(ids, at_which, values)
            _progress("metrics", at + len(part), len(self._ships))

    def _heard(self, ship: Ship, times: F64) -> NDArray[np.bool_]:
        """Whether a host was heard at each moment."""
        if ship.name != LOST:
            return np.ones(len(times), bool)
        return self._model.schedule.strength("lost-gate", times, rise=1.0) <= 0.5

    def events(self) -> None:
        teller = Teller(self._model)
        day = self._start
        days = max(1, round((self._end - self._start) / DAY))
        while day < self._end:
            until = min(day + DAY, self._end)
            found = [e for ship in self._ships for e in teller.events(ship, day, until, every=110.0)]
            found.sort(key=lambda e: e.time)
            for at in range(0, len(found), 20_000):
                self._console.events.accept_now(Delivery(found[at : at + 20_000]))
            day = until
            _progress("events", min(days, round((day - self._start) / DAY)), days)

    def evidence(self) -> None:
        """Snapshots: now and then of all the past, often around what happened, each minute of the last two hours."""
        teller = Teller(self._model)
        kept: list[Snapshot] = []
        for at in self._looks():
            kept += [snapshot for ship in self._ships for snapshot in teller.snapshots(ship, at)]
            if len(kept) >= SNAPSHOTS_A_STEP:
                self._console.events.accept_now(Delivery([], kept))
                kept = []
        self._console.events.accept_now(Delivery([], kept))
        _progress("evidence", 1, 1)

    def _looks(self) -> list[float]:
        """When the hosts were looked at, unix seconds."""
        start, end = self._start, self._end
        found = {*np.arange(start, end, SELDOM), *np.arange(max(start, end - DAY), end, 300.0)}
        found |= {*np.arange(max(start, end - 2 * HOUR), end, 60.0)}
        for one in self._model.schedule.occurrences:
            if one.story in TALES and start < one.end and one.start < end:
                found |= {*np.arange(max(start, one.start - 900), min(end, one.end, one.start + HOUR), OFTEN)}
        return sorted(float(at) for at in found)

    def alerts(self) -> None:
        """What the shipped rules would have found, as alerts and as states of the hosts."""
        console = self._console
        console.rules.ship()
        console.rules.ship(shipped_kits()["postgresql"].kit.rules, "the kit postgresql")
        rules = console.state.read(lambda s: list(s.scalars(select(tables.Rule))))
        changes: dict[int, list[tuple[float, int]]] = {}
        self._steps: list[dict[str, Any]] = []
        for rule in rules:
            body = RuleBody.model_validate(rule.body)
            metric = console.series.catalogue.metrics.get(body.measure.metric or "")
            if metric is not None and body.limits.kind in ("above", "below"):
                self._alerts_of(rule.name, body, changes)
        # In the order in which it happened: incidents are made of the steps as they come.
        self._steps.sort(key=lambda step: float(step["at"]))
        console.state.write(lambda s: s.execute(insert(tables.AlertStep), self._steps) if self._steps else None)
        console.state.write(lambda s: self._write_states(s, changes))
        _progress("alerts", 1, 1)

    def _alerts_of(self, name: str, body: RuleBody, changes: dict[int, list[tuple[float, int]]]) -> None:
        console = self._console
        measured = body.measure.parts["value"]
        take = measured.take if measured.take != "change" else "last"
        metric = console.series.catalogue.metrics[measured.metric]
        for start, end, width in self._stretches():
            steps = Steps(int(start // width * width) * NS, int(width) * NS, int((end - start) // width))
            answer = console.metrics.engine.ask(metric, measured.where, steps, take, body.measure.each)
            values = smoothed(answer.values, max(1, round(120 / width)), take)
            steps = answer.steps
            times = (np.arange(steps.count, dtype=np.float64) + 1) * seconds_of(steps.width) + seconds_of(steps.start)
            found = rehearse(body.limits, times, values.astype(np.float64))
            console.state.write(
                lambda s, named=answer.named, found=found: self._write_alerts(  # type: ignore[misc]
                    s, name, body, metric.unit, named, found, changes
                )
            )

    def _stretches(self) -> list[tuple[float, float, float]]:
        edge = max(self._start, self._end - DAY)
        old = [(self._start, edge, 300.0)] if edge > self._start else []
        return [*old, (edge, self._end, 60.0)]

    def _write_alerts(
        self,
        session: Session,
        name: str,
        body: RuleBody,
        unit: str,
        named: list[dict[str, str]],
        found: list[Breach],
        changes: dict[int, list[tuple[float, int]]],
    ) -> None:
        for breach in found:
            attributes = named[breach.group]
            known = self._console.directory.find(attributes.get("host", ""))
            if known is None or (breach.recovered_at is None and breach.opened_at < self._end - DAY):
                continue
            limit = body.limits.critical if breach.level > 1 else body.limits.warning
            row = tables.Alert(
                rule=name,
                about=body.about,
                group_key=group_key(attributes),
                host=known.id,
                host_name=known.name,
                attributes={k: v for k, v in attributes.items() if k != "host"},
                measure=body.measure.model_dump(exclude_none=True),
                limits=body.limits.model_dump(exclude_none=True),
                advice=body.advice,
                unit=unit,
                level=breach.level,
                silent=False,
                value=breach.worst_value,
                worst_value=breach.worst_value,
                bound=(limit.above if limit and limit.above is not None else 0.0),
                opened_at=breach.opened_at,
                changed_at=breach.changes[-1][0],
                recovered_at=breach.recovered_at,
                recovery="recovered" if breach.recovered_at else None,
                evidence=self._console.evidence.of_breach(known.name, breach.opened_at, breach.opened_at),
            )
            session.add(row)
            session.flush()
            moments = [(at, level) for at, level in breach.changes]
            for i, (at, level) in enumerate(moments):
                what = "opened" if i == 0 else "worsened" if level > moments[i - 1][1] else "eased"
                self._steps.append(_step(row.id, at, what, level, breach.worst_value))
            if breach.recovered_at:
                self._steps.append(_step(row.id, breach.recovered_at, "recovered", breach.level, None))
                moments.append((breach.recovered_at, 0))
            tracks = changes.setdefault(known.id, [])
            tracks.extend(
                (at, level - before)
                for (at, level), before in zip(moments, [0, *[v for _, v in moments]], strict=False)
            )
            tracks.sort()

    def _write_states(self, session: Session, changes: dict[int, list[tuple[float, int]]]) -> None:
        """States from the levels of alerts over time. Alerts of a host seldom overlap: levels are added and capped."""
        for known in self._console.directory.all():
            if known.name not in {s.name for s in self._ships}:
                continue
            session.add(tables.StateChange(host=known.id, at=self._start, state="ok"))
            level, state, since = 0, "ok", self._start
            for at, by in changes.get(known.id, []):
                level += by
                name = LEVEL_NAMES[max(0, min(2, level))]
                if name != state:
                    state, since = name, at
                    session.add(tables.StateChange(host=known.id, at=at, state=state))
            if known.name == LOST:
                for one in self._model.schedule.of("lost-gate"):
                    if self._start < one.start and one.end < self._end:
                        session.add(tables.StateChange(host=known.id, at=one.start + SILENT_AFTER, state="silent"))
                        session.add(tables.StateChange(host=known.id, at=one.end, state="ok"))
            session.execute(
                update(tables.Host).where(tables.Host.id == known.id).values(state=state, state_since=since)
            )


def _progress(what: str, done: int, of: int) -> None:
    print(f"{what} {done} {of}", flush=True)


def main() -> None:
    """Metrics here, what was said in a second process beside it; then the alerts, which need both."""
    data, started, start, end, hosts, days, seed, *part = sys.argv[1:]
    console = build(Settings(data=Path(data)))
    model = Model(schedule_from(float(started), float(days), seed=int(seed)), float(started), int(seed))
    past = Past(console, FLEET[: int(hosts)], model, float(start), float(end))
    if part:
        past.events()
        past.evidence()
    else:
        first = not console.directory.find(FLEET[0].name)
        past.hosts()
        with subprocess.Popen([sys.executable, "-m", "balise.demo.history", *sys.argv[1:], "said"]) as beside:
            past.series()
        if beside.returncode:
            raise SystemExit(beside.returncode)
        if first:
            console.events.book.reload()
            past.alerts()
    close(console)


if __name__ == "__main__":
    main()
