"""Kits of web and application servers, queues, mail and names against the real ones."""

from __future__ import annotations

import socket
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

import real
from balise.agent.places import Places
from balise.agent.services import ServiceWork
from balise.api.services import ServiceTarget
from balise.collect.kits.folder import shipped_kits
from balise.collect.ports import connected, listening
from balise.collect.readings import LogLine, Reading
from distant import Snmpd, Sshd, community
from reading import login, read, value, values
from running import until


def resident(kit: str, target: dict[str, Any], work: Callable[[], None]) -> tuple[list[Reading], list[LogLine]]:
    """What an agent reads of a service and its logs after `work` was done."""
    readings: list[Reading] = []
    lines: list[LogLine] = []

    def deliver(_at: float, found: list[Reading], _m: object, said: list[LogLine], _k: object, _to: object) -> None:
        readings.extend(found)
        lines.extend(said)

    document = shipped_kits()[kit].kit
    service = ServiceTarget(id=1, name=kit, kit=document, target=target, every=30, time_limit=5)
    agent = ServiceWork(deliver, Places(Path(tempfile.mkdtemp()) / "positions.json"), [])
    agent.look([service], time.time())
    until(lambda: agent.turns())
    work()
    readings.clear()
    for held in agent._held.values():
        held.due = 0.0
    agent.look([service], time.time())
    until(lambda: any(r.metric == "balise.service.up" for r in readings))
    agent.close()
    return readings, lines


def test_nginx_is_read_and_its_answers_are_counted(nginx: real.Nginx) -> None:
    found = read("nginx", nginx.target)
    assert found.problems == [] and value(found, "nginx.connections", "writing") >= 1
    before = value(found, "nginx.requests")
    nginx.get("/")
    assert value(read("nginx", nginx.target), "nginx.requests") == before + 2

    def visits() -> None:
        for path in ["/"] * 20 + ["/down"] * 3:
            nginx.get(path)

    target = nginx.target | {"access-log": f"{nginx.folder}/access.log", "error-log": f"{nginx.folder}/error.log"}
    readings, lines = resident("nginx", target, visits)
    counts = {r.attributes["http.response.status_class"]: r.value for r in readings if r.metric == "nginx.answers"}
    assert counts == {"2xx": 20.0, "5xx": 3.0}
    quantiles = {r.attributes["quantile"] for r in readings if r.metric == "nginx.answer.duration"}
    assert quantiles == {"p50", "p95", "p99"}
    # Good answers are counted alone; what failed is an event, with the attributes of the conventions.
    assert len(lines) == 3 and {line.severity for line in lines} == {"error"}
    assert lines[0].attributes["http.response.status_code"] == "503" and lines[0].attributes["url.path"] == "/down"
    assert abs(lines[0].time - time.time()) < 30
    wrong = read("nginx", {"url": f"http://127.0.0.1:{nginx.port}/"})
    assert "the answer is another than expected" in wrong.problems[0]
    assert (
        "answered 503: it is there and not ready"
        in read("nginx", {"url": f"http://127.0.0.1:{nginx.port}/down"}).problems[0]
    )


def test_apache_is_read_and_its_answers_are_counted(apache: real.Apache) -> None:
    found = read("apache-httpd", apache.target)
    assert found.problems == [] and found.facts["version"].startswith("Apache/2.4")
    assert value(found, "apache-httpd.workers", "busy") >= 1
    target = apache.target | {"access-log": f"{apache.folder}/access.log", "error-log": f"{apache.folder}/error.log"}
    readings, lines = resident(
        "apache-httpd", target, lambda: [apache.get(p) for p in ("/index.html", "/nope")] and None
    )
    counts = {
        r.attributes["http.response.status_class"]: r.value for r in readings if r.metric == "apache-httpd.answers"
    }
    assert counts["4xx"] == 1.0 and counts["2xx"] >= 1
    durations = [r.value for r in readings if r.metric == "apache-httpd.answer.duration"]
    assert durations and all(0 < d < 5 for d in durations)
    assert [line.attributes["url.path"] for line in lines if "nope" in line.body] == []


