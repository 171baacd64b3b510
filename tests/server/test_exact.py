"""Alerts that have to come, whatever happens around them: clocks off, failures behind them, restarts, hosts that leave."""

from __future__ import annotations

import json
import socket
import sqlite3
import time
from collections.abc import Sequence
from pathlib import Path

import numpy as np
import pytest
from sqlalchemy import select
from sqlalchemy.exc import OperationalError

from balise.api.hosts import HostChange
from balise.api.probes import ProbeBody
from balise.api.rules import Rehearse, RuleBody
from balise.api.sent import behind_by
from balise.server.alerts.book import CAPTURED, Turn
from balise.server.life import close
from balise.server.parts import Parts, build
from balise.server.people.access import Principal
from balise.server.rules import pulse, watch
from balise.server.settings import Settings
from balise.store.events.day import Snapshot, pack_snapshot
from balise.store.events.store import Delivery
from balise.store.state.tables import Alert, AlertStep, StateChange

NS = 1_000_000_000


def rule(metric: str = "load", take: str = "last", over: str = "60s", **limits: object) -> RuleBody:
    return RuleBody.model_validate(
        {
            "about": "x",
            "measure": {"metric": metric, "take": take, "over": over},
            "limits": limits or {"critical": {"above": 5, "clear": 4}},
        }
    )


def put(
    console: Parts, host: str, points: list[tuple[float, float]], metric: str = "load", kind: str = "gauge"
) -> None:
    known = console.directory.find(host) or console.directory.ensure(host)
    catalogue = console.series.catalogue
    made = catalogue.metric(metric, "1", kind, "")  # type: ignore[arg-type]
    layout = catalogue.layouts.of(np.array([catalogue.series_id(known.id, made, (), "", kind)]))  # type: ignore[arg-type]
    for at, value in points:
        console.series.accept_now(console.series.batch(layout, np.array([round(at * NS)]), np.array([value])))


def open_hosts(console: Parts) -> list[str]:
    names = (console.directory.name(a.host) for a in console.alerts.open.values() if a.host is not None)
    return sorted(name for name in names if name)


# --- clocks


def test_a_host_whose_clock_is_three_minutes_behind_is_watched(console: Parts) -> None:
    now = time.time()
    console.rules.put("high", rule(over="2m"), "test")
    put(console, "slow", [(now - 180, 9.0)])
    known = console.directory.find("slow")
    assert known is not None
    console.clocks.told(known.id, 180.0)
    console.watch.tick(now)
    assert open_hosts(console) == ["slow"]
    assert console.hosts.get("slow").collection.clock_seconds == -180.0


def test_a_clock_that_is_off_is_an_alert_of_its_own(console: Parts) -> None:
    console.rules.ship()
    console.watch.load(time.time())
    console.silence._began -= 60
    known = console.directory.ensure("fast")
    known.mode, known.last_seen = "resident", time.time()
    console.clocks.told(known.id, -300.0)
    for wait in (0, 61):
        console.silence.note()
        console.watch.tick(time.time() + wait)
    assert ("clock-off", "fast") in {
        (a.rule, console.directory.name(a.host or 0)) for a in console.alerts.open.values()
    }


def test_what_always_comes_as_late_is_behind_and_what_catches_up_is_not(console: Parts) -> None:
    now = time.time()
    for i in range(6):
        console.clocks.aged(1, now + 15 * i - 180, now + 15 * i)
        console.clocks.aged(2, now + 15 * i - 900 + 150 * i, now + 15 * i)
        console.clocks.aged(3, now + 15 * i + 40, now + 15 * i)
    assert [round(console.clocks.behind(host)) for host in (1, 2, 3)] == [180, 0, -40]


@pytest.mark.parametrize("sent", ["-1e300", "1e300", "nan", "inf", "", "x"])
def test_a_sender_that_says_nonsense_of_its_clock_blinds_nobody(console: Parts, sent: str) -> None:
    now = time.time()
    for host in ("liar", "b"):
        put(console, host, [(now, 9.0)])
    liar = console.directory.find("liar")
    behind = behind_by({b"x-balise-sent": sent.encode()}, now)
    assert liar is not None
    if behind is not None:
        console.clocks.told(liar.id, behind)
    console.clocks.told(liar.id, float("inf"))
    console.rules.put("high", rule(take="avg", critical={"above": 5, "hold": "1s"}), "test")
    for second in (0, 2):
        console.watch.tick(now + second)
    assert "b" in open_hosts(console)
    assert console.watch.problems == {}


