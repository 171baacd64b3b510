"""Enrolling agents: keys that run out, identities that stay, and what an agent may and may not do."""

from __future__ import annotations

import sqlite3
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
from sqlalchemy import event, insert, select, update

from balise.api.access import NewEnrolmentKey, NewToken
from balise.api.agents import EnrolAnswer, EnrolRequest, FactsChange
from balise.api.hosts import Facts
from balise.client import Balise, Refused
from balise.server.life import close
from balise.server.parts import build
from balise.server.settings import Settings
from balise.store.state.tables import EnrolmentKey, Group, Host, Member, Token
from running import Service
from sending import gauge_request, post


def enrol(service: Service, key: str, name: str, machine: str = "", **facts: object) -> EnrolAnswer:
    """Enrols a machine; each name is a machine of its own unless said otherwise."""
    known = {"host_name": name, "machine_id": machine or f"m-{name}", **facts}
    request = EnrolRequest(key=key, facts=Facts.model_validate(known))
    with Balise(service.url) as client:
        return EnrolAnswer.model_validate(client.call("POST", "/agents/enrol", request))


@pytest.fixture
def key(admin: Balise) -> Iterator[str]:
    made = admin.keys.create(NewEnrolmentKey(label="many", uses=50, group="Enrolled"))
    yield made.key
    admin.keys.revoke(made.id)


def test_the_same_machine_keeps_its_identity_and_gets_a_new_token(service: Service, admin: Balise, key: str) -> None:
    first = enrol(service, key, "pier-20", os="Debian 12", cores=4)
    again = enrol(service, key, "pier-20", os="Debian 13", cores=8)
    assert (again.host_id, again.token != first.token) == (first.host_id, True)
    body = gauge_request("x", "pier.level", [(time.time(), 1.0)]).SerializeToString()
    assert post(service.url, first.token, "metrics", body).status_code == 401
    assert post(service.url, again.token, "metrics", body).status_code == 200
    host = admin.hosts.show("pier-20")
    assert host.facts is not None and (host.facts.cores, host.os) == (8, "Debian 13")


def test_another_machine_of_the_same_name_is_refused(service: Service, key: str) -> None:
    enrol(service, key, "pier-21", "m-21")
    with pytest.raises(Refused, match="Another machine is enrolled as 'pier-21'") as refused:
        enrol(service, key, "pier-21", "m-22")
    assert refused.value.status == 409


def test_a_host_known_from_other_senders_is_taken_up_with_its_history(
    service: Service, admin: Balise, key: str
) -> None:
    body = gauge_request("pier-22", "pier.level", [(time.time(), 1.0)]).SerializeToString()
    post(service.url, service.tokens["ingest"], "metrics", body)
    before = admin.hosts.show("pier-22")
    assert enrol(service, key, "pier-22").host_id == before.id
    after = admin.hosts.show("pier-22")
    assert (after.collection.mode, after.groups) == ("resident", ["Enrolled"])


def test_an_agent_speaks_for_its_own_host_alone(service: Service, admin: Balise, key: str) -> None:
    agent = enrol(service, key, "pier-23")
    body = gauge_request("book-db-n1", "pier.claim", [(time.time(), 1.0)]).SerializeToString()
    assert post(service.url, agent.token, "metrics", body).status_code == 200
    assert "book-db-n1" not in [h.name for h in admin.hosts.list()]
    assert [m.name for m in admin.metrics.list() if m.name == "pier.claim"] == ["pier.claim"]
    with Balise(service.url, agent.token) as client:
        with pytest.raises(Refused) as refused:
            list(client.hosts.list())
        assert refused.value.status == 403
        client.call("PUT", "/agents/facts", FactsChange(facts=Facts(host_name="pier-23", kernel="6.1")))
    host = admin.hosts.show("pier-23")
    assert host.facts is not None and host.facts.kernel == "6.1"


@pytest.mark.parametrize(
    ("facts", "field"),
    [
        ({"host_name": ""}, "facts.host_name"),
        ({"host_name": "\u202e/"}, "facts.host_name"),
        ({"host_name": "x" * 200}, "facts.host_name"),
        ({"host_name": "a", "cores": -1}, "facts.cores"),
        ({"host_name": "a", "addresses": ["x"] * 100}, "facts.addresses"),
    ],
)
def test_facts_that_make_no_sense_are_refused(service: Service, key: str, facts: dict[str, object], field: str) -> None:
    import httpx

    answer = httpx.post(f"{service.url}/api/v1/agents/enrol", json={"key": key, "facts": facts})
    assert answer.status_code == 422
    assert field in [e["field"] for e in answer.json()["errors"]]


