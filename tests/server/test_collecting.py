"""Kits, probes and inventory at a running console: kept, upgraded, proposed, made from relays, told as changes."""

from __future__ import annotations

import json
import threading
import time
from collections.abc import Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest

from balise.agent.agent import Agent
from balise.agent.enrol import enrol
from balise.agent.identity import Identity, load_settings
from balise.api.access import NewEnrolmentKey
from balise.api.events import EventQuery
from balise.api.metrics import MetricQuery
from balise.client import Balise, Refused
from relaying import RelayProcess
from running import Service, until

KIT = """kit: ticket-desk
version: "1.0"
title: Ticket desk
about: The desk's own figures
by: http
every: 5s
target:
  url: {about: its page, kind: url, needed: true}
read:
  - part: desk
    ask: {form: json}
    facts: {version: version}
    configuration: {name: setting, value: value}
    metrics:
      ticket-desk.waiting: {about: People who wait, unit: "{person}", column: waiting}
rules:
  - rule: desk-crowded
    about: Many people wait
    measure: {metric: ticket-desk.waiting, each: [host, service.name]}
    limits: {warning: {above: 20}}
    advice: Open another window.
"""


class Desk:
    """A small service that says what it is told to."""

    def __init__(self) -> None:
        self.says: dict[str, Any] = {"waiting": 5, "version": "4.0", "setting": "windows", "value": "2"}
        desk = self

        class Handler(BaseHTTPRequestHandler):
            def do_GET(self) -> None:
                self.send_response(200)
                self.end_headers()
                self.wfile.write(json.dumps(desk.says).encode())

            def log_message(self, *_words: object) -> None: ...

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.url = f"http://127.0.0.1:{self._server.server_port}/"
        threading.Thread(target=self._server.serve_forever, daemon=True).start()

    def stop(self) -> None:
        self._server.shutdown()
        self._server.server_close()


@pytest.fixture
def desk() -> Iterator[Desk]:
    made = Desk()
    yield made
    made.stop()


def last(admin: Balise, metric: str, host: str) -> float | None:
    query = MetricQuery(metric=metric, where=f'host eq "{host}"', from_="-5m", step="5m", take="last", by=["host"])
    try:
        found = [v for s in admin.metrics.read(query).series for v in s.values if v is not None]
    except Refused:
        return None
    return found[-1] if found else None


def changes(admin: Balise, host: str) -> list[str]:
    return [e.body for e in admin.events.search(EventQuery(where=f'host eq "{host}" and source eq "change"')).items]


def test_a_kit_of_ones_own_is_read_with_upgraded_and_taken_back(own_service: Service, desk: Desk) -> None:
    """The folder's kit is taken up while the service runs; a new version keeps identity, history and changed limits."""
    service = own_service
    with service.client() as admin:
        folder = service.data / "kits" / "ticket-desk"
        folder.mkdir(parents=True)
        (folder / "kit.yaml").write_text(KIT)
        (folder.parent / "broken").mkdir()
        (folder.parent / "broken" / "kit.yaml").write_text(KIT.replace("column:", "colum:"))
        until(lambda: "ticket-desk" in {k["name"] for k in admin.call("GET", "/kits")["items"]}, 40)
        [problem] = admin.call("GET", "/kits/problems")["items"]
        assert problem["problems"][0]["line"] == 15 and "no such key" in problem["problems"][0]["detail"]

        body = {"host": "quay-1", "kit": "ticket-desk", "mode": "remote", "target": {"url": desk.url}}
        made = admin.call("POST", "/services", body)
        assert made["kit_version"] == "1.0" and made["every"] == "5s"
        until(lambda: last(admin, "ticket-desk.waiting", "quay-1") == 5, 30)
        assert admin.rules.show("desk-crowded").updated_by == "the kit ticket-desk"
        rule = admin.rules.show("desk-crowded")
        admin.call("PUT", "/rules/desk-crowded", {"about": rule.about, "measure": rule.measure.model_dump(),
                                                  "limits": {"warning": {"above": 99}}})  # fmt: skip

        newer = (
            KIT.replace('"1.0"', '"1.1"')
            .replace("above: 20", "above: 30")
            .replace("ticket-desk.waiting: {", "ticket-desk.queue: {")
        )
        newer = newer.replace("metric: ticket-desk.waiting", "metric: ticket-desk.queue")
        with pytest.raises(Refused, match="says something else: raise it"):
            admin.call("PUT", "/kits", {"text": KIT.replace("above: 20", "above: 21")})
        admin.call("PUT", "/kits", {"text": newer})
        told = {c["what"]: c for c in admin.call("GET", "/kits/ticket-desk/changes", to="1.0")["items"]}
        assert told["version"]["before"] == "1.1" and "metric ticket-desk.queue" in told
        until(lambda: last(admin, "ticket-desk.queue", "quay-1") == 5, 30)
        limits = admin.rules.show("desk-crowded").limits
        assert limits.warning is not None and limits.warning.above == 99, "a person's own limit was overwritten"
        now = admin.call("GET", f"/services/{made['id']}")
        assert (now["id"], now["kit_version"]) == (made["id"], "1.1")
        admin.call("PUT", "/kits/ticket-desk/version", to="1.0")
        assert admin.call("GET", f"/services/{made['id']}")["kit_version"] == "1.0"
        steps = admin.call("GET", f"/services/{made['id']}/steps")["items"]
        kits = [(s["before"], s["after"]) for s in steps if s["what"] == "kit"]
        assert kits == [("1.1", "1.0"), ("1.0", "1.1")]

        # Another version of the software and another setting are told as changes, and stay in the service's history.
        desk.says |= {"version": "4.1", "value": "3"}
        until(lambda: admin.call("GET", f"/services/{made['id']}")["version"] == "4.1", 30)
        until(lambda: len(changes(admin, "quay-1")) >= 2, 30)
        assert sorted(changes(admin, "quay-1")) == [
            "setting ticket-desk: windows: value 2 → 3", "ticket-desk went from version 4.0 to 4.1",
        ]  # fmt: skip
        desk.stop()
        gone = until(lambda: (s := admin.call("GET", f"/services/{made['id']}"))["state"] == "critical" and s, 30)
        assert "refused the connection" in gone["collection"]["problem"]
        until(lambda: [a for a in admin.alerts.list(state="open") if a.rule == "service-unreadable"], 60)


