"""How much of a time things were there: from what is kept of hosts, services, probes and applications."""

from __future__ import annotations

import random
import time
from collections.abc import Sequence

import numpy as np
import pytest
from sqlalchemy.orm import Session

from balise.api.applications import ApplicationBody
from balise.api.availability import Availability, AvailabilityTarget, Presence
from balise.api.probes import ProbeBody
from balise.core.availability import summed
from balise.server.availability import histories
from balise.server.errors import Refused
from balise.server.parts import Parts
from balise.server.people.access import Principal
from balise.store.state import tables
from laying import lay

HOUR = 3600.0


@pytest.fixture
def now() -> float:
    return time.time() // HOUR * HOUR


@pytest.fixture
def console(console: Parts, now: float) -> Parts:
    """Two hosts: `a` was silent for an hour and in maintenance for another, `b` was always there."""
    for host in ("a", "b"):
        console.directory.ensure(host)
    told(console, "a", (now - 10 * HOUR, "ok"), (now - 8 * HOUR, "silent"), (now - 7 * HOUR, "critical"),
         (now - 5 * HOUR, "paused"), (now - 4 * HOUR, "ok"))  # fmt: skip
    told(console, "b", (now - 10 * HOUR, "warning"))
    return console


def told(console: Parts, host: str, *states: tuple[float, str]) -> None:
    number = console.hosts.known(host).id
    rows = [tables.StateChange(host=number, at=at, state=state) for at, state in states]
    console.state.write(lambda s: s.add_all(rows))


STEPS = [("state", "ok"), ("state", "critical"), ("state", "silent"), ("answering", "no"), ("answering", "yes")]


def stepped(console: Parts, host: str, name: str, steps: Sequence[tuple[float, str, str]]) -> None:
    """A service of a host, with when what of it became so."""

    def write(session: Session) -> None:
        row = tables.Service(
            host=console.hosts.known(host).id, name=name, kit="postgresql", mode="resident", target={}, every=0,
            created_at=0.0,
        )  # fmt: skip
        session.add(row)
        session.flush()
        session.add_all(tables.ServiceStep(service=row.id, at=at, what=what, after=after) for at, what, after in steps)

    console.state.write(write)


def of(console: Parts, kind: str, name: str, start: float, end: float) -> Availability:
    return console.availability.of(kind, name, start, end)  # type: ignore[arg-type]


def presences(found: Availability) -> list[Presence]:
    return [one.presence for one in found.ribbon]


def test_a_host_is_down_while_it_is_silent(console: Parts, now: float) -> None:
    found = of(console, "host", "a", now - 20 * HOUR, now)
    assert (found.up, found.down, found.unknown, found.maintenance) == pytest.approx((0.4, 0.05, 0.5, 0.05))
    (outage,) = found.outages
    assert (outage.seconds, outage.incident) == (HOUR, None) and outage.to is not None
    assert (found.between_seconds, found.repair_seconds) == (8 * HOUR, HOUR)
    assert presences(found) == ["unknown", "up", "down", "up", "maintenance", "up"]


def test_an_outage_says_which_incident_it_was(console: Parts, now: float) -> None:
    def write(session: object) -> int:
        alert = tables.Alert(
            rule="host-silent", about="A host is silent", group_key="a", host=None, host_name="a", attributes={},
            measure={}, limits={}, advice="", unit="s", level=2, value=1, worst_value=1, bound=1,
            opened_at=now - 8 * HOUR + 30, changed_at=now,
        )  # fmt: skip
        incident = tables.Incident(title="A host is silent: a", level=2, opened_at=now - 8 * HOUR + 30)
        session.add_all([alert, incident])  # type: ignore[attr-defined]
        session.flush()  # type: ignore[attr-defined]
        session.add(tables.IncidentAlert(alert=alert.id, incident=incident.id, at=now))  # type: ignore[attr-defined]
        return incident.id

    number = console.state.write(write)
    (outage,) = of(console, "host", "a", now - 10 * HOUR, now).outages
    assert (outage.incident, outage.cause) == (number, "A host is silent: a")
    assert of(console, "host", "b", now - 10 * HOUR, now).outages == []


