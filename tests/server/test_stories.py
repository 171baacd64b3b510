"""Every kind of rule at work, second by second: a restart in the middle changes nothing, and a rehearsal says the same."""

from __future__ import annotations

import json
import time
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import numpy as np
import pytest

from balise.api.rules import RuleBody
from balise.core.events.new_event import NewEvent
from balise.core.moments import NS, nanos
from balise.server.life import close
from balise.server.parts import Parts, build
from balise.server.rules import listening
from balise.server.rules.learner import SETTLED
from balise.server.settings import Settings
from balise.store.events.store import Delivery

SECONDS = 600
KINDS: dict[str, tuple[dict[str, Any], dict[str, Any]]] = {
    "above": ({"metric": "m", "over": "20s"}, {"above": 5, "hold": "40s", "clear": 4}),
    "below": ({"metric": "m", "take": "min", "over": "20s"}, {"below": 2, "hold": "15s"}),
    "outside": ({"metric": "m", "over": "20s"}, {"outside": [2, 8], "hold": "10s"}),
    "change": ({"metric": "m", "take": "change", "over": "20s"}, {"above": 2.5}),
    "ratio": (
        {"values": {"a": {"metric": "m"}, "b": {"metric": "n"}}, "compute": "a / b", "over": "30s"},
        {"above": 4, "hold": "5s"},
    ),
    "unusual": ({"metric": "load", "over": "30s"}, {"unusual": 6, "side": "above", "by": 2, "hold": "20s"}),
    "missing": ({"metric": "gone"}, {"missing_for": "30s"}),
    "counted": ({"events": 'body co "refused"', "over": "1m", "each": ["host"]}, {"above": 3, "hold": "10s"}),
    "different": (
        {"events": 'body co "refused"', "take": "distinct", "of": "user.name", "over": "1m", "each": ["host"]},
        {"above": 2},
    ),
    "seen": ({"events": 'body co "refused"', "over": "1m", "each": ["user.name"]}, {"first_seen": True}),
    "two": ({"alerts": 'rule eq "above" or rule eq "unusual"', "each": ["host"]}, {"above": 0, "hold": "5s"}),
}


