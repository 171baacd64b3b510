"""What the service gathers for the trail: series, lines, changes, sessions, processes, and what needs what."""

from __future__ import annotations

import json
import time

import numpy as np
import pytest
from sqlalchemy.orm import Session

from balise.api.applications import ApplicationBody
from balise.api.events import SEVERITIES
from balise.api.hosts import HostChange
from balise.core.events.new_event import NewEvent
from balise.core.moments import nanos
from balise.core.trail.evidence import signs_of_lines
from balise.core.trail.trail import Trail, trail_of
from balise.server.parts import Parts
from balise.server.trail.edges import Edges
from balise.server.trail.gather import Gathered, Gatherer
from balise.store.events.day import Snapshot, pack_snapshot
from balise.store.events.store import Delivery
from balise.store.state.tables import Host
from laying import F64, lay

HOUR = 3600.0
HOSTS = ("web", "app", "db")


@pytest.fixture
def end() -> float:
    return time.time() // 60 * 60


@pytest.fixture
def gatherer(console: Parts) -> Gatherer:
    return console.trails.gatherer


@pytest.fixture
def edges(console: Parts) -> Edges:
    return Edges(
        directory=console.directory, applications=console.applications, talks=console.talks,
        services=console.services, probes=console.probe_results, machines=console.machines,
    )  # fmt: skip


def quiet(times: F64, seed: int, level: float) -> F64:
    return np.random.default_rng(seed).normal(level, level * 0.03, len(times))


def lay_chain(console: Parts, end: float, *, at: float) -> None:
    """The database queues, then the application is slow, then the web fails; each seen every 15 s."""
    times = np.arange(end - 2 * HOUR, end, 15.0)
    for seed, (host, metric, unit, later, by) in enumerate(
        (
            ("db", "store.queue.depth", "{request}", 0.0, 40.0), ("app", "app.request.duration", "s", 75.0, 1.5),
            ("web", "web.request.duration", "s", 150.0, 2.0), ("web", "web.sessions", "{session}", 1e9, 0.0),
            ("app", "app.sessions", "{session}", 1e9, 0.0), ("db", "store.open", "{file}", 1e9, 0.0),
        )
    ):  # fmt: skip
        level = 0.2 if unit == "s" else 20.0
        values = quiet(times, seed, level) + by * (times >= at + later)
        lay(console, host, metric, times, values, {"service.name": host}, unit=unit)
    drawn = {"parts": [{"name": host, "host": host} for host in HOSTS],
             "needs": [{"from": "web", "to": ["app"]}, {"from": "app", "to": ["db"]}]}  # fmt: skip
    console.applications.put("Shop", ApplicationBody.model_validate(drawn), "t")


def line(host: str, at: float, source: str, body: str, **attributes: object) -> NewEvent:
    packed = json.dumps(attributes) if attributes else None
    return NewEvent(nanos(at), host, SEVERITIES.index("warning"), source, body, packed)


def found(gatherer: Gatherer, felt: list[tuple[str, str]], start: float, end: float) -> tuple[Gathered, Trail]:
    gathered = gatherer.gather(felt, start, end)
    return gathered, trail_of(gathered.case, lambda at: time.strftime("%H:%M", time.gmtime(at)))


def test_a_chain_is_followed_to_its_beginning(console: Parts, gatherer: Gatherer, edges: Edges, end: float) -> None:
    began = end - 1200
    lay_chain(console, end, at=began)
    felt = edges.felt("Shop")
    assert felt == [("web", "")]
    gathered, trail = found(gatherer, felt, began - 600, end)
    assert (gathered.hosts, gathered.series, gathered.left_out) == (3, 6, 0)
    assert [(sign.thing.host, sign.line.metric) for sign in trail.departed if sign.line] == [
        ("db", "store.queue.depth"), ("app", "app.request.duration"), ("web", "web.request.duration"),
    ]  # fmt: skip
    first = trail.suspects[0].suspect
    assert (first.thing.kind, first.thing.host) == ("service", "db")
    assert abs(first.first.at - began) <= first.first.uncertainty + 15
    assert {effect.node[0] for effect in first.effects if effect.way.strength > 0.5} >= {"app", "web"}


def test_the_session_that_holds_the_others_is_named_before_its_database(
    console: Parts, gatherer: Gatherer, end: float
) -> None:
    began = end - 1200
    lay_chain(console, end, at=began)
    for at in np.arange(began + 30, end, 60.0).tolist():
        rows = [
            {
                "id": 1,
                "service": "db",
                "application": "import",
                "state": "active",
                "seconds": at - began,
                "blocked_by": None,
            }
        ]
        rows += [{"id": 2 + i, "service": "db", "application": "shop", "state": "active", "seconds": 5.0, "blocked_by": 1}
                 for i in range(9)]  # fmt: skip
        console.events.accept_now(Delivery([], [Snapshot(nanos(at), "db", "sessions", pack_snapshot(rows))]))
    _, trail = found(gatherer, [("web", "")], began - 600, end)
    first = trail.suspects[0]
    assert (first.suspect.thing.kind, first.suspect.thing.name, first.suspect.thing.host) == ("session", "import", "db")
    assert "9 sessions wait for it" in trail.sentence


