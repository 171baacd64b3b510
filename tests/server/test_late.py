"""What comes late: nothing of it is lost, nothing is told as news, and the order in which it came changes nothing."""

from __future__ import annotations

import json
import random
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from balise.api.callouts import CalloutBody
from balise.api.channels import WebhookChannel
from balise.api.rules import Rehearse, RuleBody
from balise.api.spans import rfc3339
from balise.core.events.new_event import NewEvent
from balise.core.moments import NS, nanos
from balise.server.alerts.book import Turn
from balise.server.life import close
from balise.server.parts import Parts, build
from balise.server.people.access import Principal
from balise.server.settings import Settings
from balise.store.events.store import Delivery as Delivered
from balise.store.state.tables import Alert, Delivery


def put(console: Parts, host: str, metric: str, points: list[tuple[float, float]]) -> None:
    known = console.directory.ensure(host)
    made = console.series.catalogue.metric(metric, "1", "gauge", "")
    series = console.series.catalogue.series_id(known.id, made, (), "", "gauge")
    layout = console.series.catalogue.layouts.of(np.full(1, series, np.int64))
    for at, value in points:
        console.series.accept_now(console.series.batch(layout, np.array([int(at * NS)]), np.array([value])))


def say(console: Parts, host: str, body: str, at: float, **attributes: str) -> None:
    told = json.dumps({name.replace("_", "."): value for name, value in attributes.items()}) if attributes else None
    console.events.accept_now(Delivered([NewEvent(nanos(at), host, 6, "gate", body, told)]))


def keep(console: Parts, name: str, measure: dict[str, Any], limit: dict[str, Any]) -> RuleBody:
    body = RuleBody.model_validate({"about": "x", "measure": measure, "limits": {"critical": limit}})
    console.rules.put(name, body, "test")
    console.listening.changed(name)
    console.listening.work()
    return body


def look(console: Parts, now: float) -> None:
    console.listening.work()
    console.watch.tick(now)


def catch_up(console: Parts, now: float) -> None:
    """What came late is looked at once nothing more comes; of many rules some in each turn."""
    console.late_comers.work(now)
    turns = 0
    while console.late_comers.waiting:
        console.late_comers.work(now + 20 + turns)
        turns += 1
        assert turns < 50


def were(console: Parts, rule: str) -> list[Alert]:
    query = select(Alert).where(Alert.rule == rule).order_by(Alert.opened_at)
    return console.state.read(lambda s: list(s.scalars(query)))


def test_a_breach_that_was_over_before_it_was_known_is_kept_and_told_to_nobody(console: Parts) -> None:
    now = time.time()
    console.channels.put(
        "nobody", WebhookChannel(kind="webhook", url="http://127.0.0.1:9/"), Principal("t", "administrator")
    )
    console.callouts.put("all", CalloutBody(when='severity eq "critical"', tell=["nobody"]), "t")
    keep(console, "hot", {"metric": "m", "over": "1m"}, {"above": 5, "hold": "30s"})
    put(console, "pier-1", "m", [(now, 1.0)])
    look(console, now + 1)
    # Off the net for an hour, in which it was hot from the 10th to the 20th minute.
    late = [(now + s, 9.0 if 600 <= s < 1200 else 1.0) for s in range(10, 3600, 10)]
    put(console, "pier-1", "m", late)
    look(console, now + 3600)
    catch_up(console, now + 3601)
    (alert,) = were(console, "hot")
    assert alert.recovery == "over before it was known" and alert.worst_value == 9.0
    assert alert.opened_at - now == pytest.approx(600 + 30 + 30, abs=31)
    assert alert.recovered_at is not None and alert.recovered_at - now == pytest.approx(1200 + 30, abs=31)
    assert console.state.read(lambda s: s.scalar(select(func.count()).select_from(Delivery))) == 0
    assert not console.alerts.open
    # The same comes again, regrouped: it is known already.
    put(console, "pier-1", "m", late[::-1])
    look(console, now + 3700)
    catch_up(console, now + 3701)
    assert len(were(console, "hot")) == 1


