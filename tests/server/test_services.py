"""Services: found by an agent, read by one at a time, changing hands with identity and history."""

from __future__ import annotations

import socket
import time
from collections.abc import Iterator
from pathlib import Path

import pytest

from balise.agent.agent import Agent
from balise.agent.enrol import enrol
from balise.agent.identity import load_settings
from balise.api.access import NewEnrolmentKey
from balise.api.metrics import MetricQuery
from balise.client import Balise, Refused
from balise.collect.kits.folder import shipped_kits
from balise.collect.kits.reader import once
from balise.collect.ports import listening
from running import Service, free_port, until


@pytest.fixture
def listener() -> Iterator[socket.socket]:
    with socket.socket() as made:
        made.bind(("127.0.0.1", 0))
        made.listen(50)
        yield made


def test_what_listens_is_found_with_its_process(listener: socket.socket) -> None:
    port = listener.getsockname()[1]
    [found] = [f for f in listening() if f.port == port]
    name = Path("/proc/self/comm").read_text().strip()
    assert (found.address, found.process) == ("127.0.0.1", name)


def test_a_port_is_looked_at_and_told(listener: socket.socket) -> None:
    port = listener.getsockname()[1]
    kit = shipped_kits()["port"].kit
    read = once(kit, {"address": "127.0.0.1", "port": port}, None, 1.0, "pier", time.time())
    told = {r.metric: r.value for r in read.readings}
    assert (told["port.up"], told["balise.service.up"], read.problem) == (1.0, 1.0, None)
    assert 0 < told["port.connect.duration"] < 1
    port = free_port()
    read = once(kit, {"address": "127.0.0.1", "port": port}, None, 1.0, "pier", time.time())
    assert {r.metric: r.value for r in read.readings}["balise.service.up"] == 0.0
    assert f"127.0.0.1 port {port}: refused the connection" in str(read.problem)


def counted(admin: Balise, host: str) -> float:
    query = MetricQuery(
        metric="port.up", where=f'host eq "{host}"', from_="-5m", step="5m", take="count", by=["service.name"]
    )
    try:
        return sum(v or 0 for s in admin.metrics.read(query).series for v in s.values)
    except Refused:
        return 0.0


def test_a_service_changes_hands_and_stays_the_same(
    own_service: Service, tmp_path: Path, listener: socket.socket
) -> None:
    service, folder, port = own_service, tmp_path / "agent", listener.getsockname()[1]
    with service.client() as admin:
        key = admin.keys.create(NewEnrolmentKey(label="s", uses=1)).key
        identity, _ = enrol(folder, service.url, key, name="pier-1")
        agent = Agent(folder, identity, load_settings(folder))

        def turn() -> None:
            agent._look_at_services()
            if agent._services is not None:
                until(lambda: agent._services.turns() or not agent.keeper.plan.services)
            agent.turn(time.time())
            while len(agent._spool):
                agent.deliverer.step()

        turn()
        found = {f["port"]: f for f in admin.call("GET", "/hosts/pier-1/services")["found"]}
        assert port in found and service.port in found
        body = {
            "host": "pier-1",
            "mode": "split",
            "target": {"port": port, "address": "127.0.0.1"},
            "name": "ticket desk",
            "every": "5s",
        }
        made = admin.call("POST", "/services", body)
        assert (made["collection"]["mode"], made["collection"]["by"]) == ("split", "the console")
        assert port not in {f["port"] for f in admin.call("GET", "/hosts/pier-1/services")["found"]}
        until(lambda: counted(admin, "pier-1") >= 1 and admin.call("GET", f"/services/{made['id']}")["state"] == "ok")
        with pytest.raises(Refused, match="already read by the console as 'ticket desk'") as refused:
            admin.call("POST", "/services", body | {"mode": "resident", "name": "other"})
        assert refused.value.status == 409
        # The agent takes over: the same service, the same series.
        changed = admin.call("PUT", f"/services/{made['id']}", body | {"mode": "resident"})
        assert (changed["id"], changed["collection"]["by"]) == (made["id"], "the agent of its host")
        before = counted(admin, "pier-1")
        assert agent.keeper.step(wait=0) and [s.name for s in agent.keeper.plan.services] == ["ticket desk"]
        turn()
        until(lambda: counted(admin, "pier-1") > before)
        assert admin.call("GET", f"/services/{made['id']}")["state"] == "ok"
        query = MetricQuery(metric="port.up", from_="-5m", step="5m", take="last", by=["host", "service.name"])
        assert [s.attributes for s in admin.metrics.read(query).series] == [
            {"host": "pier-1", "service.name": "ticket desk"}
        ]
        listener.close()
        assert agent._services is not None
        for held in agent._services._held.values():
            held.due, held.turn = 0.0, None
        turn()
        told = until(lambda: (s := admin.call("GET", f"/services/{made['id']}"))["state"] == "critical" and s)
        assert f"127.0.0.1 port {port}: refused" in told["collection"]["problem"]
        admin.call("DELETE", f"/services/{made['id']}")
        assert admin.call("GET", "/services")["items"] == []
        agent.keeper.close()
        agent.deliverer.close()


def test_a_service_read_from_afar_does_not_make_its_host_look_alive(
    own_service: Service, listener: socket.socket
) -> None:
    service, port = own_service, listener.getsockname()[1]
    with service.client() as admin:
        key = admin.keys.create(NewEnrolmentKey(label="s", uses=1)).key
        with Balise(service.url) as agent:
            facts = {"host_name": "pier-2", "machine_id": "m-2", "addresses": ["192.0.2.2"]}
            agent.call("POST", "/agents/enrol", {"key": key, "facts": facts})
        target = {"port": port, "address": "127.0.0.1"}
        admin.call("POST", "/services", {"host": "pier-2", "mode": "split", "target": target, "every": "5s"})
        until(lambda: counted(admin, "pier-2") >= 2, 30)
        assert admin.hosts.show("pier-2").last_seen is None
        # What nobody else tells of is known by its service alone.
        admin.call("POST", "/services", {"host": "ferry-web", "mode": "remote", "target": target, "every": "5s"})
        until(lambda: admin.hosts.show("ferry-web").last_seen, 30)
        for body, words in (
            ({"host": "ferry-web", "mode": "split", "target": {"port": 1}}, "has no agent that found it"),
            ({"host": "pier-2", "mode": "remote", "target": {"port": 1}}, "has an agent"),
            ({"host": "ferry-web", "mode": "remote", "target": {"port": 1}}, "never said an address"),
            (
                {"host": "ferry-web", "mode": "remote", "target": {"port": free_port(), "address": "127.0.0.1"}},
                "cannot read it",
            ),
            ({"host": "pier-2", "mode": "resident", "target": {"port": 2}, "site": "x"}, "own agent reads"),
            ({"host": "pier-2", "mode": "split", "target": {"port": 2}, "every": "1s"}, "between 5s and 1d"),
        ):
            with pytest.raises(Refused, match=words):
                admin.call("POST", "/services", body)
