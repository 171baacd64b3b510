"""Lists of hosts: the whole of them, and what is asked for many at once."""

from __future__ import annotations

from balise.api.access import NewEnrolmentKey
from balise.api.agents import EnrolRequest
from balise.api.hosts import Facts, HostChange
from balise.api.secrets import Secret
from balise.server.parts import Parts


def test_in_brief_hosts_are_the_same_but_for_what_agents_report_and_machines_carry(console: Parts) -> None:
    key = console.enrolling.make_key(NewEnrolmentKey(label="quays", uses=9), "t", "http://127.0.0.1:1").key
    for name in ("metal", "quay-a", "quay-b"):
        facts = Facts(host_name=name, machine_id=f"m-{name}", os="Debian 13", cores=4, addresses=["192.0.2.7"])
        console.enrolling.enrol(EnrolRequest(key=Secret(key), facts=facts))
    console.directory.ensure("lone")
    console.hosts.change("quay-a", HostChange(runs_on="metal", labels={"site": "north", "runs-on": "metal"}), "t")
    known = console.directory.find("quay-b")
    assert known is not None
    console.reports.take(known.id, {"version": "1", "turn_cost": 0.01})
    console.hosts.retire("quay-b", "t")
    for retired in (False, True):
        whole = console.hosts.page(None, "-name", 10, None, retired=retired).items
        brief = console.hosts.page(None, "-name", 10, None, retired=retired, brief=True).items
        assert brief == [one.model_copy(update={"agent": None, "carries": []}) for one in whole]
        told = [(one.name, one.agent, one.carries, one.facts and one.facts.cores) for one in whole]
        report: dict[str, object] = {"version": "1", "turn_cost": 0.01}
        if retired:
            assert told == [("quay-b", report, [], 4)]
        else:
            assert told == [("quay-a", None, [], 4), ("metal", None, ["quay-a"], 4), ("lone", None, [], None)]
    first = console.hosts.page('name sw "quay"', "name", 1, None, brief=True)
    assert [one.name for one in first.items] == ["quay-a"] and first.next is None