def values_at(second: int) -> dict[str, float]:
    """What is measured: waves and steps of several lengths, with gaps."""
    found = {"m": 5 + 4 * np.sin(second / 23), "n": float((second // 90) % 3), "load": 10.0 + second % 3 * 0.1}
    if 200 <= second < 320 or 450 <= second < 470:
        found["load"] = 30.0
    if (second // 100) % 2 == 0:
        found["gone"] = 1.0
    return {} if 380 <= second < 400 else {name: float(value) for name, value in found.items()}


class Story:
    """A console to which the same happens each time, stopped and started anew after some of its seconds."""

    def __init__(self, folder: Path, start: float, patch: pytest.MonkeyPatch) -> None:
        self.start, self.now = start, start
        self._folder = folder
        patch.setattr(listening, "time", SimpleNamespace(time=lambda: self.now))
        self.did: dict[str, list[tuple[int, str, str]]] = {name: [] for name in KINDS}
        self.console = self._built()

    def _built(self) -> Parts:
        made = build(Settings(data=self._folder))
        made.alerts.changed.connect(self._note)
        return made

    def _note(self, change: Any) -> None:
        if change.what in ("opened", "recovered") and change.alert.rule in self.did:
            which = " ".join(change.alert.attributes.values())
            self.did[change.alert.rule].append((round(self.now - self.start), change.what, which))

    def series(self, metric: str) -> np.ndarray:
        console = self.console
        known, made = console.directory.ensure("a"), console.series.catalogue.metric(metric, "1", "gauge", "")
        return np.array([console.series.catalogue.series_id(known.id, made, (), "", "gauge")])

    def before(self) -> None:
        """Three weeks of what is usual."""
        rng = np.random.default_rng(3)
        times = np.arange(self.start - 22 * 86_400, self.start - 60, 300.0)
        values = 10 + rng.normal(0, 0.3, len(times))
        self.console.series.lay_down([self.series("load")], [(times * NS).astype(np.int64)], [values[None]])

    def restart(self) -> None:
        self.console.watch.keep_holds(self.now, all_of_them=True)
        self.console.listening.keep(self.now)
        close(self.console)
        self.console = self._built()
        self.console.watch.load(self.now)
        self.console.listening.begin()
        self.learn()

    def learn(self) -> None:
        """Two passes: until the second no more groups came for a while."""
        for at in (self.now - SETTLED, self.now):
            self.console.learner.work(at)

    def second(self, second: int) -> None:
        self.now = self.start + second
        console = self.console
        if second % 5 == 0:
            for metric, value in values_at(second).items():
                layout = console.series.catalogue.layouts.of(self.series(metric))
                at = np.array([int(self.now * NS)])
                console.series.accept_now(console.series.batch(layout, at, np.array([value])))
        if second % 15 == 0 and (second // 150) % 2 == 0:
            told = json.dumps({"user.name": f"user{second // 15 % 5}"})
            event = NewEvent(nanos(self.now), "a", 6, "gate", "refused", told)
            console.events.accept_now(Delivery([event]))
        console.listening.work()
        console.watch.tick(self.now)


def told(folder: Path, restarts: set[int], patch: pytest.MonkeyPatch, start: float) -> Story:
    story = Story(folder, start, patch)
    story.before()
    for name, (measure, limit) in KINDS.items():
        body = {"about": "x", "measure": measure, "limits": {"critical": limit}, "flaps_after": 0}
        story.console.rules.put(name, RuleBody.model_validate(body), "test")
        story.console.listening.changed(name)
    story.learn()
    for second in range(SECONDS):
        story.second(second)
        if second in restarts:
            story.restart()
    return story


def test_a_restart_in_any_phase_changes_nothing_and_a_rehearsal_says_the_same(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Restarts: in holds, while things are open, while something is missing, between two points, in a gap."""
    # Later than the rules are kept: what they were before says nothing of them.
    start = float(int(time.time()) // 3600 * 3600 + 3600 + 1800)
    whole = told(tmp_path / "whole", set(), monkeypatch, start)
    close(whole.console)
    for name, moments in whole.did.items():
        assert len(moments) >= 2, name
    broken = told(tmp_path / "broken", {47, 143, 211, 236, 305, 391, 502}, monkeypatch, start)
    for name, moments in whole.did.items():
        assert broken.did[name] == moments, name
    for name, (measure, limit) in KINDS.items():
        body = RuleBody.model_validate({"about": "x", "measure": measure, "limits": {"critical": limit}})
        said = broken.console.rules._rehearsals.run(body, start, start + SECONDS, lambda _r, _h: None)
        assert said.step_seconds == 1.0
        both = [(i.opened_at, "opened", i) for i in said.items]
        both += [(i.recovered_at, "recovered", i) for i in said.items if i.recovered_at is not None]
        moments = [(round(at - start), what, " ".join(i.attributes.values())) for at, what, i in both]
        assert sorted(moments) == sorted(whole.did[name]), name
    close(broken.console)


def rule_of(measure: dict[str, Any], limit: dict[str, Any], **more: Any) -> RuleBody:
    return RuleBody.model_validate({"about": "x", "measure": measure, "limits": {"critical": limit}, **more})


def point(story: Story, metric: str, at: float, value: float) -> None:
    layout = story.console.series.catalogue.layouts.of(story.series(metric))
    batch = story.console.series.batch(layout, np.array([int(at * NS)]), np.array([value]))
    story.console.series.accept_now(batch)


@pytest.mark.parametrize("restarts", [False, True])
def test_an_alert_that_flaps_goes_on_to_through_a_restart(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, restarts: bool
) -> None:
    """Over and under each minute: with the fifth it flaps, and stays open; after half an hour of calm it ends."""
    story = Story(tmp_path, float(int(time.time()) + 60), monkeypatch)
    story.console.rules.put("flaps", rule_of({"metric": "f", "over": "10s"}, {"above": 5}), "test")
    for minute in range(8):
        for second, value in ((0, 9.0), (30, 1.0)):
            story.now = story.start + 60 * minute + second
            point(story, "f", story.now, value)
            story.console.watch.tick(story.now)
            story.console.watch.tick(story.now + 11)
            if restarts and minute >= 4:
                story.restart()
    (alert,) = story.console.alerts.open_now()
    assert alert.flapping
    calm = story.now + 11
    for at, still in ((calm + 1700, 1), (calm + 1810, 0)):
        story.now = at
        point(story, "f", at, 1.0)
        story.console.watch.tick(at)
        story.console.watch.tick(at + 1)
        if restarts and still:
            story.restart()
        assert len(story.console.alerts.open) == still
    close(story.console)


def test_where_a_volume_goes_is_known_after_a_restart(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """It fills for an hour, is told half an hour before it is full, and the alert goes on."""
    story = Story(tmp_path, float(int(time.time()) + 60), monkeypatch)
    times = np.arange(story.start - 3600, story.start, 15.0)
    fill = 0.5 + 0.4 * (times - times[0]) / 3600
    story.console.series.lay_down([story.series("fill")], [(times * NS).astype(np.int64)], [fill[None]])
    body = rule_of({"metric": "fill", "over": "5m"}, {"runs_out_within": "30m", "at": 1.0})
    story.console.rules.put("full", body, "test")
    story.restart()
    for second in range(0, 300, 15):
        story.now = story.start + second
        point(story, "fill", story.now, 0.9 + 0.4 * second / 3600)
        story.console.watch.tick(story.now)
        assert second < 60 or len(story.console.alerts.open) == 1
        if second in (90, 210):
            story.restart()
    reaches = story.console.alerts.open_now()[0].reaches_at
    assert reaches is not None and reaches == pytest.approx(story.start + 900, abs=240)
    close(story.console)
