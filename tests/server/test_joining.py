"""Joining and leaving: approval, revoking, renewing tokens, copies, two hundred at once; plans that reach agents."""

from __future__ import annotations

import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import httpx
import pytest

from balise.agent.agent import Agent
from balise.agent.deliver import Deliverer
from balise.agent.enrol import enrol as enrol_here
from balise.agent.identity import load_identity, load_settings
from balise.agent.plan import PlanKeeper
from balise.agent.spool import Spool
from balise.api.access import NewEnrolmentKey
from balise.api.agents import EnrolAnswer, EnrolRequest
from balise.api.hosts import Facts
from balise.api.metrics import MetricQuery
from balise.client import Balise, Refused
from balise.server.hosts.reports import CLONED, Clones
from running import Service, until
from sending import gauge_request, post


def ask(service: Service, key: str, name: str, **facts: object) -> EnrolAnswer:
    known = Facts.model_validate({"host_name": name, "machine_id": f"m-{name}", **facts})
    with Balise(service.url) as client:
        return EnrolAnswer.model_validate(client.call("POST", "/agents/enrol", EnrolRequest(key=key, facts=known)))


def point(name: str = "x") -> bytes:
    return gauge_request(name, "join.level", [(time.time(), 1.0)]).SerializeToString()


def test_a_machine_waits_until_somebody_lets_it_in(service: Service, admin: Balise) -> None:
    made = admin.keys.create(NewEnrolmentKey(label="careful", uses=3, approval="manual", labels={"dock": "2"}))
    first, second = ask(service, made.key, "join-1"), ask(service, made.key, "join-2")
    assert (first.state, first.host_id) == ("waiting", 0)
    refused = post(service.url, first.token, "metrics", point())
    assert refused.status_code == 403 and b"waits to be let in" in refused.content
    assert "join-1" not in [h.name for h in admin.hosts.list()]
    waiting = {c["name"]: c["id"] for c in admin.call("GET", "/candidates")["items"]}
    held = next(k for k in admin.keys.list() if k.id == made.id)
    assert (held.waiting, held.enrolled) == (2, [])
    admin.call("POST", f"/candidates/{waiting['join-1']}/approve", {"name": "join-one"})
    admin.call("DELETE", f"/candidates/{waiting['join-2']}")
    assert post(service.url, first.token, "metrics", point()).status_code == 200
    until(lambda: post(service.url, second.token, "metrics", point()).status_code == 401)
    host = admin.hosts.show("join-one")
    assert (host.labels, host.collection.mode) == ({"dock": "2"}, "resident")


def test_a_key_and_what_it_enrolled_are_revoked_together_or_alone(service: Service, admin: Balise) -> None:
    made = admin.keys.create(NewEnrolmentKey(label="lost laptop", uses=5))
    one, two = ask(service, made.key, "join-3"), ask(service, made.key, "join-4")
    admin.call("DELETE", "/hosts/join-3/agent")
    assert post(service.url, one.token, "metrics", point()).status_code == 401
    assert post(service.url, two.token, "metrics", point()).status_code == 200
    assert "the 2 it enrolled" in admin.keys.revoke(made.id, agents=True)
    assert post(service.url, two.token, "metrics", point()).status_code == 401
    with pytest.raises(Refused, match="was revoked"):
        ask(service, made.key, "join-5")
    assert next(k.enrolled for k in admin.keys.list() if k.id == made.id) == ["join-3", "join-4"]


def test_a_copy_of_a_machine_that_is_alive_is_told_what_to_do(service: Service, admin: Balise) -> None:
    key = admin.keys.create(NewEnrolmentKey(label="copies", uses=5)).key
    real = ask(service, key, "join-6", addresses=["192.0.2.6"])
    post(service.url, real.token, "metrics", point())
    with pytest.raises(Refused, match=r"alive as 'join-6' at 192.0.2.6.*looks like a copy.*systemd-machine-id-setup"):
        ask(service, key, "join-6", addresses=["192.0.2.66"])
    with pytest.raises(Refused, match="already here as 'join-6', collected by its agent"):
        ask(service, key, "join-7", machine_id="m-join-6", addresses=["192.0.2.6"])


def test_two_agents_that_take_turns_as_one_host_are_noticed() -> None:
    clones = Clones()
    assert [clones.look(1, i, float(n)) for n, i in enumerate("aabbb")] == [False] * 5
    assert clones.look(1, "a", 6.0) and clones.look(1, "b", 8.0)
    assert not clones.look(2, "a", 9.0) and not clones.look(1, "b", 9.0 + 700)
    assert "copy" in CLONED


