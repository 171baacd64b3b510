"""Parts of the service, driven one step at a time: states, watching, evidence, live streams, intake."""

from __future__ import annotations

import asyncio
import gzip
import json
import threading
import time
from collections import Counter
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import (
    ExportMetricsServiceRequest,
    ExportMetricsServiceResponse,
)
from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.access import NewEnrolmentKey
from balise.api.agents import EnrolRequest
from balise.api.credentials import SshCredential
from balise.api.hosts import Facts
from balise.api.metrics import MetricQuery
from balise.api.packed import NotUnpacked, unzipped
from balise.api.rules import RuleBody
from balise.api.secrets import Secret
from balise.collect.work import Worker
from balise.core.events.new_event import NewEvent
from balise.core.moments import NS
from balise.server.enrol.keys import new_host
from balise.server.errors import Refused
from balise.server.events.evidence import session_tree
from balise.server.hosts.directory import SILENT_AT_LEAST, clean_name
from balise.server.life import close
from balise.server.live import MOST_WAITING, Hub, message
from balise.server.parts import Parts, build
from balise.server.people.access import Principal
from balise.server.people.bearers import Bearers
from balise.server.receive.answers import answer_body
from balise.server.receive.logs import severity_code
from balise.server.rules.book import shipped_rules
from balise.server.rules.playing import smoothed
from balise.server.settings import Settings
from balise.server.workers import Workers
from balise.store.events.day import Snapshot, pack_snapshot
from balise.store.events.store import Delivery
from balise.store.state.tables import Host, Remote, Rule, Token
from running import until


def put(
    console: Parts,
    host: str,
    metric: str,
    points: list[tuple[float, float]],
    kind: str = "gauge",
    part: str = "",
    **attributes: str,
) -> None:
    known = console.directory.ensure(host)
    made = console.series.catalogue.metric(metric, "s", "histogram" if part else kind, "")  # type: ignore[arg-type]
    named = tuple(sorted(attributes.items()))
    number = console.series.catalogue.series_id(known.id, made, named, part, kind)  # type: ignore[arg-type]
    layout = console.series.catalogue.layouts.of(np.array([number]))
    for at, value in points:
        console.series.accept_now(console.series.batch(layout, np.array([round(at * NS)]), np.array([value])))


def rule(metric: str, **over: object) -> RuleBody:
    document = {
        "about": "x",
        "measure": {"metric": metric, "take": "last", "over": "60s"},
        "limits": {"critical": {"above": 5, "clear": 4}},
    }
    return RuleBody.model_validate({**document, **over})


# --- hosts and their states


def test_a_host_that_is_not_heard_becomes_silent_and_comes_back(console: Parts) -> None:
    now = time.time()
    known = console.directory.ensure("buoy-1")
    console.directory.heard(known.id, now, now)
    console.directory.judge({}, now)
    assert known.state == "ok"
    console.directory.judge({}, now + SILENT_AT_LEAST + 1)
    assert known.state == "silent"
    console.directory.judge({known.id: ["warning"]}, now + SILENT_AT_LEAST + 2)
    assert known.state == "warning"
    console.directory.heard(known.id, now + 50, now + 50)
    console.directory.judge({}, now + 50)
    assert [s.state for s in known.changes] == ["ok", "silent", "warning", "ok"]
    states = console.hosts.states("buoy-1", now - 10, now + 100)
    assert [s.state for s in states] == ["ok", "silent", "warning", "ok"]


def test_a_host_that_sends_seldom_is_given_its_time(console: Parts) -> None:
    now = time.time()
    known = console.directory.ensure("buoy-2")
    for i in range(30):
        console.directory.heard(known.id, now + 120 * i, now + 120 * i)
    last = now + 120 * 29
    assert not known.is_silent(last + 300)
    assert known.is_silent(last + 3 * 125)


def test_when_hosts_were_heard_is_known_after_a_restart(tmp_path: Path) -> None:
    first = build(Settings(data=tmp_path))
    known = first.directory.ensure("buoy-3")
    first.directory.heard(known.id, 1000.0, 2000.0)
    close(first)
    again = build(Settings(data=tmp_path))
    found = again.directory.find("buoy-3")
    assert found is not None and found.last_seen == 2000.0
    close(again)


