"""The stories: each begins at its cause, is noticed where it says, and ends; what is no cause hurts nobody."""

from __future__ import annotations

import json
import random
import subprocess
import sys
from itertools import pairwise
from pathlib import Path

import numpy as np
import pytest

from balise.core.moments import seconds_of
from balise.core.trail.departing import departed
from balise.core.trail.sorts import sort_of
from balise.demo.fleet import FLEET
from balise.demo.logbook import Logbook
from balise.demo.model import METRICS, Model
from balise.demo.quirks import QUIRKS
from balise.demo.schedules import APART, schedule_from
from balise.demo.stories import DAY, HOUR, Occurrence, Schedule
from balise.demo.tales import TALES
from balise.demo.telling import Teller

START = 1_764_600_000.0
BALISE = str(Path(sys.executable).parent / "balise")
BY_NAME = {ship.name: ship for ship in FLEET}
CAUSES = {
    "tariff-import": ("book-db-n1", "postgresql.sessions.blocked"),
    "creeping-heap": ("book-app-n2", "system.memory.utilization"),
    "full-deck": ("gate-s3", "system.filesystem.utilization"),
    "loud-neighbour": ("hv-s1", "balise.cpu.busy"),
    "password-sweep": ("bastion-h1", "balise.signin.failed"),
    "stale-certificate": ("web-h1", "tls.certificate.remaining"),
    "failing-fan": ("hv-n1", "hw.fan.speed"),
    "bad-rollout": ("web-n1", "http.server.request.errors"),
}
"""What shows first, of all but the gate that is not heard any more."""
FAR = 8.0
"""Deviations that no load of the day and no chance makes."""


def first_signs(model: Model, start: float, end: float) -> list[tuple[float, str, str]]:
    """When what of which host left its usual, in order."""
    times = np.arange(start - HOUR, end, 15.0)
    found = []
    for ship in FLEET:
        measured = [
            m
            for m in model.measure(ship, times)
            if not m.part and sort_of(m.metric, METRICS[m.metric][0], m.attributes) != "other"
        ]
        units = [METRICS[m.metric][0] + ("/s" if m.kind == "counter" else "") for m in measured]
        nothing = np.full((len(measured), len(times)), np.nan)
        went = departed(
            times, np.vstack([m.values for m in measured]), int(HOUR / 15), units=units,
            usual=nothing, spread=nothing[:, 0], clock=np.zeros(len(measured)),
        )  # fmt: skip
        far = np.abs(went.deviation) >= FAR
        found += [(float(went.at[i]), ship.name, measured[i].metric) for i in np.flatnonzero(far).tolist()]
    return sorted(found)


@pytest.mark.parametrize("story", sorted(CAUSES))
def test_a_story_shows_at_its_cause_before_it_shows_elsewhere(story: str) -> None:
    host, metric = CAUSES[story]
    one = Occurrence(story, START, START + TALES[story].minutes[1] * 60)
    signs = first_signs(Model(Schedule([one]), START), START - 300, START + 2400)
    assert signs, "nobody would notice it"
    mine = next(at for at, name, what in signs if (name, what) == (host, metric))
    assert START - 60 <= mine <= START + 400
    assert all(at >= mine - 60 for at, name, _ in signs if name != host)


def test_nothing_departs_when_nothing_happens() -> None:
    signs = first_signs(Model(Schedule([]), START), START, START + 1800)
    assert signs == []


@pytest.mark.parametrize("quirk", sorted(QUIRKS))
def test_a_disturbance_is_seen_on_its_own_host_alone(quirk: str) -> None:
    one = Occurrence(quirk, START, START + 900)
    model, quiet = Model(Schedule([one]), START), Model(Schedule([]), START)
    times = np.arange(START, START + 900, 30.0)
    for ship in FLEET:
        alike = all(
            np.array_equal(a.values, b.values)
            for a, b in zip(model.measure(ship, times), quiet.measure(ship, times), strict=True)
        )
        assert alike or ship.name == QUIRKS[quirk].host
    said = Teller(model).events(BY_NAME[QUIRKS[quirk].host], START - 5, START + 900, every=1e9)
    assert any(QUIRKS[quirk].begin[2] == event.body for event in said)


@pytest.mark.parametrize("story", sorted(TALES))
def test_what_is_said_of_a_story_is_said_while_it_happens(story: str) -> None:
    one = Occurrence(story, START, START + 3000)
    lines = [
        e for ship in FLEET for e in TALES[story].lines(ship, one, START - HOUR, START + 2 * HOUR, random.Random(1))
    ]
    assert lines
    assert all(START - 30 <= seconds_of(e.time) <= one.end + 5 for e in lines)


@pytest.mark.parametrize("seed", [0, 7, 123_456])
def test_each_story_is_in_the_past_of_a_week_and_apart_from_the_others(seed: int) -> None:
    schedule = schedule_from(START, 7.0, seed=seed)
    past = [o for o in schedule.occurrences if START - 7 * DAY <= o.start < START - HOUR and o.story in TALES]
    assert {o.story for o in past} == set(TALES)
    if seed:
        gaps = [b.start - a.end for a, b in pairwise(past)]
        assert min(gaps) >= APART - 1
    assert schedule.occurrences == schedule_from(START, 7.0, seed=seed).occurrences
    assert schedule.occurrences != schedule_from(START, 7.0, seed=seed + 1).occurrences


def test_a_story_that_is_asked_for_begins_and_is_listed(tmp_path: Path) -> None:
    book = Logbook(tmp_path)
    book.held |= {"started": START, "days": 1.0, "seed": 3}
    book.laid(START - DAY, START)
    book.keep()
    assert Logbook(tmp_path).has_news() is False

    def demo(*words: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(
            [BALISE, "demo", *words, "--data", str(tmp_path)], check=False, capture_output=True, text=True
        )

    asked = demo("story", "bad-rollout", "--at", "-5m")
    assert asked.returncode == 0 and asked.stdout.startswith("bad-rollout from 20"), asked.stderr
    assert Logbook(tmp_path).schedule().of("bad-rollout")
    listed = json.loads(demo("stories", "--format", "json").stdout)
    assert listed[-1]["story"] == "bad-rollout" and listed[-1]["seen"] == {"application": "Booking"}
    assert all(one["start"] < one["end"] for one in listed)
    refused = demo("story", "sea-monster")
    assert refused.returncode != 0 and "the stories are bad-rollout" in refused.stderr


@pytest.mark.parametrize("words", [["stories"], ["story", "full-deck"]])
def test_a_demo_that_did_not_begin_yet_has_no_stories(words: list[str], tmp_path: Path) -> None:
    asked = subprocess.run(
        [BALISE, "demo", *words, "--data", str(tmp_path)], capture_output=True, text=True, check=False
    )
    assert asked.returncode == 1
    assert f"in {tmp_path}: start one with balise demo" in asked.stderr