def test_two_hundred_agents_enrol_at_once(service: Service, admin: Balise) -> None:
    made = admin.keys.create(NewEnrolmentKey(label="many at once", uses=200, group="Crowd"))
    with ThreadPoolExecutor(40) as pool:
        answers = list(pool.map(lambda n: ask(service, made.key, f"crowd-{n}"), range(200)))
    assert len({a.host_id for a in answers}) == 200 == len({a.token for a in answers})
    assert len(list(admin.hosts.list('group eq "Crowd"'))) == 200
    with pytest.raises(Refused, match="as often as it may"):
        ask(service, made.key, "crowd-200")


def test_an_agent_renews_its_token_and_loses_nothing_on_the_way(
    service: Service, admin: Balise, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    key = admin.keys.create(NewEnrolmentKey(label="renewing", uses=1)).key
    first, _ = enrol_here(tmp_path, service.url, key, name="join-8", take_over=True)
    deliverer = Deliverer(first, Spool(tmp_path / "spool", 1 << 20))
    keeper = PlanKeeper(tmp_path, first, deliverer)
    monkeypatch.setattr("balise.agent.plan.ROTATE_AFTER", 0.0)
    assert keeper.step(wait=0)
    second = load_identity(tmp_path)
    assert second.token != first.token and second.host_id == first.host_id
    # Until the new one was used and some seconds have passed, both are good; a crash in between loses nothing.
    assert post(service.url, second.token, "metrics", point()).status_code == 200
    until(lambda: post(service.url, first.token, "metrics", point()).status_code == 401, 40)
    assert post(service.url, second.token, "metrics", point()).status_code == 200
    keeper.close()


# --- groups and plans


def test_groups_by_filter_nest_and_are_previewed(service: Service, admin: Balise) -> None:
    for name in ("grp-1", "grp-2"):
        post(service.url, service.tokens["ingest"], "metrics", point(name))
    changed = admin.call("POST", "/hosts/change", {"hosts": ["grp-1", "grp-2"], "set_labels": {"deck": "upper"}})
    assert changed == {"changed": 2}
    assert admin.call("POST", "/groups/preview", {"where": 'label.deck eq "upper"'}) == {
        "count": 2,
        "hosts": ["grp-1", "grp-2"],
    }
    admin.call("PUT", "/groups/Harbour", {"kind": "site", "about": "all of it"})
    admin.call("PUT", "/groups/Upper deck", {"where": 'label.deck eq "upper"', "parent": "Harbour"})
    assert admin.hosts.show("grp-1").groups == ["Harbour", "Upper deck"]
    admin.call("POST", "/hosts/change", {"where": 'host eq "grp-2"', "remove_labels": ["deck"], "join": ["Harbour"]})
    assert admin.hosts.show("grp-2").groups == ["Harbour"]
    found = {
        g["name"]: (g["kind"], g["parent"], g["hosts"], g["listed"]) for g in admin.call("GET", "/groups")["items"]
    }
    assert found["Harbour"] == ("site", None, 2, 1) and found["Upper deck"] == ("group", "Harbour", 1, 0)
    for body, words in (
        ({"parent": "Upper deck"}, "itself or below it"),
        ({"where": 'group eq "x"'}, "cannot be chosen by group"),
        ({"where": "deck eq"}, "where"),
        ({"hosts": ["nobody"]}, "no host 'nobody'"),
    ):
        with pytest.raises(Refused, match=words):
            admin.call("PUT", "/groups/Harbour", body)
    with pytest.raises(Refused, match="no host 'nobody'"):
        admin.call("POST", "/hosts/change", {"hosts": ["grp-1", "nobody"], "set_labels": {"deck": "lower"}})
    assert admin.hosts.show("grp-1").labels == {"deck": "upper"}
    admin.call("DELETE", "/groups/Harbour")
    assert admin.hosts.show("grp-1").groups == ["Upper deck"]


def test_a_plan_reaches_the_agent_and_says_what_could_not_be_done(own_service: Service, tmp_path: Path) -> None:
    service, folder, followed = own_service, tmp_path / "agent", tmp_path / "deck.log"
    with service.client() as admin:
        key = admin.keys.create(NewEnrolmentKey(label="plan", uses=1, group="Gates")).key
        identity, _ = enrol_here(folder, service.url, key, name="gate-1")
        agent = Agent(folder, identity, load_settings(folder))
        bad = f"plan: gates\nfor: {{groups: [Gates]}}\ncollect:\n  every: 7s\n  cpu: false\nfollow:\n  - pat: {followed}\n"
        check = admin.call("POST", "/plans/check", {"text": bad})
        assert (check["good"], check["problems"][1]["line"], check["problems"][1]["column"]) == (False, 7, 5)
        with pytest.raises(Refused, match="line 7, column 5"):
            admin.call("PUT", "/plans/gates", {"text": bad})
        text = (
            bad.replace("pat:", "path:")
            + "  - path: /no/such.log\nlimits:\n  filesystem-filling: {critical: {above: 0.99}}\n"
        )
        diff = admin.call("POST", "/plans/diff", {"text": text})
        assert {(c["setting"], c["before"], c["after"]) for c in diff["items"]} >= {
            ("collect.every", "15s", "7s"),
            ("collect.cpu", "on", "off"),
            ("limits.filesystem-filling", "-", "critical above 0.99"),
        }
        assert admin.call("PUT", "/plans/gates", {"text": text})["version"] == 1
        one_line = "{plan: gate-1, for: {host: gate-1}, collect: {every: 5s}}"
        admin.call("PUT", "/plans/gate-1", {"text": one_line})
        assert agent.keeper.step(wait=0)
        assert agent.every == 5.0 and not agent.keeper.plan.collectors["cpu"].on
        followed.write_text("")
        agent.turn(time.time())
        while len(agent._spool):
            agent.deliverer.step()
        held = until(lambda: (p := admin.call("GET", "/hosts/gate-1/plan"))["applied"] == "yes" and p)
        assert {s["setting"]: s["plan"] for s in held["settings"]}["collect.every"] == "gate-1"
        assert held["plans"] == ["gates", "gate-1"]
        assert [p for p in held["problems"] if "/no/such.log" in p and "is the path right?" in p]
        metrics = {m["name"] for m in admin.call("GET", "/metrics", host="gate-1")["items"]}
        assert "system.memory.usage" in metrics and "system.cpu.time" not in metrics
        # Nothing changed: the console says so at the end of the wait, without sending it again.
        began = time.monotonic()
        headers = {"Authorization": f"Bearer {identity.token}", "If-None-Match": f'"{agent.keeper.plan.etag}"'}
        answer = httpx.get(f"{service.url}/api/v1/agents/plan", params={"wait": 1}, headers=headers)
        assert answer.status_code == 304 and time.monotonic() - began >= 1
        # A label that brings another plan is enough to end the wait at once.
        admin.call(
            "PUT", "/plans/night", {"text": "{plan: night, for: {hosts: 'label.watch pr'}, collect: {every: 9s}}"}
        )
        admin.call("DELETE", "/plans/gate-1")
        assert agent.keeper.step(wait=0) and agent.every == 7.0
        with ThreadPoolExecutor(1) as pool:
            waiting = pool.submit(agent.keeper.step, 20)
            time.sleep(0.5)
            began = time.monotonic()
            admin.call("POST", "/hosts/change", {"hosts": ["gate-1"], "set_labels": {"watch": "night"}})
            assert waiting.result() and time.monotonic() - began < 15
        assert agent.every == 9.0
        admin.call("DELETE", "/plans/night")
        assert agent.keeper.step(wait=0) and agent.every == 7.0
        agent.keeper.close()
        agent.deliverer.close()


def test_a_plan_gives_a_host_limits_of_its_own(own_service: Service) -> None:
    service = own_service
    rule = {
        "about": "deep",
        "measure": {"metric": "join.depth", "over": "10s"},
        "limits": {"warning": {"above": 5}, "critical": {"above": 10}},
    }
    plan = "plan: deep\nfor: {host: lim-2}\nlimits:\n  depth: {warning: {above: 50}, critical: {above: 60}}\n"
    with service.client() as admin:
        for name in ("lim-1", "lim-2"):
            post(service.url, service.tokens["ingest"], "metrics", point(name))
        admin.call("PUT", "/rules/depth", rule)
        wrong = plan.replace("above", "below").replace("60", "40")
        with pytest.raises(Refused, match="the rule says above"):
            admin.call("PUT", "/plans/deep", {"text": wrong})
        admin.call("PUT", "/plans/deep", {"text": plan})

        def level(value: float) -> dict[str, str]:
            for name in ("lim-1", "lim-2"):
                body = gauge_request(name, "join.depth", [(time.time(), value)]).SerializeToString()
                post(service.url, service.tokens["ingest"], "metrics", body)
            return {a.host: a.severity for a in admin.alerts.list('rule eq "depth"', state="open")}

        until(lambda: level(20.0) == {"lim-1": "critical"})
        until(lambda: level(55.0) == {"lim-1": "critical", "lim-2": "warning"})
        admin.call("DELETE", "/plans/deep")
        until(lambda: level(20.0) == {"lim-1": "critical", "lim-2": "critical"})
        query = MetricQuery(metric="join.depth", from_="-1m", points=1, by=["host"])
        assert len(admin.metrics.read(query).series) == 2