def test_what_of_hosts_could_not_be_written_is_written_the_next_time(
    console: Parts, monkeypatch: pytest.MonkeyPatch
) -> None:
    known = console.directory.ensure("buoy-4")
    console.directory.heard(known.id, 1000.0, 2000.0)
    console.reports.take(known.id, {"version": "1"})
    _, token = console.tokens.make("tide", "viewer", by="test")
    assert console.access.bearer(token) is not None

    def full(_change: Any) -> None:
        raise OSError(28, "no space left on device")

    with monkeypatch.context() as meanwhile:
        meanwhile.setattr(console.state, "write", full)
        for write in (console.directory.write_heard, console.reports.write, console.access.write_used):
            with pytest.raises(OSError, match="no space"):
                write()
    console.directory.write_heard()
    console.reports.write()
    row = console.state.read(lambda s: s.get_one(Host, known.id))
    assert (row.last_seen, row.agent) == (2000.0, {"version": "1"})
    console.access.write_used()
    assert console.state.read(lambda s: s.scalar(select(Token.used_at).where(Token.name == "tide"))) is not None


def test_a_cookie_is_remembered_until_its_session_ends_or_its_person_is_gone(
    console: Parts, monkeypatch: pytest.MonkeyPatch
) -> None:
    console.users.add("ada", "operator", "correct horse battery", by="test")
    first, second = (console.sessions.sign_in("ada", "correct horse battery", origin="x")[0] for _ in "12")
    assert console.access.remembered_cookie(first) is None
    ada = Principal("ada", "operator", by_cookie=True)
    assert console.access.cookie(first) == console.access.cookie(second) == ada
    read: list[int] = []
    find = console.state.read
    monkeypatch.setattr(console.state, "read", lambda question: (read.append(1), find(question))[1])
    assert console.access.cookie(first) == ada and console.access.remembered_cookie(second) == (ada,)
    # What is remembered of a cookie is nothing that a token could be.
    assert console.access.bearer(first) is None
    read.clear()
    console.sessions.sign_out(first)
    assert console.access.cookie(first) is None and console.access.cookie(second) == ada
    console.users.remove("ada", "test")
    assert console.access.remembered_cookie(second) is None and console.access.cookie(second) is None
    assert read


def test_of_work_that_nobody_waits_for_one_is_done_at_a_time_and_holds_up_no_other() -> None:
    workers, busy, most, done = Workers(), Counter[str](), [0], Counter[str]()

    def step(name: str) -> Callable[[], None]:
        def work() -> None:
            busy["aside"] += name != "other"
            most[0] = max(most[0], busy["aside"])
            time.sleep(0.02)
            busy["aside"] -= name != "other"
            done[name] += 1
            if name == "fails":
                raise ValueError("not today")

        return work

    for name in ("heard", "used", "fails"):
        workers.add_aside(name, step(name), 0.0)
    workers.add("other", step("other"), 0.0)
    workers.start()
    until(lambda: min(done[name] for name in ("heard", "used", "fails")) >= 2 and done["other"] >= 12)
    workers.stop()
    workers.join()
    assert most == [1]
    # Who waits for a turn as it ends begins nothing any more.
    before = Counter(done)
    workers._workers[0].once()
    assert done == before
    assert [failures.name for failures in workers.failures() if failures.count] == ["fails"]


def test_the_end_waits_once_for_all_work_that_hangs() -> None:
    workers, freed = Workers(), threading.Event()
    for name in "abcdefgh":
        workers.add(name, freed.wait, 0.0)
    workers.start()
    workers.stop()
    began = time.monotonic()
    workers.join(1.0)
    assert time.monotonic() - began < 4
    freed.set()
    workers.join()


@pytest.mark.parametrize(
    ("given", "clean"),
    [("  a b ", "a b"), ("a/b\\c?d#e", "abcde"), ("x" * 300, "x" * 100), ("\u202e\x00", ""), ("ünï", "ünï")],
)
def test_names_are_made_fit_for_an_address(given: str, clean: str) -> None:
    assert clean_name(given) == clean


def test_a_host_without_a_readable_name_is_refused(console: Parts) -> None:
    with pytest.raises(Refused, match=r"no readable host\.name"):
        console.directory.ensure("\x00//")


