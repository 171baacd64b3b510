"""Rules at work in a console: events, alerts of alerts, ratios, what is missing; versions, tuning, plans with an end."""

from __future__ import annotations

import json
import random
import time
from datetime import UTC
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from balise.api.hosts import HostChange
from balise.api.limits import Limits
from balise.api.rules import Rehearse, Rule, RuleBody, RuleDocument, Suggest
from balise.api.tuning import Tune
from balise.core.events.new_event import NewEvent
from balise.core.moments import NS, nanos
from balise.core.rule_text import rule_text
from balise.server.errors import Refused
from balise.server.life import close
from balise.server.parts import Parts, build
from balise.server.rules import watch
from balise.server.rules.came import Came
from balise.server.rules.learner import SETTLED, Learner
from balise.server.rules.looking_back import look_back
from balise.server.rules.texts import read_text
from balise.server.rules.watched import Watched
from balise.server.settings import Settings
from balise.store.events.store import Delivery


def put(console: Parts, host: str, metric: str, points: list[tuple[float, float]], **attributes: str) -> None:
    known = console.directory.ensure(host)
    made = console.series.catalogue.metric(metric, "1", "gauge", "")
    series = console.series.catalogue.series_id(known.id, made, tuple(sorted(attributes.items())), "", "gauge")
    layout = console.series.catalogue.layouts.of(np.full(1, series, np.int64))
    for at, value in points:
        console.series.accept_now(console.series.batch(layout, np.array([int(at * NS)]), np.array([value])))


def say(console: Parts, body: str, at: float, host: str = "pier-1", severity: int = 6, **attributes: str) -> None:
    console.directory.ensure(host)
    told = json.dumps({name.replace("_", "."): value for name, value in attributes.items()}) if attributes else None
    console.events.accept_now(Delivery([NewEvent(nanos(at), host, severity, "gate", body, told)]))


def rule(measure: dict[str, Any], limit: dict[str, Any], **more: Any) -> RuleBody:
    return RuleBody.model_validate({"about": "x", "measure": measure, "limits": {"critical": limit}, **more})


def keep(console: Parts, name: str, body: RuleBody) -> None:
    console.rules.put(name, body, "test")
    console.listening.changed(name)
    console.listening.work()
    console.watch.tick(time.time())


def look(console: Parts, now: float) -> None:
    """What the workers do in a second."""
    console.listening.work()
    console.watch.tick(now)
    console.watch.tick(now)


def open_groups(console: Parts, name: str) -> list[str]:
    return sorted(key for held, key in console.alerts.open if held == name)


def test_rules_know_after_a_start_what_they_knew_before(tmp_path: Path) -> None:
    """Rules that look back differently far, over counters and levels, of series that are heard every ten seconds, every
    two minutes, and not since a while: filled together from the store, they measure what they measured."""
    now = time.time()
    console = build(Settings(data=tmp_path))
    made = {
        kind: console.series.catalogue.metric(f"tide.{kind}", "1", "sum", "")  # type: ignore[arg-type]
        for kind in ("counter", "sum")
    }
    for number, (kind, take, over) in enumerate(
        (kind, take, over)
        for kind, take in (("counter", "rate"), ("counter", "change"), ("sum", "avg"), ("sum", "max"), ("sum", "last"))
        for over in ("1m", "10m", "50m")
    ):
        body = rule({"metric": f"tide.{kind}", "take": take, "over": over}, {"above": 1e9})
        console.rules.put(f"tide-{number}", body, "test")
    for host, every, silent in (("pier-1", 10, 0), ("pier-2", 120, 30), ("pier-3", 15, 400), ("pier-4", 3000, 20)):
        known = console.directory.ensure(host)
        for kind, metric in made.items():
            number = console.series.catalogue.series_id(known.id, metric, (), "", kind)  # type: ignore[arg-type]
            times = np.array([nanos(now - ago) for ago in range(silent + 6000, silent, -every)])
            layout = console.series.catalogue.layouts.of(np.full(len(times), number))
            steps = np.arange(len(times))
            console.series.accept_now(console.series.batch(layout, times, steps * 3.0 + steps % 4))
    console.watch.tick(now)
    before = {name: look.values.copy() for name, look in console.watch.looks.items()}
    assert len(before) == 15 and np.isfinite(np.concatenate(list(before.values()))).sum() > 30
    close(console)
    again = build(Settings(data=tmp_path))
    again.watch.load(now)
    again.watch.tick(now)
    for name, values in before.items():
        np.testing.assert_allclose(again.watch.looks[name].values, values, rtol=1e-9, err_msg=name)
    # Asked of the store itself: what a counter grew by in a minute.
    [number] = [n for n, r in again.watch.rules.items() if r.body.measure.take == "rate" and r.over == 60]
    times, grown = again.series.reader.raw([again.series.catalogue.series_of(made["counter"].id, 1)[0]], 0, 1 << 62)[0]
    inside = times > (now - 60) * NS
    first = int(np.flatnonzero(inside)[0])
    rate = (grown[-1] - grown[first - 1]) / ((times[-1] - times[first - 1]) / NS)
    assert again.watch.looks[number].values[0] == pytest.approx(rate, rel=0.05)
    close(again)


