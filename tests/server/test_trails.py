"""The trails of incidents and places: what people were called for, what they said of causes, and what is refused."""

from __future__ import annotations

import json
import time

import numpy as np
import pytest
from pydantic import ValidationError
from sqlalchemy import update
from sqlalchemy.orm import Session

from balise.api.applications import ApplicationBody
from balise.api.events import SEVERITIES
from balise.api.spans import instant
from balise.api.trail import CauseBody, Trail, TrailQuery
from balise.core.events.new_event import NewEvent
from balise.core.moments import nanos
from balise.core.trail.leaning import DOUBT
from balise.server.alerts.book import group_key
from balise.server.errors import Refused
from balise.server.parts import Parts
from balise.server.trail import trails
from balise.store.events.day import Snapshot, pack_snapshot
from balise.store.events.store import Delivery
from balise.store.state.tables import Alert, Incident, IncidentAlert, IncidentTrail
from laying import F64, lay

HOUR, STEP = 3600.0, 15.0
DRAWN = {"parts": [{"name": name, "host": name} for name in ("web", "db")], "needs": [{"from": "web", "to": ["db"]}]}


@pytest.fixture
def end() -> float:
    return time.time() // 60 * 60


def quiet(times: F64, seed: int, level: float = 20.0) -> F64:
    return np.random.default_rng(seed).normal(level, level * 0.03, len(times))


def lay_two(console: Parts, end: float, *, at: float, hours: float = 3.0) -> None:
    """A session holds the database from a moment on; the web is slow 90 s later."""
    times = np.arange(end - hours * HOUR, end, STEP)
    lay(console, "db", "store.queue.depth", times, quiet(times, 1) + 60 * (times >= at), {"service.name": "store"},
        unit="{request}")  # fmt: skip
    lay(console, "web", "web.request.duration", times, quiet(times, 2, 0.2) + 2 * (times >= at + 90),
        {"service.name": "shop"}, unit="s")  # fmt: skip
    console.applications.put("Shop", ApplicationBody.model_validate(DRAWN), "t")
    for moment in np.arange(at + 30, end, 60.0).tolist():
        held = {"id": 1, "service": "store", "application": "import", "state": "active", "seconds": moment - at}
        rows = [held | {"blocked_by": None}]
        rows += [
            {"id": 2 + i, "service": "store", "state": "active", "seconds": 4.0, "blocked_by": 1} for i in range(6)
        ]
        console.events.accept_now(Delivery([], [Snapshot(nanos(moment), "db", "sessions", pack_snapshot(rows))]))


def opened(console: Parts, at: float, host: str, metric: str, number: int = 1, *, of: str = "") -> int:
    """An open incident with an alert on a metric of a host."""
    known = console.directory.ensure(host)
    alert = Alert(
        id=number, rule="r", about="it is slow", group_key=group_key({"host": host}), host=known.id, host_name=host,
        attributes={}, measure={"metric": metric}, limits={}, advice="", unit="s", level=2, silent=False, value=1.0,
        worst_value=1.0, bound=0.5, opened_at=at, changed_at=at,
    )  # fmt: skip
    row = Incident(id=number, title="slow", level=2, opened_at=at, hurts=[], hosts=[host], apart=[], told={}, of=of)
    console.state.write(lambda s: s.add_all([alert, row]))
    console.state.write(lambda s: s.add(IncidentAlert(alert=number, incident=number, at=at)))
    return number


def test_an_incident_names_its_cause_which_is_kept_and_told_in_lists(console: Parts, end: float) -> None:
    began = end - 1200
    lay_two(console, end, at=began)
    number = opened(console, began + 300, "web", "web.request.duration")
    found = console.trails.of_incident(number)
    first = found.suspects[0]
    assert (first.thing.kind, first.thing.name, first.thing.host) == ("session", "import", "db")
    assert found.sure >= 0.5 and "6 sessions wait for it" in found.sentence
    assert "web" in {one.place.rpartition(" on ")[2] for one in first.explains}
    assert abs(instant(first.since, 0) - began) <= first.uncertainty_seconds + STEP
    assert all(0 <= value <= 1 for value in first.measures.values())
    again = console.trails.of_incident(number)
    assert again.made_at == found.made_at, "it is not made anew each time somebody looks"
    likely = console.incident_search.get(number).likely
    assert likely is not None and likely.suspect == first.title


def test_what_began_after_the_call_is_no_cause_of_it(console: Parts, end: float) -> None:
    lay_two(console, end, at=end - 900)
    times = np.arange(end - 3 * HOUR, end, STEP)
    lay(console, "web", "web.volume", times, quiet(times, 3) + 90 * (times >= end - 2400), unit="By")
    found = console.trails.of_incident(opened(console, end - 1500, "web", "web.volume"))
    assert found.suspects == [] or found.suspects[0].thing.host == "web"
    assert "import" not in found.sentence