# --- watching


def test_a_rule_that_is_taken_up_looks_back_over_the_last_hour(console: Parts) -> None:
    """A breach that began before the rule was there, or before a restart, has already lasted."""
    now = time.time()
    put(console, "pump-1", "pump.load", [(now - 600 + 15 * i, 9.0) for i in range(40)])
    body = rule("pump.load", limits={"critical": {"above": 5, "hold": "5m"}})
    console.rules.put("pump-load", body, "test")
    console.watch.tick(time.time())
    assert [a.rule for a in console.alerts.open.values()] == ["pump-load"]


def test_a_hold_goes_on_after_a_restart(tmp_path: Path) -> None:
    first = build(Settings(data=tmp_path))
    now = time.time()
    first.rules.put("pump-load", rule("pump.load", limits={"critical": {"above": 5, "hold": "5m"}}), "test")
    for second in range(-240, 0, 15):
        put(first, "pump-1", "pump.load", [(now + second, 9.0)])
        first.watch.tick(now + second)
    assert not first.alerts.open
    close(first)
    again = build(Settings(data=tmp_path))
    again.watch.load(now)
    assert not again.alerts.open
    put(again, "pump-1", "pump.load", [(now, 9.0), (now + 50, 9.0)])
    again.watch.tick(now + 70)
    assert len(again.alerts.open) == 1
    close(again)


def test_percentiles_of_a_histogram_are_watched(console: Parts) -> None:
    now = time.time()
    for bound, last in (("le:0.1", 10.0), ("le:1.0", 10.0), ("le:inf", 200.0), ("count", 220.0), ("sum", 900.0)):
        put(console, "web-1", "took", [(now - 45, 0.0), (now - 30, 0.0), (now - 15, last)], "counter", bound)
    put(console, "web-1", "took", [(now - 15, 10.0)], "counter", "le:10.0")
    body = rule("took", measure={"metric": "took", "take": "p95", "over": "2m"}, limits={"warning": {"above": 0.5}})
    console.rules.put("slow", body, "test")
    console.watch.tick(time.time())
    assert [a.value for a in console.alerts.open.values()] == [pytest.approx(10.0)]


def test_a_host_leaving_a_rules_filter_ends_its_alert(console: Parts) -> None:
    from balise.api.hosts import HostChange

    now = time.time()
    put(console, "gate-1", "jam", [(now, 9.0)])
    console.hosts.change("gate-1", HostChange(labels={"site": "north"}), "test")
    console.rules.put("jam", rule("jam", hosts='label.site eq "north"'), "test")
    console.watch.tick(now + 1)
    assert len(console.alerts.open) == 1
    console.hosts.change("gate-1", HostChange(labels={"site": "south"}), "test")
    console.watch.tick(now + 2)
    assert not console.alerts.open


def test_a_rule_that_is_switched_off_ends_its_alerts(console: Parts) -> None:
    now = time.time()
    put(console, "gate-1", "jam", [(now, 9.0)])
    console.rules.put("jam", rule("jam"), "test")
    console.watch.tick(now)
    assert len(console.alerts.open) == 1
    console.rules.put("jam", rule("jam", enabled=False), "test")
    assert not console.alerts.open


def test_shipped_rules_are_renewed_unless_somebody_changed_or_removed_them(console: Parts) -> None:
    console.rules.ship()
    names = {r.rule for r in shipped_rules()}
    assert {r.name for r in console.rules.all()} == names
    body = rule("balise.cpu.load_per_core")
    console.rules.put("load-high", body, "anna")
    console.rules.delete("swap-in-use", "anna")

    def old(session: object) -> None:
        row = session.scalar(select(Rule).where(Rule.name == "cpu-saturated"))  # type: ignore[attr-defined]
        row.body = {**row.body, "about": "an older text"}

    console.state.write(old)
    console.rules.ship()
    kept = {r.name: r for r in console.rules.all()}
    assert "swap-in-use" not in kept
    assert (kept["load-high"].about, kept["load-high"].shipped) == ("x", False)
    assert kept["cpu-saturated"].about != "an older text"