def test_keys_expire_run_out_and_are_listed_with_what_they_enrolled(tmp_path: Path) -> None:
    console = build(Settings(data=tmp_path))
    made = console.enrolling.make_key(NewEnrolmentKey(label="two", uses=2, expires_in="1h"), "test", "http://c")

    def ask(name: str) -> EnrolAnswer:
        return console.enrolling.enrol(EnrolRequest(key=made.key, facts=Facts(host_name=name, machine_id=name)))

    ask("a")
    ask("b")
    with pytest.raises(Exception, match="as often as it may"):
        ask("c")
    [held] = console.enrolling.keys()
    assert (held.uses_left, held.enrolled) == (0, ["a", "b"])
    console.state.write(lambda s: s.execute(update(EnrolmentKey).values(uses_left=5, expires_at=time.time() - 1)))
    with pytest.raises(Exception, match="has expired"):
        ask("c")
    with pytest.raises(Exception, match="is not known"):
        console.enrolling.enrol(EnrolRequest(key="bal_key_guess", facts=Facts(host_name="x")))
    assert len(console.directory.all()) == 2
    close(console)


def test_a_refused_enrolment_does_not_use_the_key_up(service: Service, admin: Balise) -> None:
    made = admin.keys.create(NewEnrolmentKey(label="one", uses=2))
    enrol(service, made.key, "pier-24", "m-24")
    with pytest.raises(Refused):
        enrol(service, made.key, "pier-24", "m-25")
    assert next(k.uses_left for k in admin.keys.list() if k.id == made.id) == 1


def test_an_ingest_token_cannot_pass_for_evidence(service: Service, admin: Balise) -> None:
    """What an agent keeps aside is taken from agents alone; from anybody else it is an ordinary record."""
    from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceRequest

    request = ExportLogsServiceRequest()
    group = request.resource_logs.add()
    group.resource.attributes.add(key="host.name").value.string_value = "pier-25"
    record = group.scope_logs.add().log_records.add(event_name="balise.agent.report", time_unix_nano=time.time_ns())
    record.body.kvlist_value.values.add(key="problem").value.string_value = "forged"
    token = admin.tokens.create(NewToken(name="sender", role="ingest")).token
    assert post(service.url, token, "logs", request.SerializeToString()).status_code == 200
    assert admin.hosts.show("pier-25").collection.problem is None
    assert admin.hosts.show("pier-25").agent is None


def test_what_enrolling_reads_does_not_grow_with_the_fleet(tmp_path: Path) -> None:
    console = build(Settings(data=tmp_path))
    made = console.enrolling.make_key(NewEnrolmentKey(label="many", uses=9, group="Quays"), "test", "http://c")
    steps = 0

    def count() -> None:
        nonlocal steps
        steps += 1

    def counted(connection: sqlite3.Connection, _record: object, _proxy: object) -> None:
        connection.set_progress_handler(count, 10)

    def taken(name: str) -> int:
        nonlocal steps
        steps = 0
        console.enrolling.enrol(EnrolRequest(key=made.key, facts=Facts(host_name=name, machine_id=name)))
        return steps

    event.listen(console.state.engine, "checkout", counted)
    try:
        taken("the first")
        alone = taken("the second")
        with console.state.engine.begin() as connection:
            group = connection.execute(select(Group.id)).scalar_one()
            hosts = [{"id": n, "name": f"h{n}", "machine_id": f"m{n}", "state_since": 0, "created_at": 0}
                     for n in range(100, 2100)]  # fmt: skip
            connection.execute(insert(Host), hosts)
            connection.execute(insert(Member), [{"group": group, "host": row["id"]} for row in hosts])
            tokens = [{"name": "t", "role": "agent", "digest": f"d{row['id']}", "host": row["id"], "created_at": 0}
                      for row in hosts]  # fmt: skip
            connection.execute(insert(Token), tokens)
        assert 0 < taken("one of many") < 2 * alone
    finally:
        close(console)