def test_a_service_is_refused_in_words_that_name_the_field(service: Service, admin: Balise, desk: Desk) -> None:
    admin.call("PUT", "/credentials/pier-ssh", {"kind": "ssh", "user": "u", "password": "p"})
    for body, field in (
        ({"kit": "nope"}, "kit"),
        ({"kit": "nginx", "target": {"url": "http://127.0.0.1:1/"}}, "target"),
        ({"kit": "nginx", "target": {"uri": "x"}}, "target.uri"),
        ({"kit": "postgresql"}, "credential"),
        ({"kit": "postgresql", "credential": "pier-ssh"}, "credential"),
        ({"kit": "postfix"}, "mode"),
        ({"kit": "json-http", "target": {"url": "http://169.254.169.254/"}}, "target.url"),
        ({"kit": "json-http", "target": {"url": desk.url}, "every": "1s"}, ""),
    ):
        with pytest.raises(Refused) as refused:
            admin.call("POST", "/services", {"host": "never-made", "mode": "remote", "target": {}} | body)
        assert refused.value.status == 422
        assert field in {e.field for e in refused.value.problem.errors} or not field, refused.value
    assert "never-made" not in {h.name for h in admin.hosts.list()}
    tried = admin.call("POST", "/kits/json-http/try", {"target": {"url": desk.url}})
    assert {m["attributes"]["json.field"]: m["value"] for m in tried["metrics"]}["waiting"] == 5
    assert "p" not in json.dumps(admin.call("GET", "/credentials/pier-ssh")["settings"].get("password", ""))