def test_what_is_said_anew_and_what_was_changed_is_taken_up(console: Parts, gatherer: Gatherer, end: float) -> None:
    began = end - 1200
    lay_chain(console, end, at=began)
    said = [line("db", began + 5 + i * 7, "store", f"cannot write page {i} of the ledger") for i in range(60)]
    tried = [
        line("web", began + i * 3, "sshd", f"Failed password for user{i} from 203.0.113.9 port {4000 + i}")
        for i in range(80)
    ]
    as_always = [line("app", end - 2 * HOUR + i * 20, "app", f"job {i} is done") for i in range(350)]
    changed = line("db", began - 10, "change", "package store changed: 1 → 2", **{"change.what": "store"})
    console.events.accept_now(Delivery(sorted([*said, *tried, *as_always, changed], key=lambda e: e.time)))
    console.events.tell_all()
    case = gatherer.gather([("web", "")], began - 600, end).case
    told = {(one.source, one.thing.kind, one.thing.host): one for one in case.happenings}
    pattern, address = told["pattern", "host", "db"], told["pattern", "address", "web"]
    assert "cannot write page" in pattern.text and pattern.at == pytest.approx(began + 5, abs=2)
    assert (address.thing.name, address.share) == ("203.0.113.9", 1.0)
    assert told["change", "change", "db"].thing.name == "store"
    assert not [one for one in case.happenings if one.thing.host == "app"], "what is said as always is nothing"


def test_a_process_that_began_and_takes_the_processor_is_taken_up(
    console: Parts, gatherer: Gatherer, end: float
) -> None:
    began = end - 1200
    lay_chain(console, end, at=began)
    for at in np.arange(end - 2 * HOUR, end, 60.0).tolist():
        rows = [{"pid": 7, "name": "store", "user": "s", "cpu": 0.4, "started": 1.0}]
        if at >= began:
            rows.append({"pid": 9, "name": "copy", "user": "root", "cpu": 3.0, "started": began})
        console.events.accept_now(Delivery([], [Snapshot(nanos(at), "db", "processes", pack_snapshot(rows))]))
    (one,) = (h for h in gatherer.gather([("web", "")], began - 600, end).case.happenings if h.source == "process")
    assert (one.thing.name, one.thing.host, one.share) == ("copy", "db", pytest.approx(1.0))
    assert one.at == pytest.approx(began)


def test_a_machine_and_those_on_it_reach_each_other(console: Parts, edges: Edges, end: float) -> None:
    lay_chain(console, end, at=end + HOUR)
    machine = console.directory.ensure("metal")
    for name in ("app", "db"):
        console.hosts.change(name, HostChange(labels={"runs-on": "metal"}), "t")
    assert edges.machines() == {"metal": 2}
    hosts, _ = edges.around([("web", "")], edges.all())
    assert hosts[0].name == "web"
    graph = edges.graph(edges.all(), hosts, [])
    reached = graph.reached((machine.name, ""))
    assert {("app", ""), ("db", ""), ("web", "")} <= set(reached)


def test_hosts_of_one_segment_or_one_relay_are_near_each_other(console: Parts, edges: Edges) -> None:
    told = {
        "a": ({"addresses": ["10.1.2.3"]}, "resident", "its agent"),
        "b": ({"addresses": ["10.1.2.9", "fe80::1"]}, "resident", "its agent"),
        "c": ({"addresses": ["10.1.3.3"]}, "remote", "relay quay over SSH"),
        "d": ({}, "remote", "relay quay over WinRM"),
        "e": ({"addresses": ["fe80::1"]}, "remote", "the console over SSH"),
        "f": ({}, "remote", "the console over SSH"),
    }
    numbers = {name: console.directory.ensure(name).id for name in told}

    def write(session: Session) -> None:
        for name, (facts, mode, by) in told.items():
            row = session.get_one(Host, numbers[name])
            row.facts, row.mode, row.collected_by = facts, mode, by

    console.state.write(write)
    console.directory.refresh(*numbers.values())
    graph = edges.graph(edges.all(), console.directory.all(), [])
    near = {name: sorted(host for host, _ in graph.reached((name, "")) if host in told) for name in told}
    assert near == {"a": ["a", "b"], "b": ["a", "b"], "c": ["c", "d"], "d": ["c", "d"], "e": ["e"], "f": ["f"]}


def test_a_histogram_that_does_as_each_day_at_this_hour_has_not_departed(
    console: Parts, gatherer: Gatherer, end: float
) -> None:
    """Its mean is held against its mean then, not against the sum of all that was added."""
    times = np.arange(end - 17 * 24 * HOUR, end, 300.0)
    odd = times >= end - 1500
    away = (times - (end - 1500) + 12 * HOUR) % (24 * HOUR) - 12 * HOUR
    daily = odd | ((np.abs(away) < 3 * HOUR) & (times < end - 12 * HOUR))
    for seed, (name, slow) in enumerate((("as.always.duration", daily), ("anew.duration", odd))):
        each = quiet(times, seed, 0.2) + 0.8 * slow
        asked = np.floor(quiet(times, seed + 7, 6000.0))
        lay(console, "web", name, times, np.cumsum(asked * each), unit="s", kind="counter", part="sum")
        lay(console, "web", name, times, np.cumsum(asked), unit="s", kind="counter", part="count")
    case = gatherer.gather([("web", "")], end - 2400, end).case
    signs = {sign.line.metric: sign for sign in signs_of_lines(case) if sign.line and sign.line.sort == "latency"}
    assert set(signs) == {"anew.duration"}
    assert abs(signs["anew.duration"].at - (end - 1500)) <= 600


def test_what_a_kit_says_its_metric_tells_is_believed(console: Parts, gatherer: Gatherer, end: float) -> None:
    times = np.arange(end - 3 * HOUR, end, 30.0)
    console.kits.start()
    lay(console, "db", "postgresql.connection.count", times, quiet(times, 3, 40.0), unit="{connection}")
    case = gatherer.gather([("db", "")], end - 1800, end).case
    assert {line.metric: line.sort for line in case.lines}["postgresql.connection.count"] == "saturation"