def test_while_the_console_was_away_nobody_was_down(console: Parts, now: float) -> None:
    runs = [(now - 20 * HOUR, now - 8 * HOUR - 300), (now - 7 * HOUR - 60, now)]
    rows = [tables.ConsoleRun(began_at=began, alive_at=alive) for began, alive in runs]
    console.state.write(lambda s: s.add_all(rows))
    found = of(console, "host", "a", now - 10 * HOUR, now)
    assert (found.down, found.outages) == (0.0, [])
    assert found.unknown * 10 * HOUR == pytest.approx(HOUR + 300)


def test_a_service_is_down_while_it_does_not_answer(console: Parts, now: float) -> None:
    steps = [
        (now - 9 * HOUR, "state", "ok"), (now - 9 * HOUR, "answering", "yes"),
        (now - 6 * HOUR, "state", "critical"), (now - 5 * HOUR, "answering", "no"),
        (now - 3 * HOUR, "answering", "yes"), (now - 2 * HOUR, "state", "silent"),
    ]  # fmt: skip
    stepped(console, "b", "db", steps)
    found = of(console, "service", "b/db", now - 9 * HOUR, now)
    # What is critical and answers is up.
    assert (found.up, found.down, found.unknown) == pytest.approx((5 / 9, 2 / 9, 2 / 9))
    with pytest.raises(Refused, match="HOST/SERVICE"):
        of(console, "service", "db", now - HOUR, now)


@pytest.mark.parametrize("kind", ["host", "service"])
def test_any_span_says_what_the_whole_says_of_it(console: Parts, now: float, kind: str) -> None:
    chance = random.Random(7)
    moments = sorted(now - HOUR * chance.randrange(1, 200) for _ in range(60))
    others = sorted(now - HOUR * chance.randrange(1, 200) for _ in range(60))
    if kind == "host":
        for name, those in (("c", moments), ("d", others)):
            console.directory.ensure(name)
            told(console, name, *((at, chance.choice(["ok", "warning", "silent", "paused"])) for at in those))
        names = ["c", "d"]
    else:
        for host, those in (("a", moments), ("b", others)):
            steps = [(at, *chance.choice(STEPS)) for at in those]
            stepped(console, host, "db", steps)
        names = ["a/db", "b/db"]
    for name in names:
        whole = [(one.at, one.presence) for one in of(console, kind, name, now - 300 * HOUR, now).ribbon]
        assert len(whole) > 10
        for _ in range(25):
            start = now - HOUR * chance.uniform(1, 200)
            end = start + (now - start) * chance.uniform(0.05, 1)
            wanted, found = summed(whole, start, end, now), of(console, kind, name, start, end)
            assert [(one.at, one.presence) for one in found.ribbon] == wanted.changes
            assert found.down_seconds == pytest.approx(wanted.seconds["down"])


def test_a_probe_is_down_while_it_fails(console: Parts, now: float) -> None:
    body = ProbeBody.model_validate({"kind": "tcp", "target": {"address": "127.0.0.1", "port": 9}})
    console.probes.put("web", body, Principal("t", "administrator"))
    times = np.arange(now - 4 * HOUR, now, 60.0)
    level = np.where((times >= now - 2 * HOUR) & (times < now - HOUR), 2.0, 0.0)
    lay(console, "b", "probe.state", times, level, {"probe": "web"})
    found = of(console, "probe", "web", now - 4 * HOUR, now)
    assert (found.up, found.down) == pytest.approx((0.75, 0.25), abs=0.01)


def test_an_application_is_down_when_its_front_lacks_what_it_needs(console: Parts, now: float) -> None:
    """One of two is enough: `a` away alone is no outage; for a front that needs `a` it is one."""
    parts = [{"name": "front", "host": "b"}, {"name": "one", "host": "a"}, {"name": "two", "host": "b"}]
    drawn = {"parts": parts, "needs": [{"from": "front", "to": ["one", "two"], "at_least": 1}]}
    console.applications.put("Spare", ApplicationBody.model_validate(drawn), "t")
    console.applications.put(
        "Single", ApplicationBody.model_validate({"parts": parts, "needs": [{"from": "front", "to": ["one"]}]}), "t"
    )
    spare = of(console, "application", "Spare", now - 10 * HOUR, now)
    single = of(console, "application", "Single", now - 10 * HOUR, now)
    assert (spare.down, spare.up) == (0.0, pytest.approx(1.0))
    assert single.down == pytest.approx(0.1) and len(single.outages) == 1