def test_of_a_whole_fleet_that_came_late_some_are_kept_at_a_time(
    console: Parts, monkeypatch: pytest.MonkeyPatch
) -> None:
    now = time.time()
    body = keep(console, "hot", {"metric": "m"}, {"above": 5})
    key = '{{"host": "pier-{}"}}'.format

    def turn(number: int, since: float) -> tuple[Turn, float]:
        named = {"host": f"pier-{number}"}
        turned = Turn("hot", body, "1", key(number), None, "", named, 2, 9.0, 5.0, since=since, worse=max)
        return turned, since + 300

    written: list[int] = []
    write = console.state.write

    def counted(change: Callable[[Session], Any]) -> Any:
        done = write(change)
        written.append(len(done))
        return done

    # Of the first it came twice, a minute apart, which is one alert; and once more, an hour before.
    over = [turn(0, now - 7200), *(turn(n, now - 3600) for n in range(120)), turn(0, now - 3600 + 360)]
    with monkeypatch.context() as patched:
        patched.setattr(console.state, "write", counted)
        console.alerts.learn(over, now)
        console.alerts.learn(over, now)
    assert written == [50, 50, 21, 0, 0, 0]
    found = were(console, "hot")
    assert [row.group_key for row in found[:2]] == [key(0), key(0)] and len(found) == 121


def test_a_breach_that_lasts_is_one_since_it_began(console: Parts) -> None:
    """With a hold of ten minutes: half of it had gone by before anybody could know."""
    now = time.time()
    keep(console, "hot", {"metric": "m", "over": "1m"}, {"above": 5, "hold": "10m"})
    put(console, "pier-1", "m", [(now, 1.0)])
    look(console, now + 1)
    put(console, "pier-1", "m", [(now + s, 9.0) for s in range(60, 400, 10)])
    look(console, now + 400)
    catch_up(console, now + 401)
    for at in range(430, 690, 10):
        put(console, "pier-1", "m", [(now + at, 9.0)])
        look(console, now + at)
        assert not console.alerts.open or at > 660
    put(console, "pier-1", "m", [(now + 730, 9.0)])
    look(console, now + 730)
    assert len(console.alerts.open) == 1


def test_what_came_late_is_looked_at_after_a_restart(tmp_path: Path) -> None:
    now = time.time()
    first = build(Settings(data=tmp_path))
    keep(first, "hot", {"metric": "m", "over": "1m"}, {"above": 5})
    put(first, "pier-1", "m", [(now, 1.0)])
    look(first, now + 1)
    put(first, "pier-1", "m", [(now + s, 9.0 if 300 <= s < 900 else 1.0) for s in range(10, 1800, 10)])
    look(first, now + 1800)
    first.late_comers.work(now + 1801)
    assert were(first, "hot") == []
    close(first)
    again = build(Settings(data=tmp_path))
    again.watch.load(now + 1805)
    again.late_comers.work(now + 1806)
    assert len(were(again, "hot")) == 1
    close(again)


def test_a_rule_finds_nothing_of_the_time_before_it(console: Parts) -> None:
    now = time.time()
    keep(console, "hot", {"metric": "m", "over": "1m"}, {"above": 5})
    put(console, "pier-1", "m", [(now - 7200 + s, 9.0) for s in range(0, 600, 10)])
    look(console, now + 1)
    catch_up(console, now + 2)
    assert were(console, "hot") == []


RULES = {
    "above": ({"metric": "m", "over": "1m"}, {"above": 5, "hold": "30s"}),
    "outside": ({"metric": "m", "take": "max", "over": "1m"}, {"outside": [-1, 5]}),
    "ratio": (
        {"values": {"a": {"metric": "m"}, "b": {"metric": "all"}}, "compute": "100 * a / b", "over": "1m"},
        {"above": 50, "hold": "20s"},
    ),
    "said": ({"events": 'body co "refused"', "over": "1m", "each": ["host"]}, {"above": 2}),
    "seen": ({"events": 'body co "in"', "over": "1m", "each": ["host", "user.name"]}, {"first_seen": True}),
}