def test_a_host_is_silent_though_its_probes_are_made(console: Parts) -> None:
    """A probe that is made from the console says nothing of the host's agent, least of all when nothing answers it."""
    now = time.time()
    put(console, "gate", [(now, 1.0)])
    gate = console.directory.find("gate")
    assert gate is not None
    console.directory.heard(gate.id, now - 500, now - 500)
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        target = f"127.0.0.1:{free.getsockname()[1]}"
    for host in ("gate", "known-by-probes"):
        console.probes.put(host, ProbeBody(kind="tcp", target=target, host=host), Principal("t", "administrator"))
        console.probes.again(host)
    by_probes = console.directory.find("known-by-probes")
    assert by_probes is not None and by_probes.last_seen is not None
    assert gate.last_seen == now - 500 and by_probes.last_seen >= now


# --- failures behind an alert


def test_evidence_that_makes_no_sense_costs_no_alert(console: Parts) -> None:
    """One agent says `"cpu": "no number"`, and three hosts breach in the same tick."""
    now = time.time()
    nonsense = pack_snapshot([{"name": "x", "cpu": "no number"}, {"name": "y", "user": "a", "cpu": 0.5, "memory": 7}])
    console.events.accept_now(Delivery([], [Snapshot(int((now - 10) * NS), "a", "processes", nonsense)]))
    console.events.accept_now(
        Delivery([], [Snapshot(int((now - 10) * NS), "b", "sessions", pack_snapshot([{"id": {}}]))])
    )
    console.rules.put("high", rule(), "test")
    for host in ("a", "b", "c"):
        put(console, host, [(now, 9.0)])
    console.watch.tick(now)
    assert open_hosts(console) == ["a", "b", "c"]
    alert = console.alert_search.get(next(a.id for a in console.alerts.open.values()))
    assert [p["name"] for p in alert.evidence["processes"]] == ["y"]


def test_an_alert_comes_once_the_locked_file_is_free(console: Parts) -> None:
    now = time.time()
    console.rules.put("high", rule(), "test")
    put(console, "a", [(now, 9.0)])
    other = sqlite3.connect(console.state.path, isolation_level=None)
    with console.state.engine.connect() as connection:
        connection.exec_driver_sql("PRAGMA busy_timeout")
    other.execute("BEGIN IMMEDIATE")
    console.state.write = _impatient(console, console.state.write)  # type: ignore[method-assign]
    with pytest.raises(OperationalError):
        console.watch.tick(now)
    assert not console.alerts.open
    other.execute("COMMIT")
    other.close()
    console.watch.tick(now + 1)
    assert open_hosts(console) == ["a"]