def test_what_had_departed_hours_before_the_call_is_followed_back(console: Parts, end: float) -> None:
    times = np.arange(end - 16 * HOUR, end, 60.0)
    grown = np.clip((times - (end - 3 * HOUR)) / (3 * HOUR), 0, 1)
    lay(console, "db", "db.space.used", times, quiet(times, 4) + 80 * grown, unit="By")
    changed = NewEvent(nanos(end - 3 * HOUR - 20), "db", SEVERITIES.index("notice"), "change", "logging: info → debug",
                       json.dumps({"change.what": "logging"}))  # fmt: skip
    console.events.accept_now(Delivery([changed]))
    found = console.trails.of_incident(opened(console, end - 600, "db", "db.space.used"))
    assert instant(found.from_, 0) <= end - 2 * HOUR
    assert {one.thing.host for one in found.suspects[:2]} == {"db"}
    assert "change" in {one.thing.kind for one in found.suspects[:3]}


def test_what_people_say_is_kept_shown_counted_and_moves_the_odds_until_it_is_taken_back(
    console: Parts, end: float
) -> None:
    began = end - 1200
    lay_two(console, end, at=began)
    one, two = (opened(console, began + 300, "web", "web.request.duration", number) for number in (1, 2))
    trail = console.trails.of_incident(one)
    before = {kind.thing.kind: kind.sure for kind in trail.suspects}
    with pytest.raises(Refused, match="no suspect 10"):
        console.causes.say(one, CauseBody(suspect=10), trail, "anna")
    said = console.causes.say(one, CauseBody(suspect=1), trail, "anna")
    assert (said.rank, said.kind, said.who) == (1, "session", "anna") and "import" in said.text
    assert console.trails.of_incident(one).cause == said
    assert [other.incident for other in console.trails.of_incident(two).before] == [one], "the next time it is shown"
    record = console.causes.record(None)
    assert (record.said, record.first, record.other) == (1, 1, 0)
    # Several may be right, of which somebody names one.
    whole = max(1.0, sum(s.sure for s in trail.suspects))
    expected = sum(s.sure for s in trail.suspects if s.thing.kind == "session") / whole
    by_hand = np.log((1 + DOUBT) / (expected + DOUBT))
    assert console.causes.leaning()["session"] == pytest.approx(by_hand, abs=1e-3)
    console.causes.say(one, CauseBody(other="the moon"), trail, "bert")
    assert (console.causes.record(1).said, console.causes.record(1).other) == (1, 1), "the last word counts"
    assert console.causes.leaning()["session"] < 0
    console.causes.take_back(one, "bert")
    assert console.causes.record(None).said == 0 and console.causes.leaning() == {}
    with pytest.raises(Refused, match="Nobody has named"):
        console.causes.take_back(one, "bert")
    assert before


def test_a_place_is_asked_about_without_an_incident(console: Parts, end: float) -> None:
    began = end - 1200
    lay_two(console, end, at=began)
    opened(console, began + 300, "web", "web.request.duration", 7)

    def asked(**place: object) -> Trail:
        return console.trails.ask(TrailQuery.model_validate({**place, "from": f"-{time.time() - began + 600:.0f}s"}))

    for place in ({"host": "web"}, {"application": "Shop"}, {"alert": 7}):
        assert asked(**place).suspects[0].thing.name == "import", place
    assert console.trails.ask(TrailQuery(alert=7)).suspects[0].thing.name == "import"


@pytest.mark.parametrize(
    ("query", "status", "said"),
    [
        ({"host": "nobody"}, 404, "no host"),
        ({"service": "nothing"}, 404, "no service"),
        ({"application": "None"}, 404, "no application"),
        ({"alert": 99}, 404, "no alert"),
        ({"host": "web", "from": "-30s"}, 422, "shorter than two minutes"),
        ({"host": "web", "from": "-9d"}, 422, "longer than two days"),
        ({"host": "web", "from": "-2h", "to": "+1h"}, 422, "still to come"),
        ({"host": "web", "from": "-1h", "to": "-2h"}, 422, "shorter than two minutes"),
    ],
)
def test_what_cannot_be_asked_is_refused_with_what_to_do(
    console: Parts, query: dict[str, object], status: int, said: str
) -> None:
    console.directory.ensure("web")
    with pytest.raises(Refused, match=said) as refused:
        console.trails.ask(TrailQuery.model_validate(query))
    assert refused.value.status == status


def test_one_place_and_one_answer_are_said(console: Parts) -> None:
    for query in ({}, {"host": "a", "application": "b"}, {"alert": 1, "service": "c"}):
        with pytest.raises(ValidationError, match="say one of them"):
            TrailQuery.model_validate(query)
    for body in ({}, {"suspect": 1, "other": "x"}):
        with pytest.raises(ValidationError, match="say one of them"):
            CauseBody.model_validate(body)
    assert TrailQuery.model_validate({"host": "a", "service": "b"}).service == "b"


