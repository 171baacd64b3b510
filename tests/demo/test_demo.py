"""The made-up fleet: cause before effect, and the same whenever it is asked."""

from __future__ import annotations

import json
import subprocess
import sys
from pathlib import Path

import numpy as np
import pytest

from balise.demo.fleet import FLEET, GROUPS
from balise.demo.history import counted, grid, shown
from balise.demo.model import METRICS, Measured, Model, Noise, passengers
from balise.demo.schedules import schedule_from
from balise.demo.stories import DAY, HOUR
from balise.demo.tales.full_deck import gained
from balise.demo.telling import Teller

START = 1_800_000_000.0
MODEL = Model(schedule_from(START, 7.0), START)
BY_NAME = {ship.name: ship for ship in FLEET}


def series(name: str, metric: str, times: np.ndarray, part: str = "") -> np.ndarray:
    return next(m.values for m in MODEL.measure(BY_NAME[name], times) if m.metric == metric and m.part == part)


def departure(values: np.ndarray, times: np.ndarray) -> float:
    """When a series first leaves what it was in the first quarter of an hour."""
    calm = values[times < times[0] + 900]
    out = np.abs(values - calm.mean()) > 5 * calm.std() + 1e-9
    return float(times[np.argmax(out)])


def test_everything_is_the_same_when_asked_again_or_in_parts() -> None:
    times = START + np.arange(0, 900, 15.0)
    for ship in FLEET[:8]:
        whole = MODEL.measure(ship, times)
        later = MODEL.measure(ship, times[30:])
        for a, b in zip(whole, later, strict=True):
            np.testing.assert_array_equal(a.values[30:], b.values)


def test_every_host_measures_what_is_described_and_in_its_bounds() -> None:
    times = START + np.arange(0, DAY, 300.0)
    for ship in FLEET:
        for one in MODEL.measure(ship, times):
            unit = METRICS[one.metric][0]
            assert len(one.values) == len(times) and np.isfinite(one.values).all(), one.metric
            assert (one.values >= 0).all(), (ship.name, one.metric)
            if unit == "1" and one.metric != "balise.cpu.load_per_core":
                assert (one.values <= 1.0001).all(), (ship.name, one.metric)


def test_counters_never_fall_however_little_is_added() -> None:
    grown = np.random.default_rng(4).choice([0.0, 0.0, 0.001, 0.0005, 2.075], (20_000, 50))
    totals, before = np.zeros(50), np.zeros(50)
    for step in grown:
        totals += step * 15
        now = shown(totals)
        assert (now >= before).all() and (totals - now < 0.00101).all()
        before = now


def test_each_story_is_one_incident_that_is_called_by_its_cause(tmp_path: Path) -> None:
    """From before the import until after the gate is heard again, with a clock that is turned by hand."""
    words = [sys.executable, str(Path(__file__).parent / "turned.py"), str(tmp_path), "-480", "6300"]
    played = subprocess.run(words, check=False, capture_output=True, text=True, timeout=600)
    assert played.returncode == 0, played.stderr[-2000:]
    # The third is a volume that fills all the while, at the other quay.
    gate, slow, full = (json.loads(line) for line in played.stdout.splitlines())
    assert [one["host"] for one in full["alerts"]] == ["gate-s3"]
    assert slow["title"].startswith("Database sessions wait for locks") and "book-db-n1" in slow["title"]
    assert slow["title"].endswith("touches Boarding gates, Booking")
    alerts = {(one["rule"], one["host"]): one["held"] for one in slow["alerts"]}
    assert alerts == {
        ("sessions-waiting", "book-db-n1"): False,
        **{("response-slow", host): True for host in ("book-app-n1", "book-app-n2", "web-n1", "web-n2")},
    }
    assert gate["title"] == "Nothing is heard from a host on gate-n2, touches Boarding gates"
    alerts = {(one["rule"], one["host"]): one["held"] for one in gate["alerts"]}
    assert alerts == {("host-silent", "gate-n2"): False, ("probe-failing", "gate-n2"): True}
    for story in (gate, slow):
        assert story["state"] == "closed"
        told = [line for line in story["told"] if line.startswith("control-room")]
        assert sum("that it is wrong" in line for line in told) == 1
        assert sum("that it is over" in line for line in told) == 1 and "that it is over" in told[-1]