def test_smoothing_goes_over_gaps() -> None:
    values = np.array([[1.0, np.nan, np.nan, 4.0]])
    assert smoothed(values, 2, "last").tolist()[0][:2] == [1.0, 1.0]
    assert smoothed(values, 3, "max")[0].tolist() == [1.0, 1.0, 1.0, 4.0]
    assert smoothed(values, 4, "avg")[0, 3] == 2.5


# --- evidence


def test_a_chain_of_sessions_has_its_root_first() -> None:
    rows = [
        {"id": 3, "blocked_by": 2, "seconds": 5, "application": "c"},
        {"id": 2, "blocked_by": 1, "seconds": 9, "application": "b"},
        {"id": 1, "blocked_by": None, "seconds": 20, "application": "a"},
        {"id": 9, "blocked_by": None, "seconds": 1, "application": "idle"},
    ]
    assert [(s.application, s.root, s.depth) for s in session_tree(rows, 0.0)] == [
        ("a", "1", 0),
        ("b", "1", 1),
        ("c", "1", 2),
        ("idle", None, 0),
    ]


def test_sessions_that_wait_for_each_other_do_not_hang_us() -> None:
    rows = [{"id": 1, "blocked_by": 2}, {"id": 2, "blocked_by": 1}]
    assert len(session_tree(rows, 0.0)) == 2


def test_processes_are_means_over_the_moments_looked_at(console: Parts) -> None:
    now = int(time.time())
    moments = [
        [{"pid": 1, "name": "a", "user": "u", "cpu": 0.5, "memory": 10}],
        [{"pid": 2, "name": "b", "user": "u", "cpu": 0.2, "memory": 99}],
    ]
    snapshots = [Snapshot((now - i) * NS, "h", "processes", pack_snapshot(m)) for i, m in enumerate(moments)]
    console.events.accept_now(Delivery([], snapshots))
    found, looked = console.evidence.processes("h", now - 10, now + 1)
    assert looked == 2
    assert [(p.name, p.cpu, p.memory) for p in found] == [("a", 0.25, 10), ("b", 0.1, 99)]


def test_the_busiest_of_a_night_are_of_all_of_it(console: Parts) -> None:
    """Of far more moments than are read; one that had ended when it was told of was not seen."""
    now = int(time.time())
    early = {"pid": 1, "name": "import", "user": "u", "cpu": 0.8, "memory": 10}
    late = {"pid": 2, "name": "web", "user": "u", "cpu": 0.2, "memory": 5}
    ended = {"pid": 3, "name": "cron", "user": "u", "cpu": 0.0, "memory": 0, "ended": now}
    told = [(now - 8 * 3600 + 15 * i, [early if i < 1440 else late, ended]) for i in range(1920)]
    snapshots = [Snapshot(at * NS, "h", "processes", pack_snapshot(rows)) for at, rows in told]
    console.events.accept_now(Delivery([], snapshots))
    found, looked = console.evidence.processes("h", now - 8 * 3600, now + 1)
    assert 200 <= looked <= 240
    assert [(p.name, p.pids, p.cpu) for p in found] == [
        ("import", [1], pytest.approx(0.6, rel=0.01)),
        ("web", [2], pytest.approx(0.05, rel=0.02)),
    ]


def test_lines_are_beside_how_many_are_usual(console: Parts) -> None:
    now = time.time()
    events = [NewEvent(int((now - 100 + i) * NS), "h", 3, "s", f"failed {i}") for i in range(6)]
    events += [NewEvent(int((now - 250 + i) * NS), "h", 3, "s", f"failed {i}") for i in range(2)]
    console.events.accept_now(Delivery(events))
    [line] = console.evidence.lines("h", now - 150, now)
    assert (line.count, line.usual, line.severity) == (6, 2.0, "error")


# --- live streams


def test_a_stream_that_does_not_keep_up_is_told_what_it_lost() -> None:
    async def run() -> list[bytes]:
        hub = Hub()
        hub.start(asyncio.get_running_loop())

        async def may_go_on() -> bool:
            return True

        stream = hub.stream(lambda topic, _content: topic == "state", who="viewer ana", may_go_on=may_go_on)
        got = [await anext(stream)]
        for n in range(MOST_WAITING + 7):
            hub.tell("state", {"n": n})
            hub.tell("other", {})
        await asyncio.sleep(0.05)
        got += [await anext(stream), await anext(stream)]
        hub.stop()
        rest = [m async for m in stream]
        assert hub.listeners == 0
        return got + rest

    got = asyncio.run(run())
    assert got[1] == message("lost", {"count": 7})
    assert got[2] == message("state", {"n": 0})