def test_probes_are_made_from_the_console_and_from_relays(own_service: Service, tmp_path: Path, desk: Desk) -> None:
    service = own_service
    with service.client() as admin:
        key = admin.keys.create(NewEnrolmentKey(label="r", uses=3)).key
        relays = [RelayProcess(service, tmp_path, key, name=f"relay-{n}") for n in (1, 2)]
        body = {"kind": "http", "target": desk.url, "every": "5s", "time_limit": "2s", "from": ["relay-1", "relay-2"],
                "fail_from": 2, "expect": {"json": {"$.waiting": 5}}, "host": "quay-1"}  # fmt: skip
        with pytest.raises(Refused, match="there is no relay 'relay-9'"):
            admin.call("PUT", "/probes/desk", body | {"from": ["relay-9"], "fail_from": 1})
        admin.call("PUT", "/probes/desk", body)
        told = until(lambda: (p := admin.call("GET", "/probes/desk"))["state"] == "ok" and p, 60)
        assert {p["place"] for p in told["places"]} == {"relay-1", "relay-2"} and told["on_host"] == "quay-1"
        query = MetricQuery(metric="probe.up", from_="-5m", step="5m", take="last", by=["host", "probe", "probe.from"])
        seen = until(lambda: len(s := admin.metrics.read(query).series) == 2 and s, 20)
        assert {s.attributes["probe.from"] for s in seen} == {"relay-1", "relay-2"}
        # From one place only it fails: a warning; from both: critical, and one alert.
        relays[0].stop()
        desk.says["waiting"] = 6
        failed = until(lambda: (p := admin.call("GET", "/probes/desk"))["state"] == "critical" and p, 60)
        assert "$.waiting is 6; 5 was expected" in failed["last"]["message"]
        [alert] = until(lambda: [a for a in admin.alerts.list(state="open") if a.rule == "probe-failing"], 60)
        assert alert.host == "quay-1" and alert.attributes["probe"] == "desk"
        desk.says["waiting"] = 5
        until(lambda: not [a for a in admin.alerts.list(state="open") if a.rule == "probe-failing"], 90)
        service.stop(9)
        service.start()
        assert admin.call("GET", "/probes/desk")["last"]["message"]
        admin.call("DELETE", "/probes/desk")
        assert admin.call("GET", "/probes")["items"] == []
        relays[1].stop()


def test_probes_that_make_no_sense_are_refused(admin: Balise) -> None:
    for body, words in (
        ({"kind": "tcp", "target": "quay"}, "ADDRESS:PORT"),
        ({"kind": "dns", "target": "192.0.2.1:53"}, "the name that the server"),
        ({"kind": "http", "target": "file:///etc/passwd"}, "begins with http"),
        ({"kind": "http", "target": "http://a:b@c/"}, "no name and password"),
        ({"kind": "http", "target": "http://c/", "every": "1s"}, "between 5s"),
        ({"kind": "http", "target": "http://c/", "every": "5s", "time_limit": "4s", "attempts": 3}, "attempts"),
        ({"kind": "tcp", "target": "a:1", "query": "select 1"}, "query"),
        ({"kind": "tcp", "target": "a:1", "credential": "none-such"}, "credential"),
    ):
        with pytest.raises(Refused, match=words) as refused:
            admin.call("PUT", "/probes/odd", body)
        assert refused.value.status == 422


def test_a_hosts_inventory_has_its_history_and_tells_what_changed(own_service: Service, tmp_path: Path) -> None:
    service = own_service
    with service.client() as admin:
        key = admin.keys.create(NewEnrolmentKey(label="a", uses=3)).key
        agents = {}
        for name in ("pier-1", "pier-2"):
            folder = tmp_path / name
            facts = {"host_name": name, "machine_id": f"m-{name}"}
            told = admin.call("POST", "/agents/enrol", {"key": key, "facts": facts})
            identity = Identity(service.url, name, told["host_id"], told["token"], time.time())
            agents[name] = Agent(folder, identity, load_settings(folder))

        def tell(name: str, kind: str, items: list[dict[str, Any]], problem: str = "") -> None:
            from balise.collect.readings import Kept

            content = {"kind": kind, "items": items, "problem": problem}
            agents[name]._keep(time.time(), [], {}, [], [Kept(time.time(), "balise.inventory", content)])
            while len(agents[name]._spool):
                agents[name].deliverer.step()

        tell("pier-1", "packages", [{"name": "openssl", "version": "3.0.17"}, {"name": "bash", "version": "5.2"}])
        tell("pier-2", "packages", [{"name": "openssl", "version": "3.0.18"}, {"name": "bash", "version": "5.2"}])
        before = time.time()
        assert changes(admin, "pier-1") == [], "a first look is no change"
        tell(
            "pier-1",
            "packages",
            [{"name": "openssl", "version": "3.0.18", "pending": "3.0.19"}, {"name": "curl", "version": "8"}],
        )
        assert sorted(until(lambda: len(c := changes(admin, "pier-1")) >= 3 and c)) == [
            "package bash was removed (5.2)", "package curl was added (8)",
            "package openssl: pending none → 3.0.19, version 3.0.17 → 3.0.18",
        ]  # fmt: skip
        tell("pier-1", "packages", [], problem="Permission denied: /var/lib/dpkg/status")
        path = "/hosts/pier-1/inventory"
        now = admin.call("GET", path, kind="packages")
        assert {i["name"] for i in now["items"]} == {"openssl", "curl"} and "Permission denied" in now["problem"]
        earlier = admin.call("GET", path, kind="packages", at=str(_rfc(before)))
        assert {i["name"]: i["version"] for i in earlier["items"]} == {"openssl": "3.0.17", "bash": "5.2"}
        beside = admin.call("GET", f"{path}/compare", host="pier-2")
        assert {d["name"]: (d["here"], d["there"]) for d in beside["items"]} == {
            "openssl": ("version 3.0.18, pending 3.0.19", "3.0.18"), "curl": ("8", None), "bash": (None, "5.2"),
        }  # fmt: skip
        itself = admin.call("GET", f"{path}/compare", at=str(_rfc(before)))
        assert {d["name"] for d in itself["items"]} == {"openssl", "curl", "bash"}
        admin.call("PUT", "/groups/quay", {"hosts": ["pier-1", "pier-2"]})
        usual = admin.call("GET", f"{path}/compare", group="quay")
        assert {d["name"] for d in usual["items"]} == {"openssl", "curl", "bash"}
        counts = {k["kind"]: k for k in admin.call("GET", f"{path}/kinds")["items"]}
        assert (counts["packages"]["items"], counts["packages"]["changed"]) == (2, 3)
        assert last(admin, "balise.changes", "pier-1") == 3
        for query in ({"kind": "nothing"}, {"at": "whenever"}):
            with pytest.raises(Refused):
                admin.call("GET", path, **query)
        with pytest.raises(Refused, match="say one thing"):
            admin.call("GET", f"{path}/compare", host="pier-2", group="quay")
        _certificates(admin, tell)
        for agent in agents.values():
            agent.keeper.close()
            agent.deliverer.close()


