"""The fleet as a tree: who is worst, why, and in which layer."""

from __future__ import annotations

import time

import pytest

from balise.api.applications import ApplicationBody
from balise.api.hosts import GroupBody, HostChange
from balise.api.tree import TreeNode
from balise.core.facets import facet_of
from balise.server.errors import Refused
from balise.server.parts import Parts
from balise.store.state import tables

HOSTS = ("bar-1", "bar-2", "gate-1", "gate-2")


def breach(console: Parts, host: str, about: str, level: int, metric: str, **attributes: str) -> None:
    now = time.time()
    known = console.hosts.known(host)
    row = tables.Alert(
        rule=about, about=about, group_key=f"{host} {about}", host=known.id, host_name=host,
        attributes={key.replace("_", "."): value for key, value in attributes.items()}, measure={"metric": metric},
        limits={"warning": {"above": 1}}, advice="", unit="1", level=level, value=2.0, worst_value=2.0, bound=1.0,
        opened_at=now, changed_at=now,
    )  # fmt: skip

    def write(session: object) -> tables.Alert:
        session.add(row)  # type: ignore[attr-defined]
        session.flush()  # type: ignore[attr-defined]
        return row

    console.alerts.open.note(console.state.write(write))


@pytest.fixture
def console(console: Parts) -> Parts:
    for host in HOSTS:
        console.directory.ensure(host)
        console.directory.heard(console.hosts.known(host).id, time.time(), time.time())
        console.hosts.change(host, HostChange(labels={"site": "north" if host[-1] == "1" else "south"}), "t")
    console.groups.put("Bars", GroupBody(where='host sw "bar"'), "t")
    console.groups.put("Gates", GroupBody(where='host sw "gate"'), "t")
    console.groups.put("Inner gates", GroupBody(where='host eq "gate-1"', parent="Gates"), "t")
    breach(console, "gate-1", "A volume fills up", 2, "system.filesystem.utilization", mount="/var/log")
    breach(console, "gate-1", "Redis answers slowly", 1, "redis.latency", service_name="redis")
    breach(console, "bar-2", "Memory is short", 1, "system.memory.utilization")
    console.directory.judge(console.alerts.open.severities(), time.time())
    return console


def level(console: Parts, by: str, below: str | None = None) -> list[TreeNode]:
    return console.tree.level(by, below).items


def test_sites_are_worst_first_and_say_why(console: Parts) -> None:
    north, south = level(console, "site")
    assert (north.name, north.state, north.counts, north.hosts) == ("north", "critical", {"critical": 1, "ok": 1}, 2)
    assert north.why == "gate-1: A volume fills up (/var/log); gate-1: Redis answers slowly (redis)"
    assert (south.state, south.why) == ("warning", "bar-2: Memory is short")
    assert {facet for facet, state in north.facets.items() if state != "ok"} == {"storage", "services"}
    assert (north.facets["storage"], north.facets["services"], south.facets["system"]) == (
        "critical",
        "warning",
        "warning",
    )


def test_from_a_site_by_its_groups_to_a_host(console: Parts) -> None:
    groups = level(console, "site", level(console, "site")[0].node)
    assert [(node.kind, node.name, node.state) for node in groups] == [
        ("group", "Gates", "critical"), ("group", "Inner gates", "critical"), ("group", "Bars", "ok"),
    ]  # fmt: skip
    (host,) = level(console, "site", groups[0].node)
    assert (host.kind, host.name, host.below) == ("host", "gate-1", False)
    assert host.why == "A volume fills up (/var/log); Redis answers slowly (redis)"


def test_groups_nest_and_hosts_stand_where_they_are_deepest(console: Parts) -> None:
    assert [node.name for node in level(console, "group")] == ["Gates", "Bars"]
    below = level(console, "group", "group=Gates")
    assert [(node.kind, node.name) for node in below] == [("group", "Inner gates"), ("host", "gate-2")]


def test_an_application_is_as_what_it_needs_makes_it(console: Parts) -> None:
    drawn = {
        "parts": [{"name": "bar", "host": "bar-1"}, {"name": "gate", "host": "gate-1"}],
        "needs": [{"from": "bar", "to": ["gate"]}],
    }
    console.applications.put("Till", ApplicationBody.model_validate(drawn), "t")
    till, rest = level(console, "application")
    assert (till.name, till.state, rest.name) == ("Till", "critical", "(none)")
    console.directory.reload()
    assert {node.name for node in level(console, "application", till.node)} == {"bar-1", "gate-1"}


def test_any_label_makes_a_tree(console: Parts) -> None:
    console.hosts.change("bar-1", HostChange(labels={"rack": "a/b=c"}), "t")
    found = level(console, "label.rack")
    assert [node.name for node in found] == ["(none)", "a/b=c"]
    assert [node.name for node in level(console, "label.rack", found[1].node)] == ["bar-1"]


@pytest.mark.parametrize(
    ("by", "below", "field"),
    [("colour", None, "by"), ("label.", None, "by"), ("site", "north", "below"), ("site", "site=nowhere", "below")],
)
def test_what_is_no_node_is_refused(console: Parts, by: str, below: str | None, field: str) -> None:
    with pytest.raises(Refused) as refused:
        level(console, by, below)
    assert refused.value.errors[0].field == field


@pytest.mark.parametrize(
    ("measure", "attributes", "facet"),
    [
        ({"metric": "system.cpu.utilization"}, {}, "system"),
        ({"metric": "balise.disk.temperature"}, {}, "hardware"),
        ({"metric": "balise.filesystem.inodes.utilization"}, {}, "storage"),
        ({"metric": "system.network.errors"}, {}, "network"),
        ({"metric": "probe.up"}, {"probe": "web"}, "network"),
        ({"metric": "http.server.request.duration"}, {"service.name": "nginx"}, "services"),
        ({"events": 'severity ge "error"'}, {}, "events"),
        ({"values": {"a": {"metric": "system.disk.io"}}, "compute": "a"}, {}, "storage"),
    ],
)
def test_what_layer_something_is_about(measure: dict[str, object], attributes: dict[str, str], facet: str) -> None:
    assert facet_of(measure, attributes) == facet