def test_the_import_is_felt_from_the_database_outwards() -> None:
    """tariff-import: the database first, then the servers that need it, then the web, then the gates."""
    story = next(o for o in MODEL.schedule.of("tariff-import") if o.start > START - 1.4 * DAY)
    times = np.arange(story.start - 1200, story.start + 900, 15.0)
    moments = [
        departure(series("book-db-n1", "postgresql.sessions.blocked", times), times),
        departure(series("book-app-n1", "http.server.request.duration", times, "le:inf"), times),
        departure(series("web-n1", "http.server.request.duration", times, "le:inf"), times),
        departure(series("gate-n1", "gate.lookups.failed", times), times),
    ]
    assert moments == sorted(moments)
    assert story.start <= moments[0] < story.start + 120
    assert moments[3] > story.start + 180


def test_what_does_not_need_the_database_feels_nothing() -> None:
    story = MODEL.schedule.of("tariff-import")[0]
    times = np.arange(story.start, story.end, 60.0)
    without = Model(schedule_from(START + 400 * DAY, 0.0), START)
    for name in ("gate-s1", "mail-h1", "web-h1"):
        for a, b in zip(MODEL.measure(BY_NAME[name], times), without.measure(BY_NAME[name], times), strict=True):
            if a.metric != "system.uptime":
                np.testing.assert_array_equal(a.values, b.values)


def test_the_deck_fills_and_is_emptied() -> None:
    story = next(o for o in MODEL.schedule.of("full-deck") if o.start < START - HOUR)
    times = np.arange(story.start - 600, story.end + 600, 60.0)
    full = next(
        m.values
        for m in MODEL.measure(BY_NAME["gate-s3"], times)
        if m.metric == "system.filesystem.utilization" and m.attributes["system.filesystem.mountpoint"] == "/var/log"
    )
    assert full[0] < 0.4 and full.max() > 0.97 and full[-1] < 0.4


def test_both_stories_are_at_work_when_the_demo_starts() -> None:
    now = np.array([START + 1.0])
    assert MODEL.schedule.strength("tariff-import", now)[0] == 1.0
    assert gained(next(o for o in MODEL.schedule.of("full-deck") if o.start < START < o.end), now)[0] > 0.5


def test_the_cause_is_among_the_events_before_the_effect() -> None:
    teller = Teller(MODEL)
    story = next(o for o in MODEL.schedule.of("tariff-import") if o.start < START - HOUR)
    events = teller.events(BY_NAME["book-db-n1"], story.start - 600, story.start + 600, every=60.0)
    change = next(e for e in events if e.source == "change")
    waiting = [e for e in events if "still waiting" in e.body]
    assert "tariff-import started" in change.body
    assert waiting and min(e.time for e in waiting) > change.time
    ordinary = teller.events(BY_NAME["mail-h1"], story.start, story.start + 600, every=60.0)
    assert not [e for e in ordinary if e.severity < 4]


def test_sessions_name_the_import_as_their_root() -> None:
    import json
    import zlib

    snapshot = next(s for s in Teller(MODEL).snapshots(BY_NAME["book-db-n1"], START + 60) if s.kind == "sessions")
    rows = json.loads(zlib.decompress(snapshot.data))
    waits = [r for r in rows if r["blocked_by"]]
    assert len(waits) == 14 and rows[0]["application"] == "tariff-import"


def test_counters_only_grow() -> None:
    times = START + np.arange(100) * 15.0
    one = Measured("m", np.full(100, 2.0), kind="counter")
    values = counted(one, times)
    assert (np.diff(values) == 30.0).all()
    assert counted(Measured("m", values), times) is values


def test_the_past_is_finer_the_nearer_it_is() -> None:
    times = grid(START - 3 * DAY, START)
    steps = np.diff(times)
    assert set(steps[times[:-1] < START - DAY - 60]) == {60.0}
    assert set(steps[times[:-1] > START - DAY + 60]) == {15.0}


def test_chance_is_spread_evenly() -> None:
    jitter = Noise("x").jitter("y", START + np.arange(20_000) * 15.0)
    assert (abs(jitter.mean()), jitter.std()) == (pytest.approx(0, abs=0.03), pytest.approx(1, abs=0.03))


def test_ferries_are_quiet_at_night() -> None:
    midnight = START // DAY * DAY + DAY
    assert passengers(np.array([midnight + 2 * HOUR]))[0] < 0.3 < passengers(np.array([midnight + 8 * HOUR]))[0]


def test_the_world_is_ours() -> None:
    """Addresses are from the documentation ranges of RFC 5737; every host belongs to a site and a group."""
    for ship in FLEET:
        assert ship.address.rsplit(".", 1)[0] in ("192.0.2", "198.51.100", "203.0.113")
        assert {ship.site, ship.group} <= set(GROUPS)
        assert set(ship.needs) <= set(BY_NAME)
    assert len(FLEET) == len(BY_NAME) == 30