def test_practice_and_what_is_about_a_channel_have_no_trail(console: Parts, end: float) -> None:
    for number, of in ((1, "drill"), (2, "channel mail")):
        opened(console, end - 300, "web", "m", number, of=of)
        with pytest.raises(Refused, match="has no trail") as refused:
            console.trails.of_incident(number)
        assert refused.value.status == 409
    with pytest.raises(Refused, match="no incident"):
        console.trails.of_incident(99)


def test_incidents_that_go_on_get_their_trail_by_themselves_in_their_turn(console: Parts, end: float) -> None:
    began = end - 1200
    lay_two(console, end, at=began)
    for number in (1, 2):
        opened(console, began + 300, "web", "web.request.duration", number)
    now = [time.time()]
    console.trails._clock = lambda: now[0]

    def kept() -> set[int]:
        return {n for n in (1, 2) if console.state.read(lambda s, n=n: s.get(IncidentTrail, n)) is not None}

    console.trails.look()
    assert kept() == set(), "not while the console is just starting"
    now[0] += trails.SETTLING
    console.trails.look()
    assert len(kept()) == 1
    console.trails.look()
    assert len(kept()) == 1, "it rests as long as it has a share of the time"
    now[0] += HOUR
    console.trails.look()
    assert kept() == {1, 2}


def test_one_that_is_a_little_old_is_told_at_once_and_made_anew(console: Parts, end: float) -> None:
    lay_two(console, end, at=end - 1200)
    number = opened(console, end - 900, "web", "web.request.duration")
    now = [time.time()]
    console.trails._clock = lambda: now[0]

    def made() -> float:
        return console.state.read(lambda s: s.get_one(IncidentTrail, number)).at

    console.trails.of_incident(number)
    for later, anew in ((trails.FRESH - 1, False), (trails.FRESH + 1, True)):
        before = made()
        now[0] += later
        console.trails.of_incident(number)
        assert made() == before, "nobody waits for it"
        console.trails.look()
        assert (made() == now[0]) == anew
    now[0] += trails.OLD
    console.trails.of_incident(number)
    assert made() == now[0], "one that is older is waited for"


def test_one_that_cannot_be_made_holds_up_no_other(console: Parts, end: float, monkeypatch: pytest.MonkeyPatch) -> None:
    lay_two(console, end, at=end - 1200)
    for number, host in ((1, "web"), (2, "broken")):
        opened(console, end - 900, host, "m", number)
    gather = console.trails.gatherer.gather

    def failing(felt: list[tuple[str, str]], *rest: object, **more: object) -> object:
        if ("broken", "") in felt:
            raise RuntimeError("no")
        return gather(felt, *rest, **more)

    monkeypatch.setattr(console.trails.gatherer, "gather", failing)
    now = [time.time() + trails.SETTLING]
    console.trails._clock = lambda: now[0]
    with pytest.raises(RuntimeError):
        console.trails.look()
    now[0] += HOUR
    console.trails.look()
    assert console.state.read(lambda s: s.get(IncidentTrail, 1)) is not None
    now[0] += HOUR
    console.trails.look()
    assert console.state.read(lambda s: s.get(IncidentTrail, 2)) is None


def test_an_incident_that_came_again_is_followed_from_its_new_alert(console: Parts, end: float) -> None:
    lay_two(console, end, at=end - 1200, hours=30)
    number = opened(console, end - 26 * HOUR, "web", "web.request.duration")
    console.trails.of_incident(number)
    console.trails._clock = lambda: time.time() + trails.OLD

    def again(session: Session) -> None:
        session.get_one(Incident, number).reopened = 1
        session.get_one(Alert, number).recovered_at = end - 25 * HOUR

    console.state.write(again)
    opened(console, end - 900, "web", "web.request.duration", 2)
    console.state.write(lambda s: s.execute(update(IncidentAlert).where(IncidentAlert.alert == 2).values(incident=1)))
    assert console.trails.of_incident(number).suspects[0].thing.name == "import"


def test_an_address_that_floods_a_log_is_told_from_lines_as_always(console: Parts, end: float) -> None:
    times = np.arange(end - 3 * HOUR, end, STEP)
    lay(console, "web", "web.sessions", times, quiet(times, 5), unit="{session}")
    warning = SEVERITIES.index("warning")
    steady = [NewEvent(nanos(end - 3 * HOUR + i * 5), "web", 6, "app", f"job {i} done in {i % 90} ms", None)
              for i in range(2100)]  # fmt: skip
    flood = [NewEvent(nanos(end - 600 + i * 0.1), "web", warning, "sshd", f"Failed password for u{i} from 203.0.113.9", None)
             for i in range(3000)]  # fmt: skip
    console.events.accept_now(Delivery(sorted([*steady, *flood], key=lambda e: e.time)))
    console.events.tell_all()
    found = console.trails.ask(TrailQuery.model_validate({"host": "web", "from": "-20m"}))
    assert [(one.thing.kind, one.thing.name) for one in found.suspects[:1]] == [("address", "203.0.113.9")]
    assert abs(instant(found.suspects[0].since, 0) - (end - 600)) < 5
    assert not [one for one in found.departed if "job" in one.text]
    assert found.looked_at.events >= 3000