def test_haproxy_tells_which_server_is_down(haproxy: real.Haproxy) -> None:
    found = until(
        lambda: (f := read("haproxy", haproxy.target)) and not value(f, "haproxy.server.up", "quay", "s2") and f
    )
    assert found.problems == [] and found.facts["version"].startswith("2.")
    assert values(found, "haproxy.server.up") == {("quay", "s1"): 1.0, ("quay", "s2"): 0.0}
    assert value(found, "haproxy.backend.up", "quay") == 1 and value(found, "haproxy.backend.servers", "quay") == 1
    servers = {r["svname"]: r for r in found.tables["servers"]}
    assert servers["s2"]["check_status"] == "L4CON" and servers["s1"]["status"] == "UP"
    missing = read("haproxy", {"socket": f"{haproxy.folder}/nope"})
    assert "No such file" in str(missing.problem)


def test_tomcat_and_its_virtual_machine_are_read(tomcat: real.Tomcat) -> None:
    found = read("tomcat", tomcat.target, login(), 15.0)
    assert found.problems == [] and "Tomcat/10" in found.facts["version"]
    assert value(found, "tomcat.application.up", "localhost/demo") == 1
    assert 0 < value(found, "tomcat.heap.utilization") < 1
    assert value(found, "tomcat.heap.limit") == pytest.approx(128 << 20, rel=0.05)
    assert value(found, "tomcat.connector.threads", f"http-nio-127.0.0.1-{tomcat.port}", "limit") == 20
    assert values(found, "tomcat.collections").keys() == {("Copy",), ("MarkSweepCompact",)}
    assert all(v >= 0 for v in values(found, "jvm.memory.limit").values())
    assert value(found, "jvm.thread.count") > 5
    assert values(found, "tomcat.data_source.connections") == {
        ("jdbc/booking", "active"): 0, ("jdbc/booking", "idle"): 0, ("jdbc/booking", "limit"): 8,
    }  # fmt: skip
    assert "wants a user and password" in str(read("tomcat", tomcat.target, login("wrong"), 15.0).problem)


def test_rabbitmq_tells_its_queues(rabbit: real.Rabbit) -> None:
    found = read("rabbitmq", rabbit.target, login())
    assert found.problems == []
    assert value(found, "rabbitmq.queue.messages", "gates", "/", "ready") == 5
    assert value(found, "rabbitmq.queue.consumers", "gates", "/") == 0
    assert value(found, "rabbitmq.node.up", "quay@localhost") == 1
    assert found.facts["version"] == rabbit.http().get("overview").json()["rabbitmq_version"]
    assert found.tables["queues"][0]["name"] == "gates"


def test_postfix_tells_what_waits_and_why(postfix: real.Postfix) -> None:
    found = read("postfix", postfix.target)
    assert found.problems == [] and value(found, "postfix.queue.messages", "deferred") >= 1
    [reason] = [r for r in found.tables["reasons"] if r["domain"] == "elsewhere.invalid"]
    assert "Connection refused" in str(reason["reason"])
    assert found.configuration["myhostname"] == "mx.test"
    readings, lines = resident(
        "postfix", postfix.target, lambda: (postfix.send("x@far.invalid"), _logged(postfix))[0] and None
    )
    counts = {
        r.attributes["postfix.status"]: r.value
        for r in readings
        if r.metric == "postfix.deliveries" and r.attributes.get("postfix.status")
    }
    assert counts.get("deferred", 0) >= 1
    assert any(line.attributes.get("postfix.status") == "deferred" and line.severity == "warning" for line in lines)


def _logged(postfix: real.Postfix) -> bool:
    return until(lambda: "far.invalid" in (postfix.folder / "maillog").read_text())


def test_dns_servers_answer_and_tell_their_figures(dnsmasq: real.Dnsmasq, bind: real.Bind) -> None:
    found = read("dns", dnsmasq.target)
    assert found.problems == [] and value(found, "dns.answer.good", "web.test") == 1
    assert value(found, "dns.cache.size") == 100 and "dnsmasq" in found.facts["version"]
    assert value(read("dns", dnsmasq.target | {"name": "nope.invalid"}), "dns.answer.good", "nope.invalid") == 0
    found = read("dns", bind.target, limit=1.0)
    assert found.problems == [] and value(found, "dns.answers", "success") >= 1
    assert "did not answer" in str(read("dns", {"address": "127.0.0.1", "port": 1}, limit=0.5).problem)