def test_a_target_says_what_is_left_of_it(console: Parts, now: float) -> None:
    console.availability.set_target("host", "b", AvailabilityTarget(share=0.99, per="year"), "t")
    found = of(console, "host", "b", now - 10 * HOUR, now)
    assert found.target == AvailabilityTarget(share=0.99, per="year") and found.left == 1.0
    assert found.left_seconds is not None and found.left_seconds > 3 * 86_400
    console.availability.set_target("host", "a", AvailabilityTarget(share=0.9999, per="week"), "t")
    # An hour is far more than a minute, wherever in the week it is.
    assert (of(console, "host", "a", now - HOUR, now).left or 0) <= 1.0
    listed = console.availability.all_of("host", None, now - 10 * HOUR, now)
    assert [(one.name, one.outage_count) for one in listed.items] == [("a", 1), ("b", 0)]
    assert listed.items[1].target is not None and (listed.left_out, listed.down) == (0, 1)
    first = console.availability.all_of("host", None, now - 10 * HOUR, now, limit=1)
    assert (first.items, first.left_out, first.down) == (listed.items[:1], 1, 1)
    console.availability.drop_target("host", "b", "t")
    assert of(console, "host", "b", now - HOUR, now).target is None
    with pytest.raises(Refused):
        console.availability.set_target("host", "nobody", AvailabilityTarget(share=0.9), "t")


def test_of_more_than_can_be_named_all_are_read(console: Parts, now: float, monkeypatch: pytest.MonkeyPatch) -> None:
    console.directory.ensure("c")
    told(console, "c", (now - 9 * HOUR, "silent"))
    asked = [(None, 5 * HOUR), ('host ne "c"', 9 * HOUR)]
    named = [console.availability.all_of("host", where, now - back, now) for where, back in asked]
    monkeypatch.setattr(histories, "ASKED_AT_ONCE", 1)
    assert [console.availability.all_of("host", where, now - back, now) for where, back in asked] == named
    assert [[one.name for one in found.items] for found in named] == [["c", "a", "b"], ["a", "b"]]


def test_those_that_were_down_longest_come_first_of_however_many(console: Parts, now: float) -> None:
    """As if all had been read: some were down before, at the edge, or only while the console was away itself."""
    chance = random.Random(3)
    names = [f"ramp-{number:02d}" for number in range(40)]
    for name in names:
        console.directory.ensure(name)
        moments = sorted(now - HOUR * chance.randrange(1, 60) for _ in range(chance.randrange(4)))
        told(console, name, *((at, chance.choice(["ok", "warning", "ok", "silent", "paused"])) for at in moments))
    away = [(now - 70 * HOUR, now - 30 * HOUR), (now - 20 * HOUR, now)]
    rows = [tables.ConsoleRun(began_at=began, alive_at=alive) for began, alive in away]
    console.state.write(lambda s: s.add_all(rows))
    seen = set()
    for _ in range(40):
        end = now - HOUR * chance.randrange(40)
        start, limit = end - HOUR * chance.randrange(1, 40), chance.randrange(1, 44)
        found = console.availability.all_of("host", None, start, end, limit)
        every = [
            name
            for name, _, _ in sorted(downs(console, [*names, "a", "b"], start, end), key=lambda d: (-d[1], -d[2], d[0]))
        ]
        assert [one.name for one in found.items] == every[:limit]
        assert found.left_out == max(0, 42 - limit)
        assert found.down == sum(seconds > 0 for _, seconds, _ in downs(console, [*names, "a", "b"], start, end))
        seen.add(found.down)
    assert len(seen) > 4


def downs(console: Parts, names: list[str], start: float, end: float) -> list[tuple[str, float, int]]:
    """Of each host how long it was down, and how often."""
    whole = {name: of(console, "host", name, start, end) for name in names}
    return [(name, found.down_seconds, found.outage_count) for name, found in whole.items()]


def test_a_filter_chooses_hosts_and_nothing_else(console: Parts, now: float) -> None:
    assert [one.name for one in console.availability.all_of("host", 'host eq "b"', now - HOUR, now).items] == ["b"]
    with pytest.raises(Refused, match="leave it out"):
        console.availability.all_of("probe", 'host eq "b"', now - HOUR, now)


def test_the_console_notes_that_it_is_alive(console: Parts) -> None:
    console.runs.note()
    console.runs.note()
    rows = console.state.read(lambda s: list(s.query(tables.ConsoleRun)))
    assert len(rows) == 1 and rows[0].alive_at >= rows[0].began_at