def test_a_storm_is_written_in_pieces_and_a_piece_that_cannot_be_comes_again(
    console: Parts, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr(watch, "WRITTEN_AT_ONCE", 4)
    now = time.time()
    console.rules.put("high", rule(), "test")
    hosts = [f"h{number:02}" for number in range(10)]
    for host in hosts:
        put(console, host, [(now, 9.0)])
    write, tried = console.alerts.apply, []

    def full_at_first(turns: Sequence[Turn], at: float, captured: int) -> list[Turn]:
        tried.append((len(turns), captured))
        if len(tried) == 2:
            raise OperationalError("insert", {}, Exception("database or disk is full"))
        return write(turns, at, captured)

    monkeypatch.setattr(console.alerts, "apply", full_at_first)
    with pytest.raises(OperationalError):
        console.watch.tick(now)
    assert len(open_hosts(console)) == 4
    console.watch.tick(now + 1)
    assert open_hosts(console) == hosts
    assert tried == [(4, CAPTURED), (4, 0), (4, CAPTURED), (2, 0)]
    steps = console.state.read(lambda s: list(s.scalars(select(AlertStep.what))))
    assert steps == ["opened"] * len(hosts)


def test_rules_are_asked_soon_after_something_arrived_and_else_every_second(
    console: Parts, monkeypatch: pytest.MonkeyPatch
) -> None:
    clock, ticks = [100.0], []

    def tick(took: float) -> None:
        ticks.append(clock[0])
        clock[0] += took

    monkeypatch.setattr(pulse.time, "perf_counter", lambda: clock[0])
    for arrived, took, rests, ticked in (
        (True, 0.001, 0.25, True),
        (False, 0.0, 0.25, False),
        (True, 0.05, 0.5, True),
        (True, 3.0, 1.0, True),
        (False, 0.001, 0.25, True),
    ):
        if arrived:
            put(console, "a", [(time.time(), 1.0)])
        before = len(ticks)
        monkeypatch.setattr(console.pulse, "tick", lambda took=took: tick(took))
        assert console.pulse.beat().seconds == pytest.approx(rests)
        assert len(ticks) - before == ticked
        console.watch._arrivals.clear()
        clock[0] += rests if ticked else 0.9


def test_the_alert_of_a_host_that_left_ends_once_the_locked_file_is_free(console: Parts) -> None:
    now = time.time()
    console.rules.put("north", RuleBody.model_validate({**rule().model_dump(), "hosts": 'label.site eq "n"'}), "test")
    put(console, "a", [(now, 9.0)])
    console.hosts.change("a", HostChange(labels={"site": "n"}), "test")
    console.watch.tick(now)
    assert open_hosts(console) == ["a"]
    console.hosts.change("a", HostChange(labels={"site": "s"}), "test")
    other = sqlite3.connect(console.state.path, isolation_level=None)
    other.execute("BEGIN IMMEDIATE")
    console.state.write = _impatient(console, console.state.write)  # type: ignore[method-assign]
    with pytest.raises(OperationalError):
        console.watch.tick(now + 1)
    assert open_hosts(console) == ["a"]
    other.execute("COMMIT")
    other.close()
    console.watch.tick(now + 2)
    assert open_hosts(console) == []


def _impatient(console: Parts, write: object) -> object:
    """Writing that waits for a lock for a moment alone, where the service waits for 15 s."""

    def soon(change: object) -> object:
        def with_limit(session: object) -> object:
            session.connection().exec_driver_sql("PRAGMA busy_timeout=50")  # type: ignore[attr-defined]
            return change(session)  # type: ignore[operator]

        return write(with_limit)  # type: ignore[operator]

    return soon


def test_one_rule_that_cannot_be_checked_blinds_no_other(console: Parts) -> None:
    now = time.time()
    for name in ("first", "second"):
        console.rules.put(name, rule(), "test")
    put(console, "a", [(now, 9.0)])
    console.watch.tick(now - 1)
    console.watch.rules["first"].machine = None  # type: ignore[assignment]
    put(console, "b", [(now, 9.0)])
    console.watch.tick(now)
    assert {a.rule for a in console.alerts.open.values()} >= {"second"}
    assert any("the rule first cannot be checked" in w for w in console.figures.warnings())


def test_the_worst_value_of_an_alert_is_its_peak(console: Parts) -> None:
    now = time.time()
    body = rule(warning={"above": 0.85, "clear": 0.8}, critical={"above": 0.95})
    console.rules.put("full", body, "test")
    for second, value in ((0, 0.86), (1, 0.99), (2, 0.9)):
        put(console, "a", [(now + second, value)])
        console.watch.tick(now + second)
    number = next(a.id for a in console.alerts.open.values())
    console.alerts.write_values()
    assert console.alert_search.get(number).worst_value == 0.99


# --- holds and windows that outlast what does not concern them


def test_a_hold_of_hours_goes_on_through_a_restart_and_a_new_label(tmp_path: Path) -> None:
    now = time.time()
    body = rule(take="avg", over="1h", critical={"above": 5, "hold": "3h"})
    first = build(Settings(data=tmp_path))
    first.rules.put("long", body, "test")
    put(first, "a", [(now + 60 * i, 9.0) for i in range(100)])
    first.watch.tick(now + 60)
    first.watch.tick(now + 6000)
    first.series.seal(int((now + 5900) * NS))
    close(first)
    again = build(Settings(data=tmp_path))
    again.watch.load(now + 6010)
    again.hosts.change("a", HostChange(labels={"site": "north"}), "test")
    put(again, "b", [(now + 6010, 1.0)])
    put(again, "a", [(now + 6010 + 60 * i, 9.0) for i in range(80)])
    again.watch.tick(now + 10_790)
    assert not again.alerts.open
    again.watch.tick(now + 10_861)
    assert open_hosts(again) == ["a"]
    close(again)


def test_what_the_console_was_not_there_to_hear_is_not_missing(tmp_path: Path) -> None:
    """Else each such rule fires for the whole fleet after the console was away for longer than it allows. A minute is
    theirs to find it again; what is silent then is told of, as far as the rule tells of it when it looks back."""
    now, clock = time.time() - 1000, [0.0]
    body = rule(critical={"missing_for": "5m"})
    for at in (now - 2000, now - 950):
        clock[0] = at
        first = build(Settings(data=tmp_path))
        first.runs._clock = lambda: clock[0]
        if at == now - 2000:
            first.rules.put("silent", body, "test")
            put(first, "comes", [(now - 1000, 1.0)])
            put(first, "gone", [(now - 1000, 1.0)])
        first.runs.note()
        clock[0] += 50
        close(first)
    clock[0] = now
    again = build(Settings(data=tmp_path))
    again.runs._clock = lambda: clock[0]
    again.watch.load(now)
    seen = {}
    for second in (0, 61, 70, 359, 362, 372):
        if second == 70:
            put(again, "comes", [(now + 70, 1.0)])
        again.watch.tick(now + second)
        seen[second] = open_hosts(again)
    assert seen == {0: [], 61: [], 70: [], 359: [], 362: ["gone"], 372: ["comes", "gone"]}
    # This run is written down only when all work has begun.
    clock[0] = now + 25
    again.runs.note()
    found = again.rules.rehearse(
        Rehearse.model_validate({"rule": body.model_dump(), "from": _text(now - 1500), "to": _text(now + 400)})
    )
    assert {i.host: i.opened_at - now for i in found.items} == pytest.approx({"gone": 361, "comes": 371}, abs=1.0)
    close(again)


def test_a_mean_is_the_same_after_sealing_and_a_restart(tmp_path: Path) -> None:
    """39 minutes of 0, then 21 of 1: the mean over an hour is .35, also of a console that has just started."""
    now = time.time()
    first = build(Settings(data=tmp_path))
    first.rules.put("mean", rule(take="avg", over="1h", critical={"above": 0.9}), "test")
    put(first, "a", [(now - 60 * (59 - i), 0.0 if i < 39 else 1.0) for i in range(60)])
    first.series.seal(int((now - 600) * NS))
    close(first)
    again = build(Settings(data=tmp_path))
    again.watch.load(now)
    again.watch.tick(now)
    assert float(again.watch.looks["mean"].values[0]) == pytest.approx(0.35)
    assert not again.alerts.open
    close(again)


@pytest.mark.parametrize("where", ['alpha ne "left out"', 'alpha ne "left out" and host ne "c"', None])
def test_groups_of_many_hosts_have_the_keys_that_each_has(console: Parts, where: str | None) -> None:
    """Alerts are found by them after a start, whichever way they were written."""
    catalogue = console.series.catalogue
    made = catalogue.metric("m", "1", "gauge", "")
    values = ['say "x"', "Hälfte\n", "left out", ""]
    wanted = set()
    for name in ("a", "quay north é", "c", "d", "e"):
        known = console.directory.ensure(name)
        for alpha in values:
            attributes = (("alpha", alpha), ("zeta", alpha[::-1]), ("other", "1"))
            layout = catalogue.layouts.of(np.array([catalogue.series_id(known.id, made, attributes, "", "gauge")]))
            console.series.accept_now(console.series.batch(layout, np.array([time.time_ns()]), np.array([9.0])))
            if where is None or (alpha != "left out" and ("host" not in where or name != "c")):
                said = {"alpha": alpha, "host": name, "zeta": alpha[::-1]}
                wanted.add(json.dumps(said, ensure_ascii=False, sort_keys=True))
    body = rule("m").model_dump(exclude_none=True)
    body["measure"] |= {"each": ["host", "zeta", "alpha"]} | ({"where": where} if where else {})
    console.rules.put("all", RuleBody.model_validate(body), "test")
    console.watch.tick(time.time())
    assert set(console.watch.rules["all"].groups.numbers) == wanted
    assert {key for name, key in console.alerts.open} == wanted


def test_arrivals_are_counted_once_while_labels_change(console: Parts) -> None:
    now = time.time()
    console.rules.put("sum", rule("d", take="sum", over="60s", critical={"above": 25}), "test")
    for second in (0, 15):
        put(console, "a", [(now + second, 10.0)], metric="d", kind="delta")
        console.hosts.change("a", HostChange(labels={"n": str(second)}), "test")
        console.directory.ensure(f"new-{second}")
        console.watch.tick(now + second + 1)
    assert float(console.watch.looks["sum"].values[0]) == 20.0
    assert not console.alerts.open


def test_a_host_that_leaves_during_a_hold_opens_nothing(console: Parts) -> None:
    now = time.time()
    console.rules.put("high", rule(critical={"above": 5, "hold": "30s"}), "test")
    put(console, "a", [(now + 10 * i, 9.0) for i in range(10)])
    console.watch.tick(now + 1)
    console.hosts.retire("a", "test")
    for second in (40, 80):
        console.watch.tick(now + second)
    assert not console.alerts.open


# --- rehearsals


@pytest.mark.parametrize("take", ["avg", "min", "max", "sum", "count", "last", "rate", "p50", "p90", "p95", "p99"])
def test_a_rehearsal_finds_what_the_rules_at_work_found(console: Parts, take: str) -> None:
    """The same points second by second through a rule at work, and afterwards rehearsed."""
    start = float(int(time.time()) - 400)
    rng = np.random.default_rng(11)
    limit = {"rate": 0.0, "count": 3.5, "sum": 5.0}.get(take, 5.0)
    body = rule(take=take, over="45s", warning={"above": limit, "hold": "10s", "clear": limit - 0.5})
    console.rules.put("live", body, "test")
    values = np.round(5 + 3 * np.sin(np.arange(40) / 4) + rng.standard_normal(40), 2).tolist()
    arrivals = {start + 7 * i: value for i, value in enumerate(values) if i % 9 != 4}
    turns: list[tuple[str, float]] = []
    console.alerts.changed.connect(lambda changed: turns.append((changed.what, clock)))
    for second in range(400):
        clock = start + second
        if clock in arrivals:
            put(console, "a", [(clock, arrivals[clock])])
        console.watch.tick(clock)
    found = console.rules.rehearse(
        Rehearse.model_validate({"rule": body.model_dump(), "from": _text(start), "to": _text(start + 400)})
    )
    assert found.step_seconds == 1.0
    opened = [at for what, at in turns if what == "opened"]
    recovered = [at for what, at in turns if what == "recovered"]
    assert opened, "the points are to breach the limit"
    assert [i.opened_at for i in found.items] == opened
    assert [i.recovered_at for i in found.items if i.recovered_at is not None] == recovered


def _text(at: float) -> str:
    return time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime(at))


# --- forgetting


def test_records_that_are_over_are_forgotten_in_their_time(console: Parts) -> None:
    now = time.time()
    console.rules.put("high", rule(), "test")
    for host, value in (("over", 9.0), ("open", 9.0)):
        put(console, host, [(now, value)])
    console.watch.tick(now)
    put(console, "over", [(now + 1, 1.0)])
    console.watch.tick(now + 1)
    console.directory.judge({}, now)
    console.directory.judge({}, now + 500)
    year = 401 * 86_400.0
    assert console.pruner.prune(now + 86_400) == 0
    assert console.pruner.prune(now + year) > 0
    left = console.state.read(lambda s: [(a.host_name, a.recovered_at) for a in s.scalars(select(Alert))])
    assert left == [("open", None)]
    steps = console.state.read(lambda s: s.scalars(select(AlertStep.what)).all())
    assert list(steps) == ["opened"]
    # How the time that is kept began is known: the last state of each host before it stays.
    states = console.state.read(lambda s: [(c.host, c.state) for c in s.scalars(select(StateChange))])
    assert sorted(state for _, state in states) == ["silent", "silent"]