def test_what_a_quick_rule_finds_is_written_before_a_slow_one_is_asked(
    console: Parts, monkeypatch: pytest.MonkeyPatch
) -> None:
    now = time.time()
    # None is let rest for being slow.
    monkeypatch.setattr(watch, "SLOW", 60.0)
    for name in ("a-slow", "quick", "slow"):
        keep(console, name, rule({"metric": f"tide.{name}", "over": "1m"}, {"above": 5}))
        put(console, "pier-1", f"tide.{name}", [(now - 20, 1.0)])
    console.watch.tick(now)
    seen: list[list[str]] = []

    def slowly(one: Watched) -> None:
        propose = one.propose

        def asked(*given: Any) -> Any:
            seen.append(sorted(name for name, _ in console.alerts.open))
            time.sleep(0.5)
            return propose(*given)

        monkeypatch.setattr(one, "propose", asked)

    for name in ("a-slow", "slow"):
        slowly(console.watch.rules[name])
    console.watch.tick(now + 1)
    seen.clear()
    for name in ("a-slow", "quick", "slow"):
        put(console, "pier-1", f"tide.{name}", [(now - 1, 9.0)])
    console.watch.tick(now + 3)
    assert seen in ([["quick"], ["quick", "slow"]], [["quick"], ["a-slow", "quick"]])
    assert sorted(name for name, _ in console.alerts.open) == ["a-slow", "quick", "slow"]


@pytest.mark.parametrize(("busy", "asked"), [(False, [1, 2, 3, 4, 5, 15, 16]), (True, [1, 2, 12, 13])])
def test_a_rule_rests_for_what_it_costs_others_not_for_what_it_waits_and_never_long(
    console: Parts, monkeypatch: pytest.MonkeyPatch, busy: bool, asked: list[int]
) -> None:
    now = time.time()
    keep(console, "tide", rule({"metric": "tide", "over": "1m"}, {"above": 5}))
    one = console.watch.rules["tide"]
    clock, used, seen = [100.0], [0.0], []
    monkeypatch.setattr(watch.time, "perf_counter", lambda: clock[0])
    monkeypatch.setattr(watch.time, "thread_time", lambda: used[0])
    propose = one.propose

    def slow(*given: Any) -> Any:
        seen.append(round(given[0] - now))
        clock[0] += 25.0 if len(seen) == 2 else 0.001
        used[0] += 25.0 if busy and len(seen) == 2 else 0.001
        return propose(*given)

    monkeypatch.setattr(one, "propose", slow)
    for later in (1, 2, 3, 4, 5, 12, 13) if busy else (1, 2, 3, 4, 5, 15, 16):
        console.watch.tick(now + later)
    assert seen == asked


def test_events_are_counted_in_a_window_by_group(console: Parts) -> None:
    now = time.time()
    keep(console, "refused", rule({"events": 'body co "refused"', "over": "1m"}, {"above": 2}))
    for i in range(3):
        say(console, f"user {i} refused", now - 10 + i)
        say(console, "all is well", now - 10 + i, host="pier-2")
    say(console, "refused", now - 300, host="pier-2")
    look(console, now)
    assert open_groups(console, "refused") == ['{"host": "pier-1"}']
    look(console, now + 70)
    assert open_groups(console, "refused") == []


def test_different_values_are_counted_and_said_again_they_are_one(console: Parts) -> None:
    now = time.time()
    measure = {"events": 'source eq "gate"', "take": "distinct", "of": "user.name", "over": "1m"}
    keep(console, "many", rule(measure, {"above": 2}))
    for name in ("anna", "berit", "anna", "anna"):
        say(console, "refused", now, user_name=name)
    say(console, "refused", now)
    look(console, now)
    assert open_groups(console, "many") == []
    say(console, "refused", now, user_name="carl")
    look(console, now)
    assert len(open_groups(console, "many")) == 1


def test_what_was_there_before_a_rule_is_nothing_new(console: Parts) -> None:
    now = time.time()
    say(console, "in", now - 3 * 86_400, user_name="anna")
    body = rule({"events": 'body eq "in"', "each": ["user.name"], "over": "5m"}, {"first_seen": True, "memory": "30d"})
    keep(console, "seen", body)
    for name in ("anna", "berit"):
        say(console, "in", now, user_name=name)
    look(console, now)
    assert open_groups(console, "seen") == ['{"user.name": "berit"}']
    look(console, now + 301)
    assert open_groups(console, "seen") == []


def test_what_is_new_stays_known_through_a_restart(tmp_path: Path) -> None:
    now = time.time()
    first = build(Settings(data=tmp_path))
    body = rule({"events": 'body eq "in"', "each": ["user.name"], "over": "5m"}, {"first_seen": True})
    keep(first, "seen", body)
    say(first, "in", now, user_name="anna")
    look(first, now)
    assert len(open_groups(first, "seen")) == 1
    first.listening.keep(now)
    close(first)
    again = build(Settings(data=tmp_path))
    again.watch.load(now + 5)
    again.listening.begin()
    look(again, now + 5)
    assert len(open_groups(again, "seen")) == 1, "its alert goes on"
    look(again, now + 302)
    say(again, "in", now + 303, user_name="anna")
    look(again, now + 304)
    assert open_groups(again, "seen") == []
    close(again)


