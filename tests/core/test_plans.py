"""Plans: stacking from the general to the particular, and texts whose mistakes are found by line and column."""

from __future__ import annotations

from typing import Any

import pytest

from balise.api.plans import PlanBody, PlanDocument
from balise.core.documents import DocumentError, read_document
from balise.core.plans import HostView, NamedPlan, differences, in_order, stack

DEPTH = {"Fleet": 1, "Ships": 2, "Ferries": 3}


def plan(name: str, **content: Any) -> NamedPlan:
    return NamedPlan(name, PlanBody.model_validate(content))


def host(name: str = "gate-s3", groups: tuple[str, ...] = ("Fleet", "Ships"), **labels: str) -> HostView:
    return HostView(name, groups, lambda key: labels.get(key.removeprefix("label.")) if "." in key else None)


PLANS = [
    plan("one-host", **{"for": {"host": "gate-s3"}, "collect": {"every": "5s"}}),
    plan("everywhere", collect={"every": "60s", "processes": False}, follow=[{"path": "/var/log/syslog"}]),
    plan("gates", **{"for": {"hosts": 'label.role eq "gate"'}, "collect": {"cpu": {"every": "2m"}}}),
    plan("ships", **{"for": {"groups": ["Ships"]}, "collect": {"every": "30s", "processes": True}}),
    plan("fleet", **{"for": {"groups": ["Fleet"]}, "collect": {"every": "45s"}}),
]


def test_the_particular_is_laid_over_the_general_and_names_its_plan() -> None:
    ordered = in_order(PLANS, lambda group: DEPTH[group])
    assert [p.name for p in ordered] == ["everywhere", "fleet", "ships", "gates", "one-host"]
    out = stack(ordered, host(role="gate"))
    found = {s.setting: (s.value, s.plan) for s in out.settings()}
    assert found["collect.every"] == ("5s", "one-host")
    assert found["collect.processes"] == ("on", "ships")
    assert found["collect.cpu"] == ("every 2m", "gates")
    assert found["collect.disk"] == ("on", "Balise")
    assert found["follow /var/log/syslog"] == ("from its end", "everywhere")
    other = stack(ordered, host("mail-h1", ("Fleet",)))
    assert (other.every, other.plans) == (45.0, ["everywhere", "fleet"])
    assert not other.collectors["processes"].on


def test_order_decides_between_plans_as_particular() -> None:
    two = [plan("a", order=1, collect={"every": "10s"}), plan("b", collect={"every": "20s"})]
    assert stack(in_order(two, lambda _g: 0), host()).every == 10.0


def test_a_more_particular_plan_stops_a_file_and_changes_one_severity() -> None:
    plans = [
        plan(
            "a",
            follow=[{"path": "/a"}],
            limits={"volume-filling": {"warning": {"above": 0.8}, "critical": {"above": 0.9}}},
        ),
        plan(
            "b",
            **{
                "for": {"host": "gate-s3"},
                "follow": [{"path": "/a", "stop": True}],
                "limits": {"volume-filling": {"critical": {"above": 0.97}}},
            },
        ),
    ]
    out = stack(in_order(plans, lambda _g: 0), host())
    assert out.follow == {}
    limits = out.limits["volume-filling"]
    assert limits.warning is not None and limits.critical is not None
    assert (limits.warning.above, limits.critical.above) == (0.8, 0.97)
    before = stack(in_order(plans[:1], lambda _g: 0), host())
    assert differences(before, out) == [
        ("follow /a", "from its end", "-"),
        ("limits.volume-filling", "warning above 0.8, critical above 0.9", "warning above 0.8, critical above 0.97"),
    ]


@pytest.mark.parametrize(
    ("text", "place", "words"),
    [
        ("plan: a\ncollect:\n  evry: 5s\n", (3, 3), "there is no such key"),
        ("plan: a\ncollect:\n  every: 5\n", (3, 3), "string"),
        ("plan: a\ncollect:\n  cpu:\n    every: soon\n", (4, 5), "not a duration"),
        ("about: x\n", (1, 1), "plan: is missing"),
        ("plan: a\nfor: {host: x, groups: [y]}\n", (2, 1), "in one way"),
        ("plan: a\nfollow:\n  - path: /a\n  - pth: /b\n", (4, 5), "no such key"),
        ("plan: a\nlimits:\n  r:\n    warning: {above: 1, below: 2}\n", (4, 5), "exactly one of above, below"),
        ("plan: [\n", (2, 1), "no YAML"),
        ("- a\n", (1, 1), "keys and values"),
        ("plan: &x a\nabout: *x\n", (2, 8), "aliases"),
        ("plan: a\nabout: " + "[" * 200, (2, 37), "nested too deep"),
        ("a: !!python/object/apply:os.system [id]\nplan: a\n", (1, 1), "cannot be read"),
    ],
)
def test_mistakes_are_named_with_line_and_column(text: str, place: tuple[int, int], words: str) -> None:
    with pytest.raises(DocumentError) as error:
        read_document(text, PlanDocument)
    places = [p for p, _, _ in error.value.problems]
    assert place in places
    assert words in str(error.value)


def test_a_one_line_plan_is_a_plan() -> None:
    document = read_document("{plan: gate-s3, for: {host: gate-s3}, collect: {every: 5s}}", PlanDocument)
    assert (document.plan, document.for_.host, document.collect.every) == ("gate-s3", "gate-s3", "5s")


def test_heavy_parts_are_off_until_a_plan_says_what_to_look_at() -> None:
    out = stack([], host())
    found = {s.setting: s.value for s in out.settings()}
    assert (found["collect.smart"], found["collect.directories"], found["collect.units"]) == ("off", "off", "every 1m")
    wanted = {"directories": {"paths": ["/srv/files"]}, "smart": True, "units": {"watch": ["nginx", "cron"]}}
    out = stack([plan("a", collect=wanted)], host())
    found = {s.setting: s.value for s in out.settings()}
    assert found["collect.directories"] == "every 1h, /srv/files"
    assert (found["collect.smart"], found["collect.units"]) == ("every 30m", "every 1m, watching nginx cron")
    assert out.effective().collectors["directories"].paths == ["/srv/files"]


@pytest.mark.parametrize(
    ("collect", "words"),
    [
        ({"directories": True}, "name them"),
        ({"directories": {"paths": ["relative"]}}, "pattern"),
        ({"directories": {"paths": ["/srv"], "every": "5s"}}, "between 1m and 1d"),
        ({"units": {"watch": ["a b; reboot"]}}, "pattern"),
        ({"smart": {"every": "10s"}}, "between 1m and 1d"),
    ],
)
def test_what_a_heavy_part_cannot_be_told_is_refused(collect: dict[str, Any], words: str) -> None:
    with pytest.raises(ValueError, match=words):
        plan("a", collect=collect)
