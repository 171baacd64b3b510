"""Which host runs on which: said by its label or by a plan, refused where it cannot be, and what follows from it."""

from __future__ import annotations

import pytest

from balise.api.hosts import HostChange
from balise.server.errors import Refused
from balise.server.parts import Parts

PLAN = "plan: racks\nfor: {hosts: 'name sw \"guest\"'}\nruns_on: metal\n"


@pytest.fixture
def fleet(console: Parts) -> Parts:
    for name in ("metal", "iron", "guest-1", "guest-2", "lone"):
        console.directory.ensure(name)
    return console


def test_a_host_says_which_machine_it_runs_on_and_the_machine_lists_it(fleet: Parts) -> None:
    changed = fleet.hosts.change("guest-1", HostChange(runs_on="metal"), "t")
    assert (changed.runs_on, changed.runs_on_by, changed.labels) == ("metal", "its label", {"runs-on": "metal"})
    assert fleet.hosts.get("metal").carries == ["guest-1"]
    assert fleet.surroundings.machine("guest-1") == "metal"
    gone = fleet.hosts.change("guest-1", HostChange(runs_on=""), "t")
    assert (gone.runs_on, gone.labels, fleet.hosts.get("metal").carries) == (None, {}, [])


def test_a_plan_says_it_for_many_and_a_hosts_own_word_is_stronger(fleet: Parts) -> None:
    fleet.plans.put(PLAN, "t")
    assert fleet.machines.all() == {"guest-1": "metal", "guest-2": "metal"}
    assert fleet.hosts.get("guest-2").runs_on_by == "the plan racks"
    settings = {one.setting: one for one in fleet.held_plans.of(fleet.hosts.known("guest-2")).settings()}
    assert (settings["runs_on"].value, settings["runs_on"].plan) == ("metal", "racks")
    fleet.hosts.change("guest-1", HostChange(runs_on="iron"), "t")
    assert fleet.machines.all() == {"guest-1": "iron", "guest-2": "metal"}
    assert fleet.machines.carried() == {"iron": ["guest-1"], "metal": ["guest-2"]}


@pytest.mark.parametrize(
    ("host", "machine", "said"),
    [
        ("guest-1", "nowhere", "no host nowhere"),
        ("lone", "lone", "or is it"),
        ("metal", "guest-1", "name the machine below"),
    ],
)
def test_what_cannot_be_is_refused_and_changes_nothing(fleet: Parts, host: str, machine: str, said: str) -> None:
    fleet.hosts.change("guest-1", HostChange(runs_on="metal"), "t")
    with pytest.raises(Refused, match=said) as refused:
        fleet.hosts.change(host, HostChange(runs_on=machine), "t")
    assert refused.value.status == 422 and refused.value.errors[0].field == "runs_on"
    assert fleet.machines.all() == {"guest-1": "metal"}


def test_a_label_that_names_no_host_says_nothing(fleet: Parts) -> None:
    for machine in ("nowhere", "lone"):
        fleet.hosts.change("lone", HostChange(labels={"runs-on": machine}), "t")
        assert fleet.machines.all() == {} and fleet.hosts.get("lone").runs_on is None