def test_a_job_that_did_not_run_is_missed_once_it_was_heard(console: Parts) -> None:
    now = time.time()
    keep(console, "backup", rule({"metric": "backup.finished"}, {"missing_for": "60s"}))
    put(console, "a", "backup.finished", [(now, 1.0)])
    put(console, "b", "backup.finished", [(now, 1.0)])
    console.watch.tick(now + 1)
    put(console, "b", "backup.finished", [(now + 50, 1.0)])
    console.watch.tick(now + 59)
    assert open_groups(console, "backup") == []
    console.watch.tick(now + 62)
    assert open_groups(console, "backup") == ['{"host": "a"}']
    held = next(iter(console.alerts.open.values()))
    assert held.value == pytest.approx(62, abs=0.01) and not held.silent
    put(console, "a", "backup.finished", [(now + 63, 1.0)])
    console.watch.tick(now + 64)
    assert open_groups(console, "backup") == []


def test_what_is_missed_is_missed_after_a_restart_too(tmp_path: Path) -> None:
    now = time.time()
    first = build(Settings(data=tmp_path))
    first.rules.put("backup", rule({"metric": "m"}, {"missing_for": "1h"}), "test")
    put(first, "a", "m", [(now - 3000, 1.0)])
    first.watch.tick(now)
    close(first)
    again = build(Settings(data=tmp_path))
    again.watch.load(now + 300)
    again.watch.tick(now + 500)
    assert open_groups(again, "backup") == []
    # A minute after a start is for all to find the console again.
    again.watch.tick(now + 650)
    assert open_groups(again, "backup") == []
    again.watch.tick(now + 675)
    assert open_groups(again, "backup") == ['{"host": "a"}']
    close(again)


def test_a_ratio_is_of_two_metrics_of_one_group(console: Parts) -> None:
    now = time.time()
    values = {"bad": {"metric": "errors"}, "all": {"metric": "requests"}}
    keep(console, "ratio", rule({"values": values, "compute": "100 * bad / all"}, {"above": 5}))
    for host, bad, whole in (("a", 9.0, 100.0), ("b", 9.0, 0.0), ("c", 1.0, 100.0)):
        put(console, host, "errors", [(now, bad)])
        put(console, host, "requests", [(now, whole)])
    put(console, "d", "errors", [(now, 9.0)])
    console.watch.tick(now)
    assert open_groups(console, "ratio") == ['{"host": "a"}']
    assert next(iter(console.alerts.open.values())).value == 9.0


def test_two_of_three_is_a_rule_about_alerts(console: Parts) -> None:
    now = time.time()
    console.rules.put("slow", rule({"metric": "t"}, {"above": 1}), "test")
    keep(console, "two", rule({"alerts": 'rule eq "slow"', "each": ["label.site"]}, {"above": 1}))

    for host in ("a", "b", "c"):
        put(console, host, "t", [(now, 0.0)])
        console.hosts.change(host, HostChange(labels={"site": "north" if host != "c" else "south"}), "test")
    put(console, "a", "t", [(now + 1, 9.0)])
    put(console, "c", "t", [(now + 1, 9.0)])
    console.watch.tick(now + 1)
    assert open_groups(console, "two") == []
    put(console, "b", "t", [(now + 2, 9.0)])
    console.watch.tick(now + 2)
    assert open_groups(console, "two") == ['{"label.site": "north"}']
    put(console, "b", "t", [(now + 3, 0.0)])
    console.watch.tick(now + 3)
    assert open_groups(console, "two") == []


def test_a_ring_of_rules_is_refused_and_named(console: Parts) -> None:
    def about(name: str) -> RuleBody:
        return rule({"alerts": f'rule eq "{name}"'}, {"above": 0})

    console.rules.put("a", about("b"), "test")
    console.rules.put("b", about("c"), "test")
    with pytest.raises(Refused) as error:
        console.rules.put("c", about("a"), "test")
    assert "c -> a -> b -> c" in error.value.detail
    with pytest.raises(Refused, match='and rule ne "all"'):
        console.rules.put("all", rule({"alerts": 'severity eq "critical"'}, {"above": 3}), "test")
    console.rules.put("all", rule({"alerts": 'severity eq "critical" and rule ne "all"'}, {"above": 3}), "test")


def test_an_alert_that_flaps_is_told_once_and_stays_open_until_it_is_calm(console: Parts) -> None:
    now = time.time()
    keep(console, "flap", rule({"metric": "m"}, {"above": 5}, flaps_after=2))
    told: list[str] = []
    console.alerts.changed.connect(lambda change: told.append(change.what))
    for i in range(10):
        put(console, "a", "m", [(now + i, 9.0 if i % 2 == 0 else 0.0)])
        console.watch.tick(now + i)
    assert told.count("opened") == 3 and told.count("recovered") == 2 and told.count("flapping") == 1
    assert console.alerts.open_now()[0].flapping
    last = now + 10
    for i in range(0, 1860, 60):
        put(console, "a", "m", [(last + i, 0.0)])
        console.watch.tick(last + i)
    assert not console.alerts.open and told[-1] == "recovered"