def test_a_worker_outlives_a_bad_step() -> None:
    calls: list[int] = []

    def step() -> None:
        calls.append(1)
        if len(calls) == 1:
            raise ValueError("bad step")
        worker.stop()

    worker = Worker("t", step, 0.01)
    worker.start()
    worker.join()
    assert (len(calls), worker.failures.count, worker.failures.in_a_row) == (2, 1, 0)
    assert "failed once and works again" in (worker.failures.warning(time.time()) or "")


def test_the_consoles_own_figures_add_up(console: Parts) -> None:
    put(console, "h", "m", [(time.time(), 1.0), (time.time() + 1, 2.0)])
    figures = console.figures.figures()
    assert (figures.hosts, figures.storage.series_count, figures.storage.samples_waiting) == (1, 1, 2)
    assert json.loads(console.figures.status(whole=False).model_dump_json())["figures"] is None


def test_silence_becomes_a_series_that_rules_can_watch(console: Parts) -> None:
    known = console.directory.ensure("buoy-9")
    known.mode, known.last_seen = "resident", time.time() - 100
    console.silence._began = time.time() - 60
    console.silence.note()
    console.rules.put("silence", rule("balise.host.silence", limits={"critical": {"above": 90}}), "test")
    console.watch.tick(time.time())
    assert [a.host for a in console.alerts.open.values()] == [known.id]


def test_a_host_that_is_read_seldom_is_silent_later(console: Parts) -> None:
    now = time.time()
    console.silence._began = now - 60
    turns: dict[str, list[float]] = {"buoy-1": [15.0] * 5, "buoy-2": [60.0] * 5, "buoy-3": []}
    for name, gaps in turns.items():
        known = console.directory.ensure(name)
        known.mode, known.last_seen = "resident", now - 100
        known.gaps.extend(gaps)
    console.plans.put("plan: seldom\nfor: {host: buoy-3}\ncollect: {every: 90s}\n", "test")
    console.silence.note()
    query = MetricQuery.model_validate({"metric": "balise.host.silence", "from": "-1m", "by": ["host"], "take": "last"})
    answer = console.metrics.ask(query, whole=True)
    found = {one.attributes["host"]: one.values[-1] for one in answer.series}
    # 100 s less what a turn is longer than 15 s.
    assert found == pytest.approx({"buoy-1": 100, "buoy-2": 55, "buoy-3": 25}, abs=5)


# --- OTLP's small print


@pytest.mark.parametrize(
    ("number", "code"),
    [(1, 7), (5, 7), (9, 6), (10, 5), (13, 4), (16, 4), (17, 3), (18, 2), (19, 1), (21, 0), (24, 0), (0, 6), (99, 6)],
)
def test_severities_follow_the_data_models_appendix(number: int, code: int) -> None:
    assert severity_code(number, "") == code


def test_a_severity_may_be_said_in_words_alone() -> None:
    assert [severity_code(0, w) for w in ("ERROR", "Warn", "fatal", "whatever")] == [3, 4, 0, 6]


def test_partial_success_is_what_the_public_classes_read() -> None:
    from balise.server.receive.bodies import Outcome

    outcome = Outcome(300, "300 points are too old")
    partial = ExportMetricsServiceResponse.FromString(answer_body(outcome, False, "points")).partial_success
    assert (partial.rejected_data_points, partial.error_message) == (300, "300 points are too old")
    assert json.loads(answer_body(outcome, True, "records"))["partialSuccess"]["rejectedLogRecords"] == "300"


