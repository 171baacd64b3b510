"""Incidents and callouts over real records, with a clock that is turned by hand: who is told what, once, by whatever
happens in between."""

from __future__ import annotations

import socket
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from sqlalchemy import select

from balise.api.applications import ApplicationBody
from balise.api.callouts import CalloutBody, WhoAsked
from balise.api.channels import WebhookChannel
from balise.api.hosts import GroupBody
from balise.api.incidents import Snooze, Together
from balise.api.maintenance import MaintenanceBody
from balise.api.persons import PersonBody
from balise.api.probes import ProbeBody
from balise.api.responses import ResponseBody
from balise.api.rotas import RotaBody
from balise.api.rules import RuleBody
from balise.core.rules.limits import OK
from balise.server.alerts.book import Turn, group_key
from balise.server.callouts.courier import Liveness
from balise.server.callouts.links import GOOD_FOR, Grant
from balise.server.errors import Refused
from balise.server.incidents.book import CALM
from balise.server.life import close
from balise.server.parts import Parts, build
from balise.server.people.access import Principal
from balise.server.settings import Settings
from balise.store.state.tables import Alert, Delivery, Incident
from running import often

WHO = Principal("tests", "administrator")
MINUTE, HOUR = 60.0, 3600.0
WARNING, CRITICAL = 1, 2
T0 = 1_772_409_600.0
"""2026-03-02 00:00 UTC, a Monday."""
BODY = RuleBody.model_validate(
    {"about": "Trouble", "measure": {"metric": "m"}, "limits": {"warning": {"above": 1}}, "advice": "Look."}
)