def test_what_happens_to_hosts_is_followed_as_if_rules_were_taken_up_anew(console: Parts) -> None:
    now, chance = time.time(), random.Random(4)
    limit, tide = {"above": 1}, {"metric": "tide"}
    asked = {
        "plain": rule(tide, limit),
        "berths": rule({**tide, "each": ["host", "berth"]}, limit),
        "sites": rule({**tide, "each": ["label.site"]}, limit),
        "north": rule(tide, limit, hosts='label.site eq "north"'),
        "where": rule({**tide, "where": 'label.site eq "north" and berth eq "a"'}, limit),
    }
    for name, body in asked.items():
        console.rules.put(name, body, "test")
    seen = set()
    for turn in range(80):
        here = [known.name for known in console.directory.all()]
        if turn % 4 == 0 or not here:
            for berth in ("a", "b"):
                put(console, f"pier-{turn}", "tide", [(now + turn, 5.0)], berth=berth)
        elif turn % 9 == 5 and len(here) > 3:
            console.hosts.retire(chance.choice(here), "test")
        else:
            site = chance.choice(["north", "south"])
            console.hosts.change(chance.choice(here), HostChange(labels={"site": site}), "test")
        console.watch.tick(now + turn)
        for name, body in asked.items():
            anew = console.watch._made(name, body)
            anew.find_series()
            assert looked_at(console.watch.rules[name]) == looked_at(anew), (turn, name)
            seen.add((name, len(looked_at(anew))))
    assert all(len({count for held, count in seen if held == name}) > 1 for name in asked)


def looked_at(watched: Watched) -> dict[str, int]:
    """The groups of a rule that have series, and how many."""
    rows = {group.key: watched.groups.rows_of(number) for number, group in enumerate(watched.groups.all)}
    return {key: count for key, count in rows.items() if count}


def test_every_version_is_kept_and_taken_back(console: Parts) -> None:
    first, second = rule({"metric": "m"}, {"above": 1}), rule({"metric": "m"}, {"above": 2})
    console.rules.put("level", first, "anna")
    console.rules.put("level", second, "berit", why="too tight")
    newest, oldest = console.rules.versions("level")
    assert (newest.who, newest.why, newest.changes) == ("berit", "too tight", ["limits.critical.above: 1.0 -> 2.0"])
    console.rules.delete("level", "carl")
    restored = console.rules.restore("level", oldest.version, "anna")
    assert restored.limits == first.limits and restored.version == 4
    assert [v.what for v in console.rules.versions("level")] == ["restored", "deleted", "written", "written"]


def tuned(console: Parts, **how: Any) -> Any:
    number = next(iter(console.alerts.open.values())).id
    return console.tuning.tune(number, Tune.model_validate({"why": "deep", **how}), "anna")


def test_a_host_gets_limits_of_its_own_and_the_others_keep_theirs(console: Parts) -> None:
    now = time.time()
    keep(console, "level", rule({"metric": "m"}, {"above": 5}))
    for host in ("a", "b"):
        put(console, host, "m", [(now, 9.0)])
    console.watch.tick(now)
    limits = {"critical": {"above": 20}}
    dry = tuned(console, **{"for": "host"}, limits=limits, dry_run=True)
    assert (dry.done, dry.hosts, dry.before, dry.after) == (False, 1, "critical above 5", "critical above 20")
    assert not console.held_plans.is_planned("level")
    host = next(iter(console.alerts.open.values())).key
    done = tuned(console, **{"for": "host"}, limits=limits)
    console.watch.plans_changed(["level"], now)
    console.watch.tick(now + 1)
    assert done.plan in {plan.name for plan in console.plans.all()}
    assert host not in open_groups(console, "level") and len(open_groups(console, "level")) == 1
    assert "anna" in console.plans.get(done.plan or "").text and "deep" in console.plans.get(done.plan or "").text
    with pytest.raises(Refused, match="its limits cannot say below"):
        tuned(console, **{"for": "host"}, limits={"critical": {"below": 1}})


def test_a_severity_that_is_not_tuned_is_told_as_it_stays(console: Parts) -> None:
    now = time.time()
    body = {"about": "x", "measure": {"metric": "m"}, "limits": {"warning": {"above": 5}, "critical": {"above": 8}}}
    keep(console, "high", RuleBody.model_validate(body))
    put(console, "pier-1", "m", [(now, 9.0)])
    look(console, now + 1)
    (alert,) = console.alerts.open_now()
    asked = {"for": "host", "limits": {"critical": {"above": 20}}, "why": "known", "dry_run": True}
    told = console.tuning.tune(alert.id, Tune.model_validate(asked), "test")
    assert (told.before, told.after) == ("warning above 5, critical above 8", "warning above 5, critical above 20")


def test_what_would_have_changed_is_worked_out_with_the_limits_that_plans_give(console: Parts) -> None:
    """A plan warns from 7 on; with another critical limit that stays so, and 6 would have opened nothing."""
    now = time.time()
    body = {"about": "x", "measure": {"metric": "m"}, "limits": {"warning": {"above": 5}, "critical": {"above": 8}}}
    keep(console, "high", RuleBody.model_validate(body))
    console.directory.ensure("pier-1")
    console.plans.put("plan: mild\nfor: {host: pier-1}\nlimits: {high: {warning: {above: 7}}}\n", "test")
    console.watch.plans_changed(["high"], now)
    put(console, "pier-1", "m", [(now - 3000 + 10 * i, 6.0 if i < 200 else 9.0) for i in range(300)])
    look(console, now)
    (alert,) = console.alerts.open_now()
    asked = {"for": "host", "limits": {"critical": {"above": 20}}, "why": "known"}
    for dry in (True, False):
        told = console.tuning.tune(alert.id, Tune.model_validate({**asked, "dry_run": dry}), "test")
        assert told.after == "warning above 7, critical above 20"
        week = told.over[0]
        assert (week.opened, week.would_open) == (1, 1)
        assert week.open_seconds == week.would_be_open_seconds and week.open_seconds < 1500