def _rfc(moment: float) -> str:
    from balise.api.spans import rfc3339

    return rfc3339(moment)


def _certificates(admin: Balise, tell: Any) -> None:
    from datetime import UTC, datetime, timedelta

    import trustme

    made = trustme.CA().issue_cert("times.skerry.example", not_after=datetime.now(UTC) + timedelta(days=9))
    pem = made.cert_chain_pems[0].bytes().decode()
    tell(
        "pier-1", "certificates", [{"name": "/etc/nginx/times.pem", "pem": pem}, {"name": "/etc/x.pem", "pem": "junk"}]
    )
    items = {i["name"]: i for i in admin.call("GET", "/hosts/pier-1/inventory", kind="certificates")["items"]}
    assert items["/etc/nginx/times.pem"]["days_left"] == pytest.approx(9, abs=0.1)
    assert (
        items["/etc/nginx/times.pem"]["names"] == ["times.skerry.example"]
        and "pem" not in items["/etc/nginx/times.pem"]
    )
    assert items["/etc/x.pem"]["problem"] == "this certificate cannot be read"


def test_what_an_agent_found_is_proposed_and_taken_up(own_service: Service, tmp_path: Path) -> None:
    service = own_service
    with service.client() as admin:
        key = admin.keys.create(NewEnrolmentKey(label="a", uses=1)).key
        identity, _ = enrol(tmp_path / "a", service.url, key, name="pier-1")
        agent = Agent(tmp_path / "a", identity, load_settings(tmp_path / "a"))
        agent._listening = [
            {"port": 5433, "address": "0.0.0.0", "process": "postgres"}, {"port": 22, "address": "0.0.0.0", "process": "sshd"},
            {"port": 9999, "address": "127.0.0.1", "process": "lamp"},
        ]  # fmt: skip
        agent._listened_at = time.monotonic()
        agent.turn(time.time())
        while len(agent._spool):
            agent.deliverer.step()
        found = {p["kit"]: p for p in admin.call("GET", "/services/proposals")["items"]}
        assert found["postgresql"]["target"] == {"port": 5433} and not found["postgresql"]["free"]
        assert "pg_monitor" in found["postgresql"]["grant"]["statements"] and found["openssh"]["free"]
        listed = {f["port"]: f["kit"] for f in admin.call("GET", "/hosts/pier-1/services")["found"]}
        assert listed == {5433: "postgresql", 22: "openssh", 9999: None}
        taken = admin.call("POST", "/services/proposals", {})
        assert [s["kit"] for s in taken["added"]] == ["openssh"]
        assert "needs one of kind login" in taken["failed"]["pier-1, postgresql"]
        admin.call("PUT", "/credentials/mon", {"kind": "login", "user": "mon", "password": "monpw"})
        again = admin.call("POST", "/services/proposals", {"credential": "mon"})
        assert [s["kit"] for s in again["added"]] == ["postgresql"] and again["failed"] == {}
        assert admin.call("GET", "/services/proposals")["items"] == []
        # The agent gets the kit and the secret with its plan; on disk it keeps no secret.
        assert agent.keeper.step(wait=0)
        [pg] = [s for s in agent.keeper.plan.services if s.kit.kit == "postgresql"]
        assert pg.credential is not None and pg.target["port"] == 5433
        assert "monpw" not in (tmp_path / "a" / "plan.json").read_text()
        with pytest.raises(Refused, match="is used by"):
            admin.call("DELETE", "/credentials/mon")
        agent.keeper.close()
        agent.deliverer.close()