def test_an_endpoint_a_json_and_a_command_are_read(nginx: real.Nginx, tmp_path: Path) -> None:
    found = read("json-http", {"url": f"http://127.0.0.1:{nginx.port}/json", "rows": "$.quay"})
    assert values(found, "json.value") == {("gates",): 3.0, ("open",): 1.0}
    program = tmp_path / "queue-length"
    program.write_text("#!/bin/sh\necho waiting: 7\necho sent: 1200\n")
    program.chmod(0o755)
    found = read("command", {"program": str(program)})
    assert values(found, "command.value") == {("waiting",): 7.0, ("sent",): 1200.0}
    # On a host the console may run it only when agent.toml has the very line.
    kit = shipped_kits()["command"].kit
    target = {"program": str(program), "form": "pairs"}
    service = ServiceTarget(id=1, name="queue", kit=kit, target=target, every=30, time_limit=5)
    for allowed, problem in (([], "does not let the console run"), ([str(program)], None)):
        work = ServiceWork(lambda *_: None, Places(tmp_path / "positions.json"), allowed)
        work.look([service], time.time())
        [turn] = until(lambda: work.turns()).values()  # noqa: B023
        assert (problem or "") in "".join(turn.get("problems", [])) and bool(turn.get("problems")) == bool(problem)
        work.close()


def test_openssh_greets_and_says_its_version(tmp_path: Path) -> None:
    sshd = Sshd(tmp_path / "sshd")
    try:
        found = read("openssh", {"port": sshd.port})
        said = subprocess.run(["ssh", "-V"], capture_output=True, text=True, check=True).stderr
        assert found.problems == [] and found.facts["version"].split()[0] == said.split(",")[0].split()[0]
        assert 0 <= value(found, "openssh.greeting.duration") < 5
    finally:
        sshd.stop()
    assert "refused" in str(read("openssh", {"port": sshd.port}).problem)


def test_a_table_of_a_device_is_read_over_snmp() -> None:
    """The table of interfaces (RFC 2863): names, and the speed of loopback, which Linux calls 10 Mbit/s."""
    snmpd = Snmpd()
    try:
        target = {"port": snmpd.port, "table": "1.3.6.1.2.1.2.2.1", "columns": "name=2, speed=5, in=10"}
        found = until(lambda: (f := read("snmp-table", target, community())).readings and not f.problems and f, 20)
        names = {r.attributes.get("name") for r in found.readings if r.metric == "snmp.value"}
        assert "lo" in names
        speed = [
            r.value
            for r in found.readings
            if r.attributes.get("name") == "lo" and r.attributes.get("snmp.column") == "speed"
        ]
        assert speed == [10_000_000]
        # net-snmp gives a community that it does not know no answer at all.
        assert read("snmp-table", target, community("wrong"), 1.0).problem
    finally:
        snmpd.stop()


def test_connections_that_began_here_are_seen_and_those_that_came_are_not() -> None:
    with socket.create_server(("127.0.0.1", 0)) as server:
        port = server.getsockname()[1]
        with socket.create_connection(("127.0.0.1", port)) as client, server.accept()[0]:
            own = client.getsockname()[1]
            assert ("127.0.0.1", port) in connected(set()) and ("127.0.0.1", own) in connected(set())
            assert ("127.0.0.1", own) not in connected({port}) and ("127.0.0.1", port) in connected({port})
            assert port in {one.port for one in listening()}


def test_a_name_that_leads_elsewhere_a_moment_later_leads_nowhere(
    nginx: real.Nginx, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The address that was looked at is the one that is asked, for the name that was meant."""
    looked: list[str] = []
    plain = socket.getaddrinfo

    def found(host: object, *more: Any, **others: Any) -> Any:
        if host == "desk.example":
            looked.append("desk.example")
            host = "127.0.0.1" if len(looked) == 1 else "169.254.169.254"
        return plain(host, *more, **others)

    monkeypatch.setattr(socket, "getaddrinfo", found)
    where = {"url": f"http://desk.example:{nginx.port}/json", "rows": "$.quay"}
    assert values(read("json-http", where), "json.value") == {("gates",): 3.0, ("open",): 1.0}
    assert len(looked) == 1
    assert "link-local" in read("json-http", where).problems[0]