class House:
    """A console without workers, whose steps are taken one after the other."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.now = T0
        self.parts = self._built()

    def _built(self) -> Parts:
        made = build(Settings(data=self.folder))
        made.incident_acts.clock = lambda: self.now
        return made

    def restart(self) -> None:
        close(self.parts)
        self.parts = self._built()

    def close(self) -> None:
        close(self.parts)

    # --- the world

    def channel(self, *names: str) -> None:
        for name in names:
            self.parts.channels.put(name, WebhookChannel(kind="webhook", url="http://127.0.0.1:9/"), WHO)

    def person(self, *names: str, quiet: dict[str, Any] | None = None) -> None:
        for name in names:
            self.channel(f"to-{name}")
            self.parts.persons.put(name, PersonBody.model_validate({"channels": [f"to-{name}"], "quiet": quiet}), "t")

    def callout(self, name: str, **body: Any) -> None:
        wanted = {"when": 'severity ge "warning"', "gather": "10s", **body}
        self.parts.callouts.put(name, CalloutBody.model_validate(wanted), "t")

    def turn(self, host: str, level: int, rule: str = "trouble", **attributes: str) -> Turn:
        known = self.parts.directory.ensure(host)
        key = group_key({"host": host, **attributes})
        value = float(level * 10)
        return Turn(rule, BODY, "1", key, known.id, host, attributes, level, value, 1.0, self.now, max)

    def breach(self, *hosts: str, level: int = CRITICAL, rule: str = "trouble", **attributes: str) -> None:
        self.parts.alerts.apply([self.turn(host, level, rule, **attributes) for host in hosts], self.now)
        self.step()

    def over(self, *hosts: str, rule: str = "trouble", **attributes: str) -> None:
        self.breach(*hosts, level=OK, rule=rule, **attributes)

    def step(self, later: float = 0.0) -> None:
        """Whatever is due, `later` seconds from now."""
        self.now += later
        parts = self.parts
        parts.maintenance.look(self.now)
        while parts.incidents.take_in(self.now):
            pass
        parts.incidents.settle(self.now)
        parts.calling.look(self.now)
        parts.messages.send_due(self.now)

    def wait(self, seconds: float, every: float = 10.0) -> None:
        for _ in range(round(seconds / every)):
            self.step(every)

    # --- what came of it

    def told(self, channel: str | None = None) -> list[tuple[str, str]]:
        """Who was told what, in order."""
        rows = self.parts.state.read(lambda s: list(s.scalars(select(Delivery).order_by(Delivery.id))))
        return [(row.channel, row.kind) for row in rows if channel in (None, row.channel)]

    def deliveries(self) -> list[Delivery]:
        return self.parts.state.read(lambda s: list(s.scalars(select(Delivery).order_by(Delivery.id))))

    def alerts(self) -> list[Alert]:
        return self.parts.state.read(lambda s: list(s.scalars(select(Alert).order_by(Alert.id))))

    def incidents(self, state: str | None = "open") -> list[Any]:
        return self.parts.incident_search.page(where=None, state=state, limit=200, cursor=None).items

    def only(self) -> Any:
        (one,) = self.incidents()
        return self.parts.incident_search.get(one.id)


@pytest.fixture
def house(tmp_path: Path) -> Iterator[House]:
    made = House(tmp_path)
    yield made
    made.close()


def pier(house: House) -> None:
    for host in ("db", "app", "web"):
        house.parts.directory.ensure(host)
    body = {
        "parts": [{"name": name, "host": name} for name in ("db", "app", "web")],
        "needs": [{"from": "web", "to": ["app"]}, {"from": "app", "to": ["db"]}],
    }
    house.parts.applications.put("Pier", ApplicationBody.model_validate(body), "t")


def test_one_cause_is_one_incident_and_one_message_that_says_whom_it_hurts(house: House) -> None:
    pier(house)
    house.channel("room")
    house.callout("all", tell=["room"])
    for host in ("web", "app", "db"):
        house.breach(host)
        house.step(1)
    house.wait(30)
    one = house.only()
    assert one.title == "Trouble on db and 2 more hosts, touches Pier"
    assert [(hurt.application, hurt.how) for hurt in one.hurts] == [
        ("Pier", "critical where its users meet it: web, because of db")
    ]
    held = {alert.host: (alert.held_under, alert.why) for alert in one.alerts}
    cause = next(alert.id for alert in one.alerts if alert.host == "db")
    assert held["web"] == (cause, "web needs db") and held["app"] == (cause, "app needs db") and held["db"][0] is None
    assert house.told() == [("room", "opened")]
    (delivery,) = house.deliveries()
    assert len(delivery.content["alerts"]) == 3 and delivery.content["advice"] == ["Look."]
    kinds = [line.kind for line in one.timeline]
    assert kinds.count("alert") == 3 and "told" in kinds
    assert any("held under alert" in line.text and "because web needs db" in line.text for line in one.timeline)


def test_the_steps_go_on_until_somebody_has_it_and_come_again(house: House) -> None:
    house.person("anna", "berit")
    house.channel("room")
    steps = [
        {"tell": ["person:anna"]},
        {"after": "10m", "tell": ["channel:room"]},
        {"after": "30m", "tell": ["person:berit"]},
    ]
    house.callout("night", steps=steps, again="2h")
    house.breach("db")
    house.wait(9 * MINUTE)
    assert house.told() == [("to-anna", "opened")]
    house.wait(2 * MINUTE)
    assert house.told()[1:] == [("room", "opened")]
    house.wait(20 * MINUTE)
    assert house.told()[2:] == [("to-berit", "opened")]
    house.wait(2 * HOUR + MINUTE, every=60)
    assert house.told()[3:] == [("to-anna", "changed")]
    assert "nobody has it" in house.deliveries()[3].content["why"]
    house.parts.incident_acts.take(house.only().id, "tests", "anna", "on my way")
    house.wait(5 * HOUR, every=60)
    assert len(house.told()) == 4
    house.over("db")
    house.wait(MINUTE)
    assert sorted(house.told()[4:]) == [("room", "recovered"), ("to-anna", "recovered"), ("to-berit", "recovered")]
    house.wait(CALM + MINUTE)
    (closed,) = house.incidents("closed")
    assert closed.closed_by is None and closed.recovered_at is not None


STORY = [
    ("breach", "db"),
    ("wait", 4 * MINUTE),
    ("worse", "db"),
    ("wait", 8 * MINUTE),
    ("breach", "web"),
    ("wait", 15 * MINUTE),
    ("over", "db"),
    ("wait", MINUTE),
    ("over", "web"),
    ("wait", 11 * MINUTE),
    ("breach", "db"),
    ("wait", 4 * MINUTE),
]


def play(folder: Path, restarts: set[int]) -> list[tuple[float, str, str, str]]:
    """A story with restarts before some of its looks; answers what was told when."""
    house = House(folder)
    pier(house)
    house.person("anna")
    house.channel("room")
    house.callout("a", steps=[{"tell": ["person:anna"]}, {"after": "5m", "tell": ["channel:room"]}], again="20m")
    house.callout("b", when='severity ge "critical"', tell=["room"])
    looks = 0
    for what, value in STORY:
        if what == "wait":
            for _ in range(int(float(value) // 30)):
                looks += 1
                if looks in restarts:
                    house.restart()
                house.step(30)
        else:
            level = {"breach": WARNING, "worse": CRITICAL, "over": OK}[what]
            house.breach(str(value), level=level)
    told = [(d.created_at, d.channel, d.kind, str(d.content["why"])) for d in house.deliveries()]
    house.close()
    return told


def test_a_restart_in_any_state_changes_nothing_of_what_is_told(tmp_path: Path) -> None:
    plain = play(tmp_path / "plain", set())
    kinds = {kind for _, _, kind, _ in plain}
    assert kinds == {"opened", "changed", "recovered"} and len(plain) > 8
    for number in range(1, 90, 90 // often(6)):
        assert play(tmp_path / str(number), {number, number + 1}) == plain


def test_a_console_that_was_down_for_an_hour_tells_what_was_due_once(house: House) -> None:
    house.channel("one", "two", "three")
    steps = [
        {"after": after, "tell": [f"channel:{name}"]}
        for after, name in (("0s", "one"), ("10m", "two"), ("30m", "three"))
    ]
    house.callout("night", steps=steps, again="2h")
    house.breach("db")
    house.wait(MINUTE)
    house.restart()
    house.step(HOUR)
    house.wait(MINUTE)
    assert house.told() == [("one", "opened"), ("two", "opened"), ("three", "opened")]
    house.wait(HOUR, every=60)
    assert len(house.told()) == 3


def test_a_callout_that_has_fewer_steps_now_ends_where_it_is_and_holds_up_no_other(house: House) -> None:
    house.channel("one", "two")
    house.callout("long", steps=[{"tell": ["channel:one"]}, {"after": "10m", "tell": ["channel:two"]}], again="1h")
    house.breach("db")
    house.wait(MINUTE)
    house.callout("long", steps=[{"tell": ["channel:one"]}])
    house.wait(10 * MINUTE)
    assert house.told() == [("one", "opened")]
    broken = house.parts.calling._work

    def breaks(session: Any, number: int, *more: Any) -> None:
        if number == 1:
            raise ZeroDivisionError
        broken(session, number, *more)

    house.parts.calling._work = breaks  # type: ignore[method-assign]
    house.parts.alerts.apply([house.turn("db", OK), house.turn("far", CRITICAL, "other")], house.now)
    house.wait(30)
    assert house.told()[1:] == [("one", "opened")] and house.parts.calling.failed > 0


def test_an_end_that_is_learnt_late_is_told(house: House) -> None:
    """The alert has recovered, the console is killed before incidents take note, and comes back an hour later."""
    house.channel("room")
    house.callout("all", tell=["room"])
    house.breach("db")
    house.wait(MINUTE)
    house.parts.alerts.apply([house.turn("db", OK)], house.now)
    house.restart()
    house.step(HOUR)
    house.wait(MINUTE)
    assert house.told() == [("room", "opened"), ("room", "recovered")] and house.incidents() == []


def test_quiet_hours_send_it_on_to_the_next_at_once_and_are_made_up_for(house: House) -> None:
    house.person("dag", quiet={"from": "22:00", "to": "07:00", "zone": "UTC"})
    house.person("anna")
    house.callout("night", steps=[{"tell": ["person:dag"]}, {"after": "30m", "tell": ["person:anna"]}])
    house.breach("db")
    house.wait(MINUTE)
    assert house.told() == [("to-anna", "opened")]
    assert any("dag is in quiet hours; the next step is told at once" in line.text for line in house.only().timeline)
    house.wait(7 * HOUR, every=60)
    assert house.told() == [("to-anna", "opened"), ("to-dag", "opened")]


def test_a_callout_of_some_hours_waits_for_them(house: House) -> None:
    house.channel("room")
    hours = {"days": ["mon"], "from": "08:00", "to": "16:00", "zone": "Europe/Oslo"}
    house.callout("day", hours=hours, tell=["room"])
    house.breach("db")
    house.wait(6 * HOUR, every=60)
    assert house.told() == []
    house.wait(HOUR + MINUTE, every=60)
    # Eight in Oslo is seven in UTC, in winter.
    assert house.told() == [("room", "opened")]
    assert house.deliveries()[0].created_at == pytest.approx(T0 + 7 * HOUR, abs=2 * MINUTE)


def test_recovery_goes_to_those_who_were_told_and_what_comes_again_within_a_day_reopens(house: House) -> None:
    house.channel("room", "others")
    house.callout("room", when='host eq "db"', tell=["room"])
    house.callout("others", when='host eq "elsewhere"', tell=["others"])
    house.breach("db")
    house.wait(MINUTE)
    house.over("db")
    house.wait(CALM + 2 * MINUTE)
    assert house.told() == [("room", "opened"), ("room", "recovered")]
    house.wait(3 * HOUR, every=300)
    house.breach("db")
    house.wait(MINUTE)
    one = house.only()
    assert (one.id, one.reopened, one.taken_by) == (1, 1, None)
    assert any("it came again" in line.text for line in one.timeline)
    assert house.told("room")[2:] == [("room", "opened")]
    house.over("db")
    house.wait(26 * HOUR, every=600)
    house.breach("db")
    assert house.only().id == 2
    assert house.only().before[0].id == 1


def test_what_is_told_again_is_what_means_something_else(house: House) -> None:
    pier(house)
    house.channel("room")
    house.callout("all", tell=["room"])
    house.breach("other", level=WARNING)
    house.wait(MINUTE)
    house.breach("other", level=WARNING, rule="more")
    house.wait(MINUTE)
    assert house.told() == [("room", "opened")]
    house.breach("other", level=CRITICAL)
    house.wait(MINUTE)
    assert house.told()[1:] == [("room", "changed")]
    assert house.deliveries()[1].content["why"] == "it is critical now"


def test_what_belongs_to_one_gather_is_one_message_with_counts_and_the_worst_ten(house: House) -> None:
    house.channel("room")
    house.callout("all", tell=["room"], gather="30s")
    for number in range(14):
        house.breach(f"far-{number}", rule=f"rule-{number}", level=CRITICAL if number == 9 else WARNING)
    house.wait(2 * MINUTE)
    (only,) = house.deliveries()
    assert (only.content["severity"], only.content["also_count"], len(only.content["also"])) == ("critical", 13, 9)
    assert len(house.incidents()) == 14
    for number in range(14):
        house.over(f"far-{number}", rule=f"rule-{number}")
    house.wait(2 * MINUTE)
    assert house.told() == [("room", "opened"), ("room", "recovered")]


def test_a_storm_is_one_incident_and_one_message(house: House) -> None:
    house.channel("room")
    house.callout("all", tell=["room"], gather="30s")
    hosts = [f"s{number:05}" for number in range(often(600))]
    for start in range(0, len(hosts), 200):
        house.now += 1
        turns = [house.turn(host, CRITICAL) for host in hosts[start : start + 200]]
        house.parts.alerts.apply(turns, house.now)
    began = time.process_time()
    house.wait(2 * MINUTE)
    assert time.process_time() - began < 60
    # The first two are not many yet: what joins them is the third.
    (one,) = house.incidents()
    assert (one.alert_count, one.host_count, len(one.hosts), len(one.alerts)) == (len(hosts), len(hosts), 200, 10)
    assert house.told() == [("room", "opened")]


def test_of_many_that_are_open_the_worst_come_first_on_every_page(house: House) -> None:
    levels = [WARNING, CRITICAL, WARNING, CRITICAL, WARNING, WARNING, CRITICAL]
    for number, level in enumerate(levels):
        house.breach(f"far-{number}", rule=f"rule-{number}", level=level)
    house.over("far-6", rule="rule-6")
    for state, wanted in (("open", [3, 1, 5, 4, 2, 0, 6]), (None, [6, 5, 4, 3, 2, 1, 0])):
        found: list[str] = []
        cursor = None
        for _ in range(4):
            page = house.parts.incident_search.page(where=None, state=state, limit=2, cursor=cursor)
            found += [one.hosts[0] for one in page.items]
            cursor = page.next
        assert cursor is None and found == [f"far-{number}" for number in wanted]


def test_in_a_storm_the_first_and_the_worst_of_an_incident_have_evidence_and_few_others(house: House) -> None:
    hosts = [f"s{number:05}" for number in range(often(300))]
    turns = [house.turn(host, WARNING) for host in hosts]
    for start in range(0, len(turns), 100):
        house.parts.alerts.apply(turns[start : start + 100], house.now, captured=0)
    worse = [house.turn(hosts[-1], CRITICAL)]
    house.parts.alerts.apply(worse, house.now)
    house.parts.first_and_worst.look(house.now)
    house.step()
    (one,) = house.incidents()
    house.parts.first_and_worst.look(house.now)
    with_evidence = [row for row in house.alerts() if row.evidence is not None]
    assert [row.host_name for row in with_evidence] == [hosts[0], hosts[-1]]
    assert all(set(row.evidence) >= {"processes", "sessions", "lines"} for row in with_evidence if row.evidence)
    # Whatever becomes the worst later has it then, and what nobody can know any more is not made up.
    house.over(hosts[-1])
    house.breach(hosts[7])
    house.parts.first_and_worst.look(house.now + 7200)
    assert len([row for row in house.alerts() if row.evidence is not None]) == 2
    house.step()
    house.parts.incidents.changed.tell(one.id)
    house.parts.first_and_worst.look(house.now)
    assert {row.host_name for row in house.alerts() if row.evidence is not None} == {hosts[0], hosts[7], hosts[-1]}


def test_maintenance_keeps_it_and_tells_what_is_still_wrong_at_its_end_once(house: House) -> None:
    house.channel("room")
    house.callout("all", tell=["room"])
    house.parts.directory.ensure("db")
    house.parts.directory.ensure("web")
    start, end = "2026-03-02T00:00:00Z", "2026-03-02T02:00:00Z"
    window = {"about": "paint", "hosts": ["db", "web"], "from": start, "to": end}
    house.parts.maintenance.put("ramp", MaintenanceBody.model_validate(window), "t")
    house.breach("db")
    house.breach("web")
    house.wait(HOUR, every=60)
    assert house.told() == [] and all(alert.paused for one in house.incidents() for alert in one.alerts)
    severities = house.parts.alerts.open.severities()
    house.parts.directory.judge(severities, house.now, house.parts.maintenance.paused)
    assert house.parts.directory.find("db").state == "paused"  # type: ignore[union-attr]
    house.over("web")
    house.wait(HOUR + 2 * MINUTE, every=30)
    assert house.told() == [("room", "opened")]
    assert house.deliveries()[0].created_at == pytest.approx(T0 + 2 * HOUR, abs=MINUTE)


def test_a_window_is_of_groups_applications_and_filters_and_ends_when_somebody_says_so(house: House) -> None:
    pier(house)
    parts = house.parts
    parts.directory.ensure("loose")
    parts.groups.put("gates", GroupBody(where='host sw "g"'), "t")
    parts.directory.ensure("g1")
    now = time.time()
    for name, chosen, hosts in (
        ("group", {"groups": ["gates"]}, {"g1"}),
        ("application", {"applications": ["Pier"]}, {"db", "app", "web"}),
        ("filter", {"where": 'host co "oos"'}, {"loose"}),
    ):
        body = MaintenanceBody.model_validate({"about": "x", "for": "1h", **chosen})
        assert parts.maintenance.put(name, body, "t").paused == len(hosts)
        found = {parts.directory.name(number) for number, window in parts.maintenance.paused.items() if window == name}
        assert found == hosts
        assert not parts.maintenance.end(name, "t").going_on
    parts.maintenance.look(now + 10)
    assert not parts.maintenance.paused
    with pytest.raises(Refused, match="does not go on"):
        parts.maintenance.end("group", "t")
    with pytest.raises(Refused, match="there is no nowhere"):
        parts.maintenance.put(
            "bad", MaintenanceBody.model_validate({"about": "x", "for": "1h", "hosts": ["nowhere"]}), "t"
        )


def test_incidents_are_joined_and_parted_by_hand_and_stay_parted(house: House) -> None:
    house.breach("a", rule="one")
    house.breach("b", rule="two")
    first, second = sorted(i.id for i in house.incidents())
    acts = house.parts.incident_acts
    acts.join(first, "tests", second)
    assert house.only().alert_count == 2 and house.parts.incident_search.get(second).joined_into == first
    with pytest.raises(Refused, match=f"part of incident {first}"):
        acts.take(second, "tests", None, "")
    with pytest.raises(Refused, match=f"part of incident {first} now"):
        acts.reopen(second, "tests")
    alert = next(a.id for a in house.only().alerts if a.host == "b")
    made = acts.part(first, "tests", [alert])
    assert {i.id: i.alert_count for i in house.incidents()} == {first: 1, made: 1}
    body = {"parts": [{"name": n, "host": n} for n in "ab"], "needs": [{"from": "a", "to": ["b"]}]}
    house.parts.applications.put("Late", ApplicationBody.model_validate(body), "t")
    house.restart()
    house.breach("b", rule="three")
    assert sorted(i.alert_count for i in house.incidents()) == [1, 2]
    with pytest.raises(Refused, match="all of its alerts"):
        acts = house.parts.incident_acts
        acts.part(made, "tests", [a.id for a in house.parts.incident_search.get(made).alerts])


def test_an_alert_says_of_which_incident_it_is_and_who_was_told_of_that(house: House) -> None:
    house.channel("room")
    house.person("anna")
    house.callout("all", steps=[{"tell": ["channel:room", "person:anna"]}], when='host eq "db"')
    house.breach("db")
    house.breach("far", rule="other")
    house.wait(MINUTE)
    db, far = (house.parts.alert_search.get(number) for number in (1, 2))
    assert (db.incident, far.incident) == (1, 2)
    told = [(t["channel"], t["person"], t["kind"]) for t in db.told]
    assert told == [("room", None, "opened"), ("to-anna", "anna", "opened")] and far.told == []


def test_what_waits_to_be_gathered_is_not_written_anew_at_every_look(house: House) -> None:
    house.channel("room")
    house.callout("all", tell=["room"], gather="5m")
    house.breach("a", rule="one")
    house.wait(6 * MINUTE, every=60)
    house.breach("b", rule="two")
    house.wait(MINUTE)
    house.parts.incident_acts.note(1, "tests", "x")
    before = house.parts.incidents.changes
    house.wait(MINUTE)
    assert house.parts.incidents.changes == before and house.told() == [("room", "opened")]
    house.wait(5 * MINUTE)
    assert house.told() == [("room", "opened"), ("room", "opened")]


def test_two_that_were_told_and_become_one_are_over_once(house: House) -> None:
    house.channel("room", "pager")
    house.callout("all", tell=["room"])
    house.callout("b", when='host eq "b"', tell=["pager"])
    house.breach("a", rule="one")
    house.wait(30)
    house.breach("b", rule="two")
    house.wait(30)
    assert house.told() == [("room", "opened"), ("room", "opened"), ("pager", "opened")]
    house.parts.incident_acts.join(1, "tests", 2)
    house.over("a", rule="one")
    house.over("b", rule="two")
    house.wait(CALM + 2 * MINUTE)
    assert sorted(house.told()[3:]) == [("pager", "recovered"), ("room", "recovered")]


def test_quiet_until_a_time_and_until_worse(house: House) -> None:
    house.channel("room")
    house.callout("all", tell=["room"])
    house.breach("db", level=WARNING)
    house.wait(MINUTE)
    number = house.only().id
    acts = house.parts.incident_acts
    acts.snooze(number, "tests", Snooze(until_worse=True))
    house.breach("db", level=WARNING, rule="more")
    house.wait(HOUR, every=60)
    assert len(house.told()) == 1
    house.breach("db", level=CRITICAL)
    house.wait(MINUTE)
    assert house.told()[1:] == [("room", "changed")]
    with pytest.raises(Refused, match="at most 31 days"):
        acts.snooze(number, "tests", Snooze(until="+40d"))


def test_closing_by_hand_tells_those_who_were_told_and_opens_again(house: House) -> None:
    house.channel("room")
    house.callout("all", tell=["room"])
    house.breach("db")
    house.wait(MINUTE)
    acts = house.parts.incident_acts
    acts.close(1, "tests", "it is a drill of our own")
    house.wait(MINUTE)
    assert house.told() == [("room", "opened"), ("room", "recovered")]
    assert "closed by tests: it is a drill" in house.deliveries()[1].content["why"]
    with pytest.raises(Refused, match="is closed"):
        acts.take(1, "tests", None, "")
    acts.reopen(1, "tests")
    house.wait(MINUTE)
    assert house.only().open_count == 1 and house.told()[2:] == [("room", "opened")]
    house.over("db")
    assert house.only().recovered_at is not None


def test_several_are_dealt_with_together_and_what_cannot_be_says_why(house: House) -> None:
    house.breach("a", rule="one")
    house.breach("b", rule="two")
    done = house.parts.incident_acts.together(Together(incidents=[1, 2, 9], act="take"), "anna")
    assert [(one.id, one.problem) for one in done] == [(1, None), (2, None), (9, "There is no incident 9.")]
    assert {i.taken_by for i in house.incidents()} == {"anna"}
    house.parts.incident_acts.acknowledge(1, "berit", "seen")
    rows = house.parts.state.read(lambda s: {row.host_name: row.acknowledged_by for row in s.scalars(select(Alert))})
    assert rows == {"a": "berit", "b": None}


def test_what_is_handed_over_is_told_to_whom_it_was_given_alone(house: House) -> None:
    house.person("anna", "berit")
    house.callout("all", steps=[{"tell": ["person:anna"]}])
    house.breach("db")
    house.wait(MINUTE)
    house.parts.incident_acts.hand_over(1, "anna", "berit", "I am on the ferry")
    house.step(1)
    assert house.told()[1:] == [("to-berit", "opened")]
    assert house.deliveries()[1].content["why"] == "anna has handed it over to you: I am on the ferry"
    house.parts.incident_acts.hand_over(1, "berit", "anna", "")
    house.step(1)
    assert house.told()[2:] == [("to-anna", "changed")]
    with pytest.raises(Refused, match="there is no person nobody"):
        house.parts.incident_acts.hand_over(1, "anna", "nobody", "")


def test_a_dead_channel_is_an_incident_told_on_the_others(house: House) -> None:
    house.channel("dead", "room")
    house.callout("all", tell=["dead", "room"])
    house.parts.dead_channels.heard(Liveness("dead", "the receiver answered 500"))
    house.parts.dead_channels.heard(Liveness("dead", "the receiver answered 500"))
    house.parts.messages.send_due(time.time() + 1)
    (one,) = house.incidents()
    assert one.title == "The channel dead lets nothing through: the receiver answered 500"
    assert house.told() == [("room", "opened")]
    house.parts.dead_channels.heard(Liveness("dead", None))
    house.parts.messages.send_due(time.time() + 2)
    assert house.incidents() == [] and house.told()[1:] == [("room", "recovered")]


def test_the_incident_of_a_dead_channel_ends_when_the_channel_is_taken_away(house: House) -> None:
    house.channel("dead", "room")
    house.callout("all", tell=["room"])
    house.parts.dead_channels.heard(Liveness("dead", "away"))
    house.parts.channels.delete("dead", "t")
    house.parts.messages.send_due(time.time() + 1)
    assert house.incidents() == []
    assert "the channel has been taken away" in [line.text for line in house.parts.incident_search.get(1).timeline]


def test_a_change_stands_in_the_story_when_it_was_made(house: House) -> None:
    house.breach("quay a")
    made = "2026-03-01T22:10:00.000Z"
    evidence = {
        "changes": [{"time": made, "body": "libssl 3.0 was installed"}],
        "lines": [{"pattern": "lost", "severity": "error", "count": 9, "usual": 0}],
    }
    house.parts.state.write(lambda s: setattr(s.get_one(Alert, 1), "evidence", evidence))
    story = house.only().timeline
    assert (story[0].kind, story[0].at) == ("change", made)
    (said,) = [line for line in story if line.kind == "event"]
    assert said.link == f"/events?where=host+eq+%22quay+a%22&from={T0 - 900:.0f}&to={T0 + 300:.0f}"


def test_a_drill_goes_the_real_way_and_is_over_when_somebody_answers(house: House) -> None:
    house.person("anna")
    house.channel("room")
    steps = [{"tell": ["person:anna"]}, {"after": "5m", "tell": ["channel:room"]}]
    house.callout("night", when='host eq "none"', hours={"from": "03:00", "to": "04:00", "zone": "UTC"}, steps=steps)
    house.now = time.time()
    number = house.parts.drills.start("night", "tests")
    house.wait(MINUTE)
    assert house.told() == [("to-anna", "opened")]
    assert house.deliveries()[0].content["drill"] is True and house.deliveries()[0].content["practice"] is True
    house.parts.incident_acts.take(house.only().id, "anna", None, "")
    house.wait(MINUTE)
    drill = house.parts.drills.get(number)
    assert drill.answered_by == "anna" and drill.ended_at is not None
    assert house.told()[1:] == [("to-anna", "recovered")] and house.incidents() == []


def test_a_critical_incident_that_no_callout_is_for_is_said_loudly(house: House) -> None:
    house.channel("room")
    house.callout("others", when='host eq "elsewhere"', tell=["room"])
    house.breach("db")
    house.wait(2 * MINUTE)
    assert house.only().told_nobody
    assert house.parts.calling.warnings(house.now) == [
        "Incident 1 is critical and nobody is told: no callout is for it."
    ]


def test_whoever_is_in_use_is_not_removed(house: House) -> None:
    house.person("anna", "berit")
    body = {"people": ["anna"], "begins": "2026-03-02", "zone": "UTC"}
    house.parts.rotas.put("pier", RotaBody.model_validate(body), "t")
    house.callout("all", steps=[{"tell": ["rota:pier", "person:berit"]}])
    for remove, said in (
        (lambda: house.parts.rotas.delete("pier", "t"), "The callout all still tells 'pier'"),
        (lambda: house.parts.persons.delete("berit", "t"), "The callout all still tells 'berit'"),
        (lambda: house.parts.persons.delete("anna", "t"), "'anna' is on the rota pier"),
        (lambda: house.parts.channels.delete("to-anna", "t"), "anna still has the channel"),
    ):
        with pytest.raises(Refused, match=said):
            remove()
    with pytest.raises(Refused, match="there is no rota nowhere"):
        house.callout("bad", steps=[{"tell": ["rota:nowhere"]}])


def test_who_would_be_told_is_who_is_told(house: House) -> None:
    """The answer beforehand agrees with what happens, step by step, at several hours."""
    house.person("anna", "berit")
    house.person("dag", quiet={"from": "22:00", "to": "07:00", "zone": "UTC"})
    body = {"people": ["anna", "dag"], "turn": "1d", "begins": "2026-03-02", "at": "00:05", "zone": "UTC"}
    house.parts.rotas.put("pier", RotaBody.model_validate(body), "t")
    steps = [{"tell": ["rota:pier"]}, {"after": "20m", "tell": ["person:berit"]}]
    house.callout("night", steps=steps)
    for hours in (0.5, 8, 26):
        house.now = T0 + hours * HOUR
        asked = WhoAsked.model_validate({"at": f"2026-03-0{2 + int(hours // 24)}T{int(hours % 24):02}:30:00Z"})
        house.now = T0 + int(hours) * HOUR + 1800
        expected = [one.channel for one in house.parts.who.told(asked) if one.after_seconds < HOUR]
        before = len(house.told())
        house.breach(f"h{hours}", rule=f"r{hours}")
        house.wait(HOUR, every=30)
        assert [channel for channel, _ in house.told()[before:]] == expected
        house.over(f"h{hours}", rule=f"r{hours}")
        house.wait(CALM + MINUTE)


def test_a_link_acts_for_one_incident_and_person_and_for_a_time(house: House) -> None:
    links = house.parts.links
    grant = Grant(7, "to-anna", "anna", T0 + GOOD_FOR)
    token = links.token(grant)
    assert links.read(token, T0) == grant
    assert links.read(token, T0 + GOOD_FOR + 1) is None
    content, _, signature = token.partition(".")
    other = links.token(Grant(8, "to-anna", "anna", T0 + GOOD_FOR)).partition(".")[0]
    for wrong in (f"{other}.{signature}", f"{content}.{signature[:-2]}AA", content, ".", "", "é.é", token * 9):
        assert links.read(wrong, T0) is None
    house.restart()
    assert house.parts.links.read(token, T0) == grant


def respond(house: House, *steps: dict[str, Any], **more: Any) -> None:
    body = {"when": 'severity ge "critical"', "steps": list(steps), **more}
    house.parts.responses.put("look", ResponseBody.model_validate(body), "t")


def actions(house: House, number: int = 1) -> list[str]:
    return [line.text for line in house.parts.incident_search.get(number).timeline if line.kind == "action"]


def test_a_response_captures_waits_checks_and_escalates_through_restarts(house: House) -> None:
    house.channel("room")
    respond(
        house,
        {"do": "capture"},
        {"do": "wait", "for": "10m"},
        {"do": "check"},
        {"do": "escalate", "tell": ["channel:room"]},
    )
    house.breach("db")
    house.parts.responses.look(house.now)
    house.parts.responses.look(house.now + 1)
    assert actions(house) == ["look: captured db: nothing stands out", "look: waits 10m"]
    house.restart()
    house.parts.responses.look(house.now + 9 * MINUTE)
    assert len(actions(house)) == 2
    for later in range(3):
        house.parts.responses.look(house.now + 10 * MINUTE + 2 + later)
    assert actions(house)[2:] == ["look: it is still wrong", "look: tells room that it did not help"]
    house.now += 11 * MINUTE
    house.step()
    assert house.told() == [("room", "changed")] and "did not help" in house.deliveries()[0].content["why"]
    house.parts.responses.look(house.now + HOUR)
    assert len(actions(house)) == 4


def test_a_response_that_helped_ends_there_and_is_not_done_too_often(house: House) -> None:
    respond(house, {"do": "wait", "for": "1m"}, {"do": "check"}, {"do": "capture"}, at_most=1, per="1h")
    house.breach("db")
    house.parts.responses.look(house.now)
    house.over("db")
    house.parts.responses.look(house.now + 61)
    house.parts.responses.look(house.now + 90)
    assert actions(house) == ["look: waits 1m", "look: all has recovered: it helped"]
    house.breach("far", rule="other")
    house.parts.responses.look(house.now + 100)
    assert actions(house, 2) == ["the response look is left out: it has begun 1 times in 1h"]
    with pytest.raises(Refused, match="there is no probe nothing"):
        respond(house, {"do": "probe", "probe": "nothing"})


def test_a_response_goes_on_with_the_incident_that_its_own_became_a_part_of_and_ends_when_that_is_closed(
    house: House,
) -> None:
    house.channel("room")
    respond(house, {"do": "wait", "for": "10m"}, {"do": "escalate", "tell": ["channel:room"]}, when='rule eq "two"')
    house.breach("a", rule="one")
    house.breach("b", rule="two")
    house.parts.responses.look(house.now)
    house.parts.incident_acts.join(1, "tests", 2)
    house.parts.incident_acts.close(1, "tests", "a test")
    house.now += 11 * MINUTE
    house.parts.responses.look(house.now)
    house.step()
    assert house.told() == [] and actions(house, 1) == []
    with pytest.raises(Refused, match="The response look still tells 'room'"):
        house.parts.channels.delete("room", "t")


def test_a_response_to_recovery_probes_again(house: House) -> None:
    listener = socket.create_server(("127.0.0.1", 0))
    house.parts.directory.ensure("db")
    target = f"127.0.0.1:{listener.getsockname()[1]}"
    house.parts.probes.put("port", ProbeBody(kind="tcp", target=target, host="db"), WHO)
    respond(house, {"do": "probe", "probe": "port"}, on="recovered")
    house.breach("db")
    house.parts.responses.look(house.now)
    assert actions(house) == []
    house.over("db")
    house.parts.responses.look(house.now)
    assert actions(house)[0].startswith("look: probe port passes: ")
    listener.close()


EVENTS = st.lists(
    st.tuples(
        st.sampled_from(["breach", "over", "wait", "take", "restart", "close", "snooze"]),
        st.sampled_from(["db", "app", "web", "far"]),
        st.sampled_from([WARNING, CRITICAL]),
    ),
    max_size=25,
)


@settings(max_examples=often(12), deadline=None)
@given(EVENTS)
def test_whatever_happens_everybody_who_is_told_of_the_opening_hears_of_the_end(
    tmp_path_factory: pytest.TempPathFactory, story: list[tuple[str, str, int]]
) -> None:
    """Nobody hears of an end without a beginning, nobody is left with one, and of each there is one at a time."""
    house = House(tmp_path_factory.mktemp("house"))
    pier(house)
    house.channel("room", "pager")
    house.callout("all", tell=["room"])
    house.callout("bad", when='severity ge "critical"', tell=["pager"])
    bad: set[str] = set()
    for what, host, level in story:
        if what == "breach":
            house.breach(host, level=level)
            bad.add(host)
        elif what == "over" and host in bad:
            house.over(host)
            bad.discard(host)
        elif what == "wait":
            house.wait(2 * MINUTE, every=15)
        elif what == "restart":
            house.restart()
        else:
            for one in house.incidents():
                try:
                    if what == "take":
                        house.parts.incident_acts.take(one.id, "anna", None, "")
                    elif what == "close":
                        house.parts.incident_acts.close(one.id, "anna", "x")
                    elif what == "snooze":
                        house.parts.incident_acts.snooze(one.id, "anna", Snooze(until_worse=True))
                except Refused:
                    pass
        house.step(1)
    for host in bad:
        house.over(host)
    house.wait(CALM + 3 * MINUTE, every=15)
    assert house.incidents() == []
    heard: dict[tuple[str, int], str] = {}
    for row in house.deliveries():
        key = (row.channel, row.incident or 0)
        if row.kind == "recovered":
            assert heard.get(key) not in (None, "recovered"), key
        heard[key] = row.kind
        for other in row.content.get("also", []):
            heard[row.channel, other["id"]] = other["what"]
    rows = house.parts.state.read(lambda s: {row.id: row.joined_into for row in s.scalars(select(Incident))})
    assert {key: kind for key, kind in heard.items() if kind != "recovered" and not rows[key[1]]} == {}
    house.close()