@pytest.mark.parametrize("seed", range(3))
def test_in_which_order_it_came_changes_nothing(console: Parts, seed: int) -> None:
    """Hosts are off the net for parts of an hour and send all of it then, shuffled and in pieces. Whatever would have
    been an alert is one; and what is one that was over before it was known would have been one at that time."""
    rng, now = random.Random(seed), float(int(time.time()) + 10)
    bodies = {name: keep(console, name, *said) for name, said in RULES.items()}
    hosts = [f"pier-{n}" for n in range(8)]
    held: dict[str, list[tuple[float, Any]]] = {host: [] for host in hosts}
    off = {host: sorted(rng.sample(range(200, 3200), 2)) for host in hosts}
    hot = {host: [(s, s + rng.randrange(60, 500)) for s in rng.sample(range(100, 3000), 3)] for host in hosts}

    def deliver(host: str, what: tuple[float, Any]) -> None:
        at, said = what
        if isinstance(said, str):
            say(console, host, said, at, **({"user_name": said.split()[0]} if " in" in said else {}))
        else:
            for metric, value in said.items():
                put(console, host, metric, [(at, value)])

    for second in range(0, 3600, 10):
        for host in hosts:
            is_hot = any(a <= second < b for a, b in hot[host])
            made: list[tuple[float, Any]] = [(now + second, {"m": 9.0 if is_hot else 1.0, "all": 10.0})]
            if is_hot and second % 20 == 0:
                made.append((now + second, "a user was refused"))
            if rng.random() < 0.01:
                made.append((now + second, f"user{rng.randrange(100)} in"))
            begin, end = off[host]
            held[host] += made
            if not begin <= second < end:
                rng.shuffle(held[host])
                for what in held[host]:
                    deliver(host, what)
                held[host] = []
        look(console, now + second + 1)
        if second % 300 == 0:
            console.late_comers.work(now + second + 2)
    for host in hosts:
        for what in held[host]:
            deliver(host, what)
    look(console, now + 3600)
    catch_up(console, now + 3601)
    for name, body in bodies.items():
        asked = {"rule": body.model_dump(exclude_none=True), "from": rfc3339(now), "to": rfc3339(now + 3600)}
        truth = [
            (item.host, item.attributes.get("user.name"), item.opened_at, item.recovered_at or now + 3601)
            for item in console.rules.rehearse(Rehearse.model_validate(asked)).items
        ]
        alerts = were(console, name)
        assert len(truth) > 3, name
        for host, user, opened, recovered in truth:
            mine = [a for a in alerts if a.host_name == host and a.attributes.get("user.name") == user]
            there = [a for a in mine if a.opened_at <= recovered + 60 and (a.recovered_at or 1e12) >= opened - 60]
            assert there, f"{name} of {host} {user} from {opened - now:.0f} to {recovered - now:.0f} s is missing"
        for alert in alerts:
            if alert.recovery == "over before it was known":
                same = [t for t in truth if t[:2] == (alert.host_name, alert.attributes.get("user.name"))]
                assert any(abs(t[2] - alert.opened_at) <= 60 for t in same), f"{name} of {alert.host_name} never was"


def test_events_of_a_host_whose_clock_is_behind_are_counted_when_they_come(console: Parts) -> None:
    now = time.time()
    keep(console, "refused", {"events": 'body co "refused"', "over": "1m", "each": ["host"]}, {"above": 2})
    console.clocks.told(console.directory.ensure("slow").id, 7200.0)
    for second in range(4):
        say(console, "slow", "refused", now - 7200 + second)
    look(console, now + 4)
    assert len(console.alerts.open) == 1
    catch_up(console, now + 5)
    assert [alert.recovery for alert in were(console, "refused")] == [None]


def test_a_rule_says_how_much_of_it_found_no_room(console: Parts, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("balise.server.rules.event_feed.MOST_GROUPS", 3)
    now = time.time()
    keep(console, "seen", {"events": 'body co "in"', "over": "1m", "each": ["user.name"]}, {"first_seen": True})
    for user in range(5):
        say(console, "pier-1", f"user{user} in", now, user_name=f"user{user}")
    look(console, now + 1)
    assert "2 times something beyond" in console.rules.get("seen").learning