def test_an_application_follows_its_parts_and_what_plans_and_agents_say(
    own_service: Service, tmp_path: Path, desk: Desk
) -> None:
    service = own_service
    with service.client() as admin:
        key = admin.keys.create(NewEnrolmentKey(label="a", uses=2)).key
        agents = {}
        for name, address in (("web-n1", "192.0.2.11"), ("desk-n1", "192.0.2.12")):
            facts = {"host_name": name, "machine_id": f"m-{name}", "addresses": [address]}
            told = admin.call("POST", "/agents/enrol", {"key": key, "facts": facts})
            agents[name] = Agent(
                tmp_path / name, Identity(service.url, name, told["host_id"], told["token"], time.time()),
                load_settings(tmp_path / name),
            )  # fmt: skip

        def turns() -> None:
            for agent in agents.values():
                agent._listened_at = time.monotonic()
                agent.turn(time.time())
                while len(agent._spool):
                    agent.deliverer.step()

        agents["desk-n1"]._listening = [{"port": 8123, "address": "0.0.0.0", "process": "desk"}]
        agents["web-n1"]._talks = {("192.0.2.12", 8123): 3, ("203.0.113.99", 80): 9}
        turns()
        [talk] = [t for t in admin.call("GET", "/applications/connections")["items"] if t["from_host"] == "web-n1"]
        assert (talk["to_host"], talk["port"], talk["process"], talk["known"]) == ("desk-n1", 8123, "desk", False)
        assert talk["seen"] >= 3

        made = admin.call("POST", "/services", {"host": "desk-n1", "kit": "json-http", "mode": "split", "name": "desk",
                                                "target": {"url": desk.url}, "every": "5s"})  # fmt: skip
        body = {
            "about": "Where tickets are sold",
            "parts": [{"name": "front", "host": "web-n1"}, {"name": "desk", "host": "desk-n1", "service": "desk"}],
            "needs": [{"from": "front", "to": ["desk"]}],
        }
        admin.call("PUT", "/applications/Tickets", body)
        well = until(lambda: (a := admin.call("GET", "/applications/Tickets"))["state"] == "ok" and a, 40)
        assert {p["name"]: p["rank"] for p in well["parts"]} == {"front": 0, "desk": 1}
        assert [
            t["known"] for t in admin.call("GET", "/applications/connections")["items"] if t["from_host"] == "web-n1"
        ] == [True]
        admin.call(
            "PUT",
            "/plans/tellers",
            {"text": "plan: tellers\nfor: {host: desk-n1}\napplication: {name: Tickets, needs: [front]}\n"},
        )
        parts = {p["name"]: p for p in admin.call("GET", "/applications/Tickets")["parts"]}
        assert parts["desk-n1"]["from_plan"] == "tellers" and parts["desk-n1"]["rank"] == 0
        admin.call("DELETE", "/plans/tellers")
        desk.stop()
        hurt = until(lambda: (a := admin.call("GET", "/applications/Tickets"))["state"] == "critical" and a, 60)
        front = next(p for p in hurt["parts"] if p["name"] == "front")
        assert hurt["because"] == ["desk"] and (front["own"], front["state"], front["because"]) == (
            "ok",
            "critical",
            ["desk"],
        )
        [above] = admin.call("GET", "/applications/dependents", host="desk-n1", service="desk")["items"]
        assert (above["application"], above["needed_by"]) == ("Tickets", ["front"])
        assert admin.call("GET", f"/services/{made['id']}")["state"] == "critical"
        with pytest.raises(Refused, match="no part 'cellar'"):
            admin.call("PUT", "/applications/Tickets", body | {"needs": [{"from": "front", "to": ["cellar"]}]})
        for agent in agents.values():
            agent.keeper.close()
            agent.deliverer.close()