def test_a_rule_is_off_on_a_host_for_a_time(console: Parts) -> None:
    now = time.time()
    keep(console, "level", rule({"metric": "m"}, {"above": 5}))
    put(console, "a", "m", [(now, 9.0)])
    console.watch.tick(now)
    with pytest.raises(Refused, match="say until when"):
        tuned(console, **{"for": "host"})
    done = tuned(console, **{"for": "host"}, until="+1h")
    console.watch.plans_changed(["level"], now)
    console.watch.tick(now + 1)
    assert not console.alerts.open and done.after == "off"
    assert console.alert_search.get(1).recovery == "switched off by a plan"
    assert [one.note for one in console.tuning.of_host("a")] == ["off for now"]
    changed: list[set[str]] = []
    console.plans.changed.connect(changed.append)
    console.plans.end_those_over(now + 3700)
    assert changed == [{"level"}]


def test_what_watches_a_host_is_told_with_its_distance_from_breach(console: Parts) -> None:
    now = time.time()
    keep(console, "level", rule({"metric": "m"}, {"above": 10}))
    put(console, "a", "m", [(now, 8.0)])
    console.watch.tick(now)
    one = console.tuning.of_host("a")[0]
    assert (one.rule, one.from_, one.value, one.level) == ("level", "test", 8.0, "ok")
    assert one.distance == pytest.approx(0.2)


