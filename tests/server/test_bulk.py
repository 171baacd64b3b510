"""Lists of hosts tested and added, credentials, and one owner a host: at a real sshd, with a real service."""

from __future__ import annotations

import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from balise.api.access import NewEnrolmentKey
from balise.api.agents import EnrolRequest
from balise.api.events import EventQuery
from balise.api.hosts import Facts, GroupBody, HostsChange
from balise.api.metrics import MetricQuery
from balise.api.remote import EnrolmentEntry, NewEnrolment, RemoteBody
from balise.api.services import ServiceBody
from balise.client import Balise, Refused
from distant import Mute, Snmpd, Sshd, keypair
from running import Service, free_port, until


@pytest.fixture(scope="module")
def sshd(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Sshd]:
    made = Sshd(tmp_path_factory.mktemp("ssh"))
    yield made
    made.stop()


@pytest.fixture(scope="module")
def site(sshd: Sshd, tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    """A service whose hosts are read every second, with a credential that works and one that does not."""
    folder = tmp_path_factory.mktemp("bulk")
    made = Service(folder)
    with made.client() as admin:
        admin.call("PUT", "/settings/collection", {"every": "5s", "time_limit": "5s", "side_by_side": 50})
        admin.call("PUT", "/credentials/good", sshd.credential())
        other = {
            "kind": "ssh",
            "user": "root",
            "private_key": keypair(folder, "other"),
            "role": "operator",
            "groups": ["Pier"],
        }
        admin.call("PUT", "/credentials/other", other)
    yield made
    made.stop()
    assert "Traceback" not in made.log()
    assert "PRIVATE KEY" not in made.log()


@pytest.fixture(scope="module")
def admin(site: Service) -> Iterator[Balise]:
    with site.client() as client:
        yield client


def entry(sshd: Sshd, name: str | None = None, **changes: Any) -> dict[str, Any]:
    held = {"address": "127.0.0.1", "port": sshd.port, "credential": "good"} | changes
    return held | ({"name": name} if name else {})


def outcome_of(admin: Balise, *entries: dict[str, Any], limit: str = "3s") -> Any:
    number = admin.call("POST", "/enrolments", {"entries": list(entries), "time_limit": limit})["id"]
    return done(admin, number)


def done(admin: Balise, number: int) -> Any:
    return until(lambda: (a := admin.call("GET", f"/enrolments/{number}"))["state"] == "done" and a, 30)


def last(admin: Balise, metric: str, host: str) -> list[float]:
    query = MetricQuery(metric=metric, where=f'host eq "{host}"', from_="-5m", step="5m", take="last", by=["host"])
    try:
        return [v for s in admin.metrics.read(query).series for v in s.values if v is not None]
    except Refused:
        return []


def test_bad_entries_stay_to_be_corrected_and_tried_again(admin: Balise, sshd: Sshd) -> None:
    mute = Mute()
    wrong = entry(sshd, "quay-wrong", credential="other", group="Pier")
    closed, silent = entry(sshd, "quay-closed", port=free_port()), entry(sshd, "quay-mute", port=mute.port)
    began = time.monotonic()
    answer = outcome_of(
        admin, wrong, closed, silent, entry(sshd, "quay-a", labels={"site": "northquay"}, group="Quays")
    )
    assert time.monotonic() - began < 10
    assert [e["result"] for e in answer["entries"]] == ["wrong-credential", "refused", "timed-out", "added"]
    assert all(len(e["message"]) > 10 for e in answer["entries"])
    assert answer["results"] == {"wrong-credential": 1, "refused": 1, "timed-out": 1, "added": 1}
    host = admin.hosts.show("quay-a")
    assert (host.collection.mode, host.labels, host.groups) == ("remote", {"site": "northquay"}, ["Quays"])
    # The same again is safe: nothing is added twice.
    assert [e["result"] for e in outcome_of(admin, entry(sshd, "quay-a"))["entries"]] == ["already-enrolled"]
    assert [e["result"] for e in outcome_of(admin, entry(sshd))["entries"]] == ["already-enrolled"]
    # One bad entry is put right, the others are tried as they were.
    with pytest.raises(Refused, match="entry 3 is good already"):
        admin.call("POST", f"/enrolments/{answer['id']}/retry", {"entries": [{"position": 3, **entry(sshd, "quay-a")}]})
    admin.call(
        "POST", f"/enrolments/{answer['id']}/retry", {"entries": [{"position": 1, **entry(sshd, "quay-closed")}]}
    )
    again = done(admin, answer["id"])
    # The address, and the machine by its machine id, are quay-a's, and that is said.
    assert [e["result"] for e in again["entries"]] == ["already-enrolled", "already-enrolled", "timed-out", "added"]
    assert "'quay-a'" in again["entries"][1]["message"]
    mute.close()


@pytest.mark.usefixtures("quay_a")
def test_a_remote_host_is_collected_and_its_series_go_on_when_it_changes_hands(
    site: Service, admin: Balise, sshd: Sshd
) -> None:
    until(lambda: last(admin, "system.cpu.utilization", "quay-a"), 40)
    host = until(lambda: (h := admin.hosts.show("quay-a")).state == "ok" and h)
    assert host.facts is not None and host.facts.machine_id and host.collection.cost_seconds is not None
    evidence = until(lambda: (e := admin.hosts.evidence("quay-a")).processes and e)
    assert evidence.snapshots >= 1
    key = admin.keys.create(NewEnrolmentKey(label="hands", uses=5)).key
    facts = Facts(host_name="whatever", machine_id=host.facts.machine_id)
    with Balise(site.url) as agent:
        with pytest.raises(Refused, match=r"'quay-a', collected remotely by the console over SSH") as refused:
            agent.call("POST", "/agents/enrol", EnrolRequest(key=key, facts=facts))
        assert refused.value.status == 409 and "--take-over" in str(refused.value)
        taken = agent.call("POST", "/agents/enrol", EnrolRequest(key=key, facts=facts, take_over=True))
    assert taken["host_id"] == host.id
    assert admin.hosts.show("quay-a").collection.mode == "resident"
    assert last(admin, "system.uptime", "quay-a")
    # Back again: the agent may not deliver any more, the host and its history are the same.
    admin.call("PUT", "/hosts/quay-a/remote", {"accept_host_key": True})
    assert (admin.hosts.show("quay-a").id, admin.hosts.show("quay-a").collection.mode) == (host.id, "remote")
    with Balise(site.url, taken["token"]) as agent:
        until(lambda: _refused(agent))


@pytest.fixture
def quay_a(admin: Balise, sshd: Sshd) -> None:
    """A host that is read over SSH, whichever test ran before."""
    outcome_of(admin, entry(sshd, "quay-a", group="Quays"))


def _refused(agent: Balise) -> bool:
    try:
        agent.call("POST", "/agents/token")
    except Refused as error:
        return error.status == 401
    return False


BARRIER = """kit: barrier
version: "1.0"
title: Barrier
about: What the barrier's own program and log say
by: command
every: 5s
target:
  state: {about: where it keeps its state, kind: path, needed: true}
  log: {about: its log, kind: path, needed: true}
read:
  - part: state
    ask: {run: [sed, "s/;/ /", "{state}"], form: pattern, pattern: 'cycles=(?P<cycles>\\d+)'}
    metrics: {barrier.cycles: {about: Cycles, unit: "{cycle}", kind: counter, column: cycles}}
logs:
  - log: barrier
    about: what it does
    path: "{log}"
    form: regex
    pattern: '(?P<outcome>open|stuck) after (?P<ms>\\d+) ms'
    severity: outcome
    severities: {stuck: error, "*": informational}
    attributes: {barrier.outcome: outcome}
""".replace("\\\\", "\\")


@pytest.mark.usefixtures("quay_a")
def test_what_a_kit_looks_at_on_the_host_itself_is_read_over_ssh(site: Service, admin: Balise, tmp_path: Path) -> None:
    """A command and a log, of a kit of one's own; and the inventory, when it is asked for."""
    state, told = tmp_path / "state", tmp_path / "barrier.log"
    state.write_text("pier 2;cycles=41\n")
    told.write_text("stuck after 1 ms, before anybody looked\n")
    admin.call("PUT", "/kits", {"text": BARRIER})
    target = {"state": str(state), "log": str(told)}
    body = {"host": "quay-a", "kit": "barrier", "mode": "remote", "target": {**target, "state": "/nowhere/state"}}
    with pytest.raises(Refused, match="No such file"):
        admin.call("POST", "/services", body)
    made = admin.call("POST", "/services", {**body, "target": target})
    until(lambda: last(admin, "barrier.cycles", "quay-a") == [41.0], 30)
    told.write_text(told.read_text() + "open after 900 ms\nstuck after 5000 ms\n")
    query = EventQuery(where='service.name eq "barrier"', limit=10)
    found = until(lambda: len(held := admin.events.search(query).items) == 2 and held, 30)
    assert {(e.body, e.severity) for e in found} == {
        ("open after 900 ms", "informational"),
        ("stuck after 5000 ms", "error"),
    }
    assert admin.call("GET", f"/services/{made['id']}")["state"] == "ok"
    admin.call("DELETE", f"/services/{made['id']}")
    token = admin.call("POST", "/tokens", {"name": "deck", "role": "operator"})["token"]
    anything = {**body, "kit": "command", "target": {"program": "/bin/cat", "word": "/etc/passwd"}}
    with Balise(site.url, token=token) as operator, pytest.raises(Refused, match="only an administrator"):
        operator.call("POST", "/services", anything)
    admin.call("POST", "/hosts/quay-a/inventory/refresh")
    groups = until(lambda: admin.call("GET", "/hosts/quay-a/inventory", kind="groups")["items"], 60)
    assert {"name": "root", "id": 0, "members": []}.items() <= next(g for g in groups if g["name"] == "root").items()


@pytest.mark.usefixtures("quay_a")
def test_a_changed_host_key_stops_collection_until_it_is_accepted(admin: Balise, tmp_path: Path) -> None:
    own = Sshd(tmp_path / "own")
    try:
        # Another machine by its machine id would be needed to add it: it takes the place of the one that is there.
        admin.call("PUT", "/hosts/quay-a/remote", {"address": "127.0.0.1", "port": own.port, "credential": "good"})
        admin.call("PUT", "/credentials/good", own.credential(), anyway=True)
        until(lambda: admin.call("GET", "/hosts/quay-a/remote")["host_key"].startswith("SHA256:"), 30)
        own.use_another_host_key()
        admin.call("PUT", "/settings/collection", {"every": "6s", "time_limit": "5s", "side_by_side": 50})
        problem = until(lambda: admin.hosts.show("quay-a").collection.problem, 30)
        assert "the host key has changed" in problem
        admin.call("PUT", "/hosts/quay-a/remote", {"accept_host_key": True})
        until(lambda: admin.hosts.show("quay-a").collection.problem is None, 30)
    finally:
        own.stop()


def test_credentials_never_show_their_secrets_and_are_used_by_whom_they_are_for(
    site: Service, sshd: Sshd, admin: Balise
) -> None:
    listed = admin.call("GET", "/credentials")
    text = str(listed) + str(admin.call("GET", "/credentials/other"))
    assert "PRIVATE" not in text and "SHA256:" in text
    content = (site.data / "state.db").read_bytes() + (site.data / "state.db-wal").read_bytes()
    assert b"PRIVATE KEY" not in content
    with site.client("operator") as operator:
        for body, words in (
            (entry(sshd, "x-1"), "is for the role administrator"),
            (entry(sshd, "x-1", credential="other"), "is for hosts of Pier"),
            (entry(sshd, "x-1", credential="nope"), "there is none called 'nope'"),
        ):
            with pytest.raises(Refused, match=words):
                operator.call("POST", "/enrolments", {"entries": [body]})
        with pytest.raises(Refused, match="needs the role administrator"):
            operator.call("PUT", "/credentials/mine", {"kind": "login", "user": "u", "password": "p"})
        group = {"kind": "group", "parent": "Pier"}
        admin.call("PUT", "/groups/Pier", {})
        admin.call("PUT", "/groups/Jetty", group)
        answer = outcome_of(operator, entry(sshd, "x-2", credential="other", group="Jetty", port=free_port()))
        assert answer["entries"][0]["result"] == "refused"


@pytest.mark.parametrize(
    ("body", "words"),
    [
        ({"kind": "ssh", "user": "u"}, "private_key or a password"),
        ({"kind": "ssh", "user": "u", "private_key": "nonsense"}, "no private key"),
        ({"kind": "snmp", "version": "3", "user": "u", "privacy": {"password": "12345678"}}, "needs auth"),
        ({"kind": "snmp", "version": "3", "user": "u", "auth": {"password": "short"}}, "at least 8"),
        ({"kind": "snmp", "version": "1", "community": "x"}, "version 2c or 3"),
        ({"kind": "telnet"}, "kind is ssh, snmp"),
        ({"kind": "login", "user": "u", "password": "p", "extra": 1}, "extra"),
    ],
)
def test_a_credential_that_makes_no_sense_is_refused(admin: Balise, body: dict[str, Any], words: str) -> None:
    with pytest.raises(Refused) as refused:
        admin.call("PUT", "/credentials/bad", body)
    assert refused.value.status == 422
    assert words.lower() in str(refused.value).lower()


@pytest.mark.usefixtures("quay_a")
def test_rotating_a_credential_tries_it_where_it_is_used(admin: Balise, sshd: Sshd, tmp_path: Path) -> None:
    admin.call("PUT", "/hosts/quay-a/remote", {"address": "127.0.0.1", "port": sshd.port, "accept_host_key": True})
    admin.call("PUT", "/credentials/good", sshd.credential(), anyway=True)
    useless = {"kind": "ssh", "user": sshd.credential().user, "private_key": keypair(tmp_path, "useless")}
    with pytest.raises(Refused, match=r"does not work on 1 of the 1 that use 'good'.*quay-a") as refused:
        admin.call("PUT", "/credentials/good", useless)
    assert refused.value.status == 409
    with pytest.raises(Refused, match="is used by 1"):
        admin.call("DELETE", "/credentials/good")
    fresh = keypair(tmp_path, "fresh")
    with sshd.authorized.open("a") as file:
        file.write((tmp_path / "fresh.pub").read_text())
    admin.call("PUT", "/credentials/good", {"kind": "ssh", "user": sshd.credential().user, "private_key": fresh})


def test_a_device_is_added_over_snmp(admin: Balise) -> None:
    snmpd = Snmpd()
    try:
        admin.call("PUT", "/credentials/switches", {"kind": "snmp", "version": "2c", "community": "kitpub"})
        body = {"address": "127.0.0.1", "port": snmpd.port, "protocol": "snmp", "credential": "switches"}
        # It may have just been started when it is asked.
        answer = outcome_of(admin, body, limit="20s")
        assert (answer["entries"][0]["result"], answer["entries"][0]["host"]) == ("added", "pier-switch")
        until(lambda: last(admin, "system.network.io", "pier-switch"), 30)
    finally:
        snmpd.stop()


def test_a_list_goes_on_after_the_service_was_killed(site: Service, admin: Balise, sshd: Sshd) -> None:
    mutes = Mute()
    entries = [entry(sshd, f"slow-{n}", port=mutes.port) for n in range(120)]
    number = admin.call("POST", "/enrolments", {"entries": entries, "time_limit": "2s"})["id"]
    until(lambda: admin.call("GET", f"/enrolments/{number}")["tested"] >= 20)
    site.stop(9)
    site.start()
    answer = done(admin, number)
    assert (answer["tested"], answer["results"]) == (120, {"timed-out": 120})
    mutes.close()


def test_progress_is_streamed_until_it_is_done(admin: Balise, sshd: Sshd) -> None:
    mute = Mute()
    number = admin.call("POST", "/enrolments", {"entries": [entry(sshd, "st-1", port=mute.port)], "time_limit": "1s"})[
        "id"
    ]
    states = [
        content["state"]
        for topic, content in admin._connection.stream(f"/enrolments/{number}/live")
        if topic == "enrolment"
    ]
    assert (states[0], states[-1]) == ("testing", "done")
    mute.close()


def test_a_retired_host_leaves_and_an_erased_one_leaves_nothing(site: Service, admin: Balise) -> None:
    from balise.api.events import EventQuery
    from sending import gauge_request, log_request, post

    now = time.time()
    for name in ("old-1", "old-2"):
        body = gauge_request(name, "old.level", [(now, 1.0)]).SerializeToString()
        assert post(site.url, site.tokens["ingest"], "metrics", body).status_code == 200
        lines = log_request(name, [(now, 9, "creaking timber")]).SerializeToString()
        assert post(site.url, site.tokens["ingest"], "logs", lines).status_code == 200
    retired = admin.call("POST", "/hosts/old-1/retire")
    assert retired["retired_at"] is not None
    assert "old-1" not in [h.name for h in admin.hosts.list()]
    assert [h["name"] for h in admin.call("GET", "/hosts", retired=True)["items"]] == ["old-1"]
    assert last(admin, "old.level", "old-1") == [1.0]
    answer = post(
        site.url,
        site.tokens["ingest"],
        "metrics",
        gauge_request("old-1", "old.level", [(now, 2.0)]).SerializeToString(),
    )
    assert answer.status_code == 200 and b"no host" in answer.content
    assert last(admin, "old.level", "old-1") == [1.0]
    number = admin.hosts.show("old-2").id
    admin.call("DELETE", "/hosts/old-2")
    with pytest.raises(Refused, match="no host 'old-2'"):
        admin.hosts.show("old-2")
    until(lambda: [e.host for e in admin.events.search(EventQuery(text="creaking")).items] == ["old-1"], 20)
    body = gauge_request("old-2", "old.level", [(now, 7.0)]).SerializeToString()
    post(site.url, site.tokens["ingest"], "metrics", body)
    assert admin.hosts.show("old-2").id != number
    assert last(admin, "old.level", "old-2") == [7.0]


@pytest.mark.usefixtures("quay_a")
def test_the_client_library_knows_all_of_it(admin: Balise, sshd: Sshd) -> None:
    assert "good" in [c.name for c in admin.credentials.list()]
    wanted = NewEnrolment(entries=[EnrolmentEntry.model_validate(entry(sshd, "quay-a"))])
    number = admin.enrolments.start(wanted)
    done(admin, number)
    assert admin.enrolments.show(number).results == {"already-enrolled": 1}
    assert admin.hosts.remote("quay-a", RemoteBody(every="2m")).every == "2m"
    assert admin.hosts.change_many(HostsChange(hosts=["quay-a"], set_labels={"berth": "4"})) == 1
    assert admin.groups.set("Berths", GroupBody(where='label.berth eq "4"')).hosts == 1
    assert admin.plans.apply("berths", "{plan: berths, for: {groups: [Berths]}, collect: {every: 1m}}").hosts == 1
    assert [p.name for p in admin.plans.list()] == ["berths"]
    assert {s.setting: s.plan for s in admin.hosts.plan("quay-a").settings}["collect.every"] == "berths"
    body = ServiceBody(host="quay-door", mode="remote", target={"port": sshd.port, "address": "127.0.0.1"})
    made = admin.services.add(body)
    assert [s.id for s in admin.services.list("quay-door")] == [made.id] and admin.relays.list() == []
    assert admin.hosts.retire("quay-door").retired_at is not None