def test_unzipping_stops_at_its_limit_and_takes_every_member() -> None:
    one, two = gzip.compress(b"abc"), gzip.compress(b"de")
    assert unzipped(one, 3) == b"abc"
    assert unzipped(one + two + b"\0" * 8, 5) == b"abcde"
    for body, limit, said in (
        (one, 2, "larger than 2 bytes"),
        (one + two, 4, "larger than 4 bytes"),
        (one + two[:-3], 9, "is cut"),
        (one + b"rubbish", 9, "is no gzip"),
        (one * 65, 999, "more than 64 members"),
    ):
        with pytest.raises(NotUnpacked, match=said):
            unzipped(body, limit)


def test_an_exponential_histogram_that_widens_is_read_right(console: Parts) -> None:
    """Two cumulative deliveries: ten of (2, 4] between them, one beyond 512 in a bucket that is new."""
    agent = Principal("token", "ingest", None)
    now = time.time_ns()
    for at, counts, beyond in ((now - 60 * NS, 5, 0), (now - 30 * NS, 15, 1)):
        request = ExportMetricsServiceRequest()
        group = request.resource_metrics.add()
        group.resource.attributes.add(key="host.name").value.string_value = "web"
        metric = group.scope_metrics.add().metrics.add(name="took", unit="s")
        metric.exponential_histogram.aggregation_temporality = 2
        point = metric.exponential_histogram.data_points.add(
            time_unix_nano=at, count=counts + beyond, sum=3.0 * counts + 600 * beyond, scale=0
        )
        point.positive.offset = 1
        point.positive.bucket_counts.extend([counts, *([0] * 7), *([beyond] if beyond else [])])
        take = console.metric_intake.take(agent, request.SerializeToString(), as_json=False)

        async def taken(take: object = take) -> None:
            await take  # type: ignore[misc]

        asyncio.run(taken())

    def ask(take: str) -> float | None:
        query = {"metric": "took", "take": take, "from": "-2m", "to": "now", "step": "1h", "by": []}
        values = console.metrics.ask(MetricQuery.model_validate(query)).series[0].values
        # Growth belongs to the step of the later point, which may be the last one or, at the full hour, the one before.
        return next((value for value in reversed(values) if value is not None), None)

    assert ask("count") == 11.0
    assert ask("sum") == 630.0
    assert ask("p50") == pytest.approx(2 + 2 * 0.55)
    assert (ask("p99") or 0) > 512


def test_a_host_read_over_ssh_is_proposed_what_its_ports_say(console: Parts) -> None:
    """Only what others can reach: at the host's own address, and never at its loopback one."""

    console.credentials.put("c", SshCredential(kind="ssh", user="balise", password="x"), "test")

    def write(session: Session) -> int:
        host = new_host(session, "quay-z")
        host.mode = "remote"
        session.add(
            Remote(host=host.id, protocol="ssh", address="192.0.2.40", port=22, credential="c", host_key="", owner=0,
                   owners=[], positions={})
        )  # fmt: skip
        return host.id

    number = console.state.write(write)
    console.directory.reload()
    console.kits.start()
    ports = [("5432", "0.0.0.0"), ("80", "0.0.0.0"), ("6379", "127.0.0.1")]
    items = [{"name": f"tcp {port}", "address": address, "process": "", "user": "x"} for port, address in ports]
    console.inventory.take(number, {"kind": "ports", "items": items}, time.time())
    found = {p.kit: p for p in console.proposals.all()}
    assert (found["postgresql"].mode, found["postgresql"].target) == ("remote", {"port": 5432})
    web = next(p for p in found.values() if "url" in p.target)
    assert "//192.0.2.40/" in str(web.target["url"])
    assert "redis" not in found


def test_who_was_signed_in_is_known_for_any_span(console: Parts) -> None:
    def people(at: float, *seconds: int) -> Snapshot:
        rows = [{"user": "ops", "terminal": "pts/0", "origin": "192.0.2.7", "seconds": s, "cpu": 0.1} for s in seconds]
        return Snapshot(int(at * NS), "web-1", "signed-in", pack_snapshot([*rows, {"user": "half a row"}]))

    now = time.time()
    console.events.accept_now(Delivery([], [people(now - 600, 60), people(now - 300, 360), people(now - 60, 20)]))
    found = console.evidence.signed_in("web-1", now - 900, now)
    assert [(p.user, p.seconds) for p in found] == [("ops", 20.0), ("ops", 360.0)]
    assert console.evidence.signed_in("web-1", now - 30, now) == []