def test_what_a_rehearsal_says_is_what_the_rule_did(console: Parts) -> None:
    """Every second of ten minutes, of values by chance: opened and recovered at the same moments."""
    rng = np.random.default_rng(7)
    start = float(int(time.time()) - 900)
    kinds: dict[str, tuple[dict[str, Any], dict[str, Any]]] = {
        "outside": ({"metric": "m", "take": "avg", "over": "20s"}, {"outside": [3, 7], "hold": "5s"}),
        "change": ({"metric": "m", "take": "change", "over": "20s"}, {"above": 4}),
        "ratio": (
            {"values": {"a": {"metric": "m"}, "b": {"metric": "n"}}, "compute": "a / b", "over": "30s"},
            {"above": 3},
        ),
        "missing": ({"metric": "gone"}, {"missing_for": "30s"}),
    }
    for name, (measure, limit) in kinds.items():
        console.rules.put(name, rule(measure, limit), "test")
    did: dict[str, list[tuple[float, str]]] = {name: [] for name in kinds}
    now = start

    def note(change: Any) -> None:
        if change.what in ("opened", "recovered") and change.alert.rule in did:
            did[change.alert.rule].append((now, change.what))

    console.alerts.changed.connect(note)
    for second in range(600):
        now = start + second
        if second % 5 == 0:
            put(console, "a", "m", [(now, float(rng.uniform(0, 10)))])
            put(console, "a", "n", [(now, float(rng.choice([0.0, 1.0, 2.0, 5.0])))])
        if second % 5 == 0 and (second // 100) % 2 == 0:
            put(console, "a", "gone", [(now, 1.0)])
        console.watch.tick(now)
    assert all(len(moments) >= 2 for moments in did.values())
    for name, (measure, limit) in kinds.items():
        body = rule(measure, limit, flaps_after=0)
        said = console.rules._rehearsals.run(body, start, start + 600, lambda _r, _h: None)
        assert said.step_seconds == 1.0
        told = sorted(
            [(i.opened_at, "opened") for i in said.items]
            + [(i.recovered_at, "recovered") for i in said.items if i.recovered_at is not None]
        )
        flapped = console.rules.get(name)
        assert flapped.flaps_after == 4
        # An alert that flaps stays open: up to there both say the same.
        same = min(len(told), len(did[name]))
        assert same >= 2
        assert told[: same - 1] == did[name][: same - 1]


def test_what_matches_nothing_is_pointed_out(console: Parts) -> None:
    now = time.time()

    put(console, "gate-n1", "tide.level", [(now, 1.0)], quay="3")
    console.hosts.change("gate-n1", HostChange(labels={"site": "southquay"}), "test")
    body = rule({"metric": "tide.levle"}, {"above": 1}, hosts='label.site eq "south-quay"')
    said = console.rules.put("x", body, "test").warnings
    assert said == [
        "no metric tide.levle has arrived yet; did you mean tide.level?",
        "no host has label.site south-quay; did you mean southquay?",
    ]
    wrong = rule({"metric": "tide.level", "where": 'qay eq "3"'}, {"above": 1})
    assert console.rules.put("y", wrong, "test").warnings == ["no series of tide.level has qay; did you mean quay?"]
    # What is nearer by now is meant by now.
    put(console, "gate-n2", "tide.levl", [(now, 1.0)])
    console.hosts.change("gate-n2", HostChange(labels={"site": "south-quays"}), "test")
    assert console.rules.get("x").warnings == [
        "no metric tide.levle has arrived yet; did you mean tide.levl?",
        "no host has label.site south-quay; did you mean south-quays?",
    ]
    put(console, "gate-n3", "tide.levle", [(now, 1.0)])
    assert [one[:7] for one in console.rules.get("x").warnings] == ["no host"]


def test_the_list_of_rules_says_what_is_kept_and_what_is_open(console: Parts) -> None:
    now = time.time()
    for name, limit in (("high", 1), ("low", 99)):
        console.rules.put(name, rule({"metric": "m"}, {"above": limit}), "test")
    for host in ("a", "b"):
        put(console, host, "m", [(now, 9.0)])
    console.watch.tick(now)
    assert [(one.name, one.open_alerts) for one in console.rules.all()] == [("high", 2), ("low", 0)]
    console.rules.put("low", rule({"metric": "m"}, {"above": 2}, advice="look"), "test")
    console.watch.tick(now)
    found = console.rules.all()
    assert [(one.name, one.open_alerts, one.advice) for one in found] == [("high", 2, ""), ("low", 2, "look")]
    # It is put together unchecked, and passes what checks.
    assert [Rule.model_validate_json(one.model_dump_json()) for one in found] == found


def test_limits_are_suggested_from_what_was_measured(console: Parts) -> None:
    now = time.time()
    for i in range(600):
        put(console, "a", "m", [(now - 60 * (600 - i), 20.0 if i in (100, 101, 400) else 1.0)])
    body = rule({"metric": "m"}, {"above": 0.5}).model_dump()
    asked = Suggest.model_validate({"rule": body, "from": "-10h", "to": "now", "at_most_a_week": 100})
    found = console.rules.suggest(asked)
    assert found.warning is not None and 1 < (found.warning.above or 0) < 20 and found.would_open == 2
    with pytest.raises(Refused, match="suggested of above, below and unusual"):
        console.rules.suggest(
            Suggest.model_validate({"rule": {**body, "limits": {"warning": {"outside": [1, 2]}}}, "from": "-10m"})
        )


def test_a_rehearsal_compares_with_the_version_in_force(console: Parts) -> None:
    now = time.time()
    for i in range(100):
        put(console, "a", "m", [(now - 100 + i, 9.0 if i % 20 == 0 else 0.0)])
    console.rules.put("level", rule({"metric": "m"}, {"above": 10}), "test")
    looser = RuleDocument.model_validate({"rule": "level", **rule({"metric": "m"}, {"above": 5}).model_dump()})
    said = console.rules.rehearse(Rehearse.model_validate({"rule": looser.model_dump(), "from": "-2m"}))
    assert said.compared is not None and said.compared.opened == 0 and said.opened >= 4
    assert sum(said.by_hour) == said.opened and said.points is not None and len(said.points.lines) == 1
    assert Limits.model_validate(looser.limits.model_dump()) == looser.limits


def test_how_often_a_rule_opened_is_told_with_it(console: Parts) -> None:
    now = time.time()
    keep(console, "level", rule({"metric": "m"}, {"above": 5}))
    for host in ("a", "b", "c"):
        put(console, host, "m", [(now, 9.0)])
    console.watch.tick(now)
    console.alerts.acknowledge(next(iter(console.alerts.open.values())).id, "anna", "")
    told = console.rules.get("level")
    assert (told.opened, told.untaken, told.open_alerts) == (3, 2, 3)


def test_a_host_whose_clock_is_behind_is_not_missed(console: Parts) -> None:
    now = time.time()
    keep(console, "alive", rule({"metric": "m"}, {"missing_for": "60s"}))
    known = console.directory.ensure("slow")
    console.clocks.told(known.id, 7200.0)
    for second in range(0, 50, 10):
        put(console, "slow", "m", [(now + second - 7200, 1.0)])
        console.watch.tick(now + second)
    assert open_groups(console, "alive") == []
    console.watch.tick(now + 40 + 61)
    assert open_groups(console, "alive") == ['{"host": "slow"}']


def learn(console: Parts, now: float) -> None:
    """Two passes: until the second no more groups came for a while."""
    for at in (now - SETTLED, now):
        console.learner.work(at)


def test_a_fleet_that_comes_is_learnt_of_when_all_of_it_is_there_or_after_a_minute(console: Parts) -> None:
    now = time.time()
    for name in ("odd", "full"):
        limit = {"unusual": 6} if name == "odd" else {"runs_out_within": "30m", "at": 1e9}
        keep(console, name, rule({"metric": "load", "take": "avg"}, limit))
    odd, full = (console.watch.rules[name] for name in ("odd", "full"))

    def come(number: int) -> None:
        put(console, f"host-{number}", "load", [(now - 600, 1.0), (now, 2.0)])
        console.watch.tick(now)
        console.learner.work(now + number)

    for number in range(60):
        come(number)
    assert odd.usual is None and full.name not in console.learner._filled
    come(60)
    assert odd.usual is not None and console.learner._filled[full.name] == (61, now + 60)
    # Another console has them all at once, and learns when no more came for a while.
    other = Learner(watch=console.watch, history=console.learner._history, zone=UTC)
    other.work(now)
    assert not other._filled
    other.work(now + 2)
    assert not other._filled, "a beat of the rules may take as long"
    other.work(now + SETTLED)
    assert other._filled[full.name] == (61, now + SETTLED)


def test_a_volume_that_fills_is_told_before_it_is_full(console: Parts) -> None:
    """From 0.4 to 0.9 in an hour: a twelfth of an hour's worth is missing; teeth beside it are quiet."""
    now = time.time()
    for i in range(221):
        at = now - 3300 + 15 * i
        put(console, "a", "fill", [(at, 0.40 + 0.50 * i / 220)])
        put(console, "b", "fill", [(at, 0.40 + 0.03 * (i % 20) / 20)])
    keep(console, "full", rule({"metric": "fill", "over": "5m"}, {"runs_out_within": "30m", "at": 1.0}))
    learn(console, now)
    console.watch.tick(now + 1)
    assert open_groups(console, "full") == ['{"host": "a"}']
    alert = console.alerts.open_now()[0]
    assert alert.kind == "runs_out_within" and alert.reaches_at is not None
    assert 400 < alert.reaches_at - now < 1000


def test_what_is_unusual_is_known_after_two_weeks(console: Parts) -> None:
    """An hour a week of three weeks at 10, 11 and 10; now 30."""
    hour = time.time() // 3600 * 3600
    rng = np.random.default_rng(3)
    for week in (3, 2, 1):
        for i in range(-3, 4):
            start = hour - week * 7 * 86_400 + i * 3600
            put(console, "a", "load", [(start + 60 * m, 10 + week % 2 + float(rng.normal(0, 0.3))) for m in range(60)])
    body = rule({"metric": "load", "take": "avg", "over": "5m"}, {"unusual": 6, "side": "above", "by": 2})
    keep(console, "odd", body)
    put(console, "a", "load", [(hour + 600, 30.0)])
    put(console, "new", "load", [(hour + 600, 30.0)])
    console.watch.tick(hour + 601)
    assert open_groups(console, "odd") == []
    learn(console, hour + 601)
    console.watch.tick(hour + 602)
    assert open_groups(console, "odd") == ['{"host": "a"}']
    assert "not enough history yet" in console.rules.get("odd").learning
    alert = console.alerts.open_now()[0]
    assert alert.baseline is not None and alert.baseline.middle == pytest.approx(10.6, abs=0.7)


def test_hosts_that_come_while_it_learns_are_learnt_the_next_time(
    console: Parts, monkeypatch: pytest.MonkeyPatch
) -> None:
    hour = time.time() // 3600 * 3600
    for week in (3, 2, 1):
        for i in range(-3, 4):
            start = hour - week * 7 * 86_400 + i * 3600
            put(console, "a", "load", [(start + 60 * m, 10.0 + m % 2) for m in range(60)])
    keep(console, "odd", rule({"metric": "load", "take": "avg", "over": "5m"}, {"unusual": 6}))
    console.watch.tick(hour + 601)
    part, came = console.learner._history.part, iter(range(1000))

    def others_come(*given: Any, **named: Any) -> Any:
        put(console, f"late-{next(came)}", "load", [(hour + 600, 10.0)])
        console.watch.tick(hour + 602)
        return part(*given, **named)

    with monkeypatch.context() as meanwhile:
        meanwhile.setattr(console.learner._history, "part", others_come)
        learn(console, hour + 603)
    odd = console.watch.rules["odd"]
    assert next(came) > 10 and len(odd.groups) > 10
    assert odd.usual is not None and len(odd.usual[1].middle) == 1
    console.learner.work(hour + 3590)
    assert len(odd.usual[1].middle) == len(odd.groups)


def test_a_pattern_that_is_new_and_one_that_comes_more_often(console: Parts) -> None:
    now = time.time()
    for i in range(20):
        say(console, f"ticket {i} printed", now - 86_400 - 600 + i)
        say(console, f"gate {i} opened", now - 86_400 - 600 + i)
    measure = {"events": "host pr", "over": "1h", "each": ["pattern"]}
    keep(console, "new", rule({**measure, "pattern": "new"}, {"above": 0}))
    keep(console, "more", rule({**measure, "pattern": "more"}, {"above": 5}))
    for i in range(120):
        say(console, f"ticket {i} printed", now - 60 + i / 10)
    for i in range(20):
        say(console, f"gate {i} opened", now - 60 + i / 10)
    look(console, now)
    assert open_groups(console, "new") == [] and len(open_groups(console, "more")) == 1
    value = next(a.value for (name, _), a in console.alerts.open.items() if name == "more")
    assert value == pytest.approx(6.0)
    say(console, "the sluice is stuck", now - 1)
    look(console, now)
    assert len(open_groups(console, "new")) == 1


def test_more_events_than_may_wait_are_counted_from_the_store(console: Parts, monkeypatch: pytest.MonkeyPatch) -> None:
    now = time.time()
    monkeypatch.setattr("balise.server.rules.listening.MOST_WAITING", 3)
    keep(console, "many", rule({"events": 'body co "refused"', "over": "1m"}, {"above": 9}))
    for i in range(10):
        say(console, f"{i} refused", now - 20 + i)
    assert console.listening.dropped > 0
    look(console, now)
    assert open_groups(console, "many") == ['{"host": "pier-1"}']
    assert [a.value for a in console.alerts.open.values()] == [10.0]


def test_a_rule_that_fails_while_it_says_what_it_found_holds_up_no_other(console: Parts) -> None:
    now = time.time()
    for name in ("bad", "good"):
        console.rules.put(name, rule({"metric": "m"}, {"above": 1}), "test")
    console.watch.rules["bad"].worse = None  # type: ignore[method-assign, assignment]
    put(console, "a", "m", [(now, 9.0)])
    console.watch.tick(now)
    console.watch.tick(now + 1)
    assert {name for name, _ in console.alerts.open} == {"good"}
    assert "bad" in console.watch.problems and "TypeError" in console.rules.get("bad").problem


def test_windows_that_could_not_be_filled_are_filled_when_they_can_be(console: Parts) -> None:
    """What fails when a point comes, and again at the next look, when it is made good, is not forgotten."""
    now = time.time()
    console.rules.put("late", rule({"metric": "m"}, {"above": 1}), "test")
    watched = console.watch.rules["late"]
    observe, fails = watched.observe, [True] * 3

    def at_last(*points: Any, **how: Any) -> None:
        if fails:
            fails.pop()
            raise ValueError("not now")
        observe(*points, **how)

    watched.observe = at_last  # type: ignore[method-assign]
    put(console, "a", "m", [(now, 9.0)])
    for second in range(4):
        console.watch.tick(now + second)
    assert fails == [] and {name for name, _ in console.alerts.open} == {"late"}


def test_series_that_come_are_taken_up_with_what_comes_and_not_looked_for_in_the_store(
    console: Parts, monkeypatch: pytest.MonkeyPatch
) -> None:
    """What a rule begins to look at otherwise, as a host that it was not about, is read from the store."""
    now = time.time()
    looked: list[int] = []

    def counted(reader: Any, series: Any, **how: Any) -> Any:
        looked.append(len(series))
        return look_back(reader, series, **how)

    monkeypatch.setattr(watch, "look_back", counted)
    north = rule({"metric": "m"}, {"above": 1}, hosts='label.site eq "north"')
    console.rules.put("all", rule({"metric": "m"}, {"above": 1}), "test")
    console.rules.put("north", north, "test")
    put(console, "a", "m", [(now, 9.0)])
    console.watch.tick(now)
    assert {name for name, _ in console.alerts.open} == {"all"} and looked == []
    console.hosts.change("a", HostChange(labels={"site": "north"}), "test")
    console.watch.tick(now + 1)
    assert {name for name, _ in console.alerts.open} == {"all", "north"} and looked == [1]


def test_a_rehearsal_counts_the_alerts_that_there_were(console: Parts) -> None:
    start = float(int(time.time()) - 300)
    console.rules.put("slow", rule({"metric": "t"}, {"above": 1}), "test")
    for host in ("a", "b"):
        put(console, host, "t", [(start, 0.0)])
    for second, host, value in ((10, "a", 9.0), (20, "b", 9.0), (40, "a", 0.0), (60, "b", 0.0)):
        put(console, host, "t", [(start + second, value)])
        console.watch.tick(start + second)
    body = rule({"alerts": 'rule eq "slow"', "each": ["rule"]}, {"above": 1})
    said = console.rules._rehearsals.run(body, start, start + 100, lambda _r, _h: None)
    assert [(item.opened_at - start, item.recovered_at) for item in said.items] == [(20.0, start + 40)]


def test_a_rule_learns_from_the_first_point_that_it_counts_down(console: Parts) -> None:
    now = time.time()
    keep(console, "ending", rule({"metric": "left"}, {"runs_out_within": "14d"}))
    known = console.directory.ensure("a")
    made = console.series.catalogue.metric("left", "d", "gauge", "")
    series = console.series.catalogue.series_id(known.id, made, (), "", "gauge")
    layout = console.series.catalogue.layouts.of(np.array([series]))
    console.series.accept_now(console.series.batch(layout, np.array([int(now * NS)]), np.array([10.0])))
    console.watch.tick(now)
    console.watch.tick(now + 1)
    assert open_groups(console, "ending") == ['{"host": "a"}']
    assert console.alerts.open_now()[0].reaches_at == pytest.approx(now + 10 * 86_400, abs=5)


def test_a_channel_is_a_source_of_its_host(console: Parts) -> None:
    known = console.directory.ensure("tick-t1")
    told = {"path": "Security", "kind": "channel", "status": "following", "detail": "", "lines": 3, "total_lines": 3}
    console.reports.note_files(known.id, [{**told, "last_at": time.time()}])
    source = next(one for one in console.sources.all("tick-t1", None) if one.name == "Security")
    assert (source.kind, source.state, source.lines) == ("channel", "following", 3)


def test_a_rule_is_read_from_its_text_with_the_place_of_each_slip(console: Parts) -> None:
    """Written and read again it is the same; what only the whole console can know has its place too."""
    body = rule({"metric": "m", "where": 'kind eq "x"'}, {"above": 5}, advice="one\n  two\nthree")
    text = rule_text("a-rule", body)
    read = read_text(text, console.rules)
    assert read.problems == [] and read.rule is not None and read.rule.alone() == body and read.rule.rule == "a-rule"
    broken = read_text(text.replace('kind eq "x"', "kind eq"), console.rules)
    assert [(slip.line, slip.field) for slip in broken.problems] == [(5, "measure.where")]
    assert text.splitlines()[4].startswith("  where:")
    assert [slip.line for slip in read_text("about: x\nmeasure: &a [*a]\n", console.rules).problems] == [2]


def test_points_that_came_in_any_order_are_found_by_metric_series_and_time() -> None:
    chance = random.Random(9)
    for many in (0, 1, 50, 400):
        # Of each series which metric it is of; some points come late, some twice, the one with what it said first.
        of = [chance.randrange(4) for _ in range(9)]
        points = [(series, float(turn - chance.choice([0, 0, 0, 7]))) for turn in range(many) for series in range(9)]
        told = [(of[series], series, at, float(place)) for place, (series, at) in enumerate(points)]
        columns = np.array(told, np.float64).reshape(-1, 4).T
        came = Came.in_any_order(columns[0].astype(np.int64), columns[1].astype(np.int64), *columns[2:])
        expected = sorted(told)
        assert list(zip(came.metrics, came.series, came.times, came.values, strict=True)) == expected
        for wanted in ([2], [1, 3], []):
            mine = sorted((series, at, value) for metric, series, at, value in told if metric in wanted)
            assert list(zip(*came.of(wanted), strict=True)) == mine