def test_a_rule_knows_the_unit_of_what_nobody_has_sent_yet(console: Parts) -> None:
    console.kits.start()
    console.kit_rules.begin()
    console.rules.ship()
    units = {rule.name: rule.unit for rule in console.rules.all()}
    assert units["certificate-ending"] == "s" and units["host-silent"] == "s" and units["probe-failing"] == "{state}"
    assert units["cpu-saturated"] == "1" and console.units.of("postgresql.connection.utilization") == "1"
    # What the first sender says counts from then on.
    console.series.catalogue.metric("balise.certificate.left", "d", "gauge", "")
    assert console.units.of("balise.certificate.left") == "d" and console.units.of("nobody.knows") == ""


def test_a_token_that_ends_while_it_is_looked_up_is_not_remembered(
    console: Parts, monkeypatch: pytest.MonkeyPatch
) -> None:
    made, token = console.tokens.make("gateway", "ingest", by="a test")
    find = console.access._find_tokens

    def late(asked: Sequence[str]) -> object:
        found = find(asked)
        console.tokens.revoke(made.id, "a test")
        return found

    monkeypatch.setattr(console.access, "_find_tokens", late)
    console.access.bearer(token)
    monkeypatch.setattr(console.access, "_find_tokens", find)
    assert console.access.bearer(token) is None


def test_tokens_that_come_while_others_are_looked_up_are_looked_up_together_and_each_as_alone(
    console: Parts, monkeypatch: pytest.MonkeyPatch
) -> None:
    made = [console.tokens.make(f"gateway-{n}", "ingest", by="a test") for n in range(30)]
    over = console.tokens.make("over", "ingest", by="a test")
    console.state.write(lambda s: setattr(s.get_one(Token, over[0].id), "expires_at", time.time() - 1))
    key = console.enrolling.make_key(NewEnrolmentKey(label="k", approval="manual"), "a test", "http://127.0.0.1").key
    asked = EnrolRequest(key=Secret(key), facts=Facts(host_name="new", machine_id="m-1"))
    waiting = console.enrolling.enrol(asked).token
    tokens = [*(token for _, token in made), over[1], "nobody's", waiting]
    expected = [*((f"gateway-{n}", "ingest") for n in range(30)), None, None, ("new", "waiting")]
    console.access.forget_remembered()
    together: list[int] = []
    find = console.access.bearers

    def slowly(some: Sequence[str]) -> list[Principal | None]:
        together.append(len(some))
        time.sleep(0.05)
        if "\ud800" in some:
            raise ValueError("no token")
        return find(some)

    monkeypatch.setattr(console.access, "bearers", slowly)

    async def ask() -> list[Principal | BaseException | None]:
        bearers = Bearers(console.access)
        asking = [bearers.bearer(token) for token in (tokens[0], *tokens, *tokens, "\ud800")]
        found = await asyncio.gather(*asking, return_exceptions=True)
        return [*found, await bearers.bearer(tokens[0])]

    found = asyncio.run(ask())
    *told, wrong, last = [(one.name, one.role) if isinstance(one, Principal) else one for one in found]
    assert isinstance(wrong, ValueError)
    assert told == [expected[0], *expected, *expected] and last == expected[0]
    # One with another that is wrong, each of them alone then, and one at last.
    assert together == [len(tokens) + 1, *([1] * (len(tokens) + 1)), 1]
    assert console.access.remembered(tokens[0]) == (console.access.bearer(tokens[0]),)


def test_who_waits_for_a_token_hears_of_it_where_there_is_no_thread_to_look_it_up(
    console: Parts, monkeypatch: pytest.MonkeyPatch
) -> None:
    _, token = console.tokens.make("gateway", "ingest", by="a test")
    bearers = Bearers(console.access)

    async def ask() -> Principal | None:
        with monkeypatch.context() as meanwhile:
            meanwhile.setattr(threading.Thread, "start", lambda _self: (_ for _ in ()).throw(RuntimeError("no thread")))
            with pytest.raises(RuntimeError, match="no thread"):
                await asyncio.wait_for(bearers.bearer(token), 5)
        return await bearers.bearer(token)

    found = asyncio.run(ask())
    assert found is not None and found.name == "gateway"
