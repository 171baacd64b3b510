"""What a token may deliver, for whom, and what ends with it."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import httpx
import pytest
from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceResponse
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceResponse

from balise.api.access import NewEnrolmentKey, NewToken, NewUser, Scope
from balise.api.agents import Facts
from balise.api.events import EventQuery
from balise.api.hosts import HostChange
from balise.api.relays import RelayEnrol
from balise.client import Balise, Refused
from running import Service, until
from sending import gauge_request, log_request, post


@contextmanager
def scoped(service: Service, **scope: Any) -> Iterator[str]:
    with service.client() as admin:
        made = admin.tokens.create(NewToken(name=f"t{time.time_ns()}", role="ingest", scope=Scope(**scope)))
        yield made.token
        admin.tokens.revoke(made.id)


def refused_points(service: Service, token: str, host: str, metric: str = "tide") -> int:
    answer = post(service.url, token, "metrics", gauge_request(host, metric, [(time.time(), 1.0)]).SerializeToString())
    assert answer.status_code == 200, answer.content
    said = ExportMetricsServiceResponse.FromString(answer.content).partial_success
    assert bool(said.rejected_data_points) == bool(said.error_message)
    return int(said.rejected_data_points)


def refused_lines(service: Service, token: str, host: str) -> int:
    answer = post(service.url, token, "logs", log_request(host, [(time.time(), 9, "a line")]).SerializeToString())
    assert answer.status_code == 200, answer.content
    return int(ExportLogsServiceResponse.FromString(answer.content).partial_success.rejected_log_records)


def test_a_token_delivers_for_the_hosts_of_its_filter_alone(service: Service) -> None:
    with service.client() as admin, scoped(service, hosts='host sw "gate-"') as token:
        assert [refused_points(service, token, h) for h in ("gate-1", "pier-1", "gate-1")] == [0, 1, 0]
        assert [refused_lines(service, token, h) for h in ("gate-1", "pier-1")] == [0, 1]
        names = {h.name for h in admin.hosts.list()}
        assert "gate-1" in names
        assert "pier-1" not in names


def test_a_scope_by_label_holds_as_labels_change(service: Service) -> None:
    with service.client() as admin, scoped(service) as made, scoped(service, hosts='label.dock eq "2"') as token:
        assert refused_points(service, made, "slip-1") == 0
        assert refused_points(service, token, "slip-1") == 1
        admin.hosts.change("slip-1", HostChange(labels={"dock": "2"}))
        # The same body, whose form is known by now.
        assert [refused_points(service, token, "slip-1") for _ in range(3)] == [0, 0, 0]
        admin.hosts.change("slip-1", HostChange(labels={"dock": "3"}))
        assert refused_points(service, token, "slip-1") == 1


def test_what_an_agent_has_takes_from_others_only_what_is_allowed(service: Service) -> None:
    with service.client() as admin, scoped(service) as plain, scoped(service, collected=True) as trusted:
        assert refused_points(service, plain, "berth-1", "own") == 0
        key = admin.keys.create(NewEnrolmentKey(label="one")).key
        facts = {"host_name": "berth-1", "machine_id": "machine-of-berth-1"}
        answer = admin.call("POST", "/agents/enrol", {"key": key, "facts": facts, "take_over": True})
        assert answer["host"] == "berth-1"
        assert [refused_points(service, t, "berth-1", "own") for t in (plain, trusted, answer["token"])] == [1, 0, 0]
        assert [refused_lines(service, t, "berth-1") for t in (plain, trusted, answer["token"])] == [1, 0, 0]


def test_a_token_makes_no_more_hosts_than_it_may(service: Service) -> None:
    with service.client() as admin, scoped(service, new_hosts=2) as token:
        assert [refused_points(service, token, f"buoy-{n}") for n in (1, 2, 3, 1)] == [0, 0, 1, 0]
        assert max(t.new_hosts for t in admin.tokens.list() if t.scope and t.scope.new_hosts == 2) == 2


@pytest.mark.parametrize(("kinds", "other"), [(["metrics"], "logs"), (["logs"], "metrics")])
def test_a_token_delivers_what_it_is_for(service: Service, kinds: list[Any], other: str) -> None:
    with scoped(service, kinds=kinds) as token:
        answer = post(service.url, token, other, b"")
        assert answer.status_code == 403
        assert kinds[0].encode() in answer.content
        assert post(service.url, token, kinds[0], b"").status_code == 200


def test_only_what_delivers_has_a_scope_and_its_filter_is_read(service: Service) -> None:
    for body, field in (
        ({"name": "v", "role": "viewer", "scope": {}}, "scope"),
        ({"name": "v", "role": "ingest", "scope": {"hosts": "name is"}}, "scope.hosts"),
        ({"name": "v", "role": "ingest", "scope": {"new_hosts": -1}}, "scope.new_hosts"),
    ):
        with service.client() as admin, pytest.raises(Refused, match=field):
            admin.call("POST", "/tokens", body)


def test_a_key_gives_a_relay_no_site_that_it_is_not_for(service: Service) -> None:
    """A relay of a site is given what its hosts are read with."""
    with service.client() as admin:
        plain = admin.keys.create(NewEnrolmentKey(label="plain", uses=9)).key
        north = admin.keys.create(NewEnrolmentKey(label="north", uses=9, site="north")).key

        def enrol(key: str, name: str, site: str | None) -> str | None:
            facts = Facts(host_name=name, machine_id=f"machine of {name}")
            body = RelayEnrol(key=key, name=name, site=site, facts=facts)
            return str(admin.call("POST", "/relays/enrol", body)["site"])

        assert enrol(plain, "r1", None) == "None"
        assert enrol(north, "r2", None) == enrol(north, "r3", "north") == "north"
        # Nor by going on as a relay that has one.
        for key, name, site in ((plain, "r4", "north"), (north, "r4", "south"), (plain, "r2", None)):
            with pytest.raises(Refused, match="make one for"):
                enrol(key, name, site)
        assert {r.name: r.site for r in admin.relays.list()} == {"r1": None, "r2": "north", "r3": "north"}


# --- streams


class Listening:
    """A live stream that is read in a thread, until it ends."""

    def __init__(self, url: str, **how: Any) -> None:
        self.lines: list[str] = []
        self.ended = threading.Event()
        self._thread = threading.Thread(target=self._read, args=(url,), kwargs=how, daemon=True)
        self._thread.start()
        until(lambda: any("hello" in line for line in self.lines))

    def _read(self, url: str, **how: Any) -> None:
        try:
            with httpx.stream("GET", url, timeout=60, **how) as answer:
                for line in answer.iter_lines():
                    self.lines.append(line)
        finally:
            self.ended.set()


@pytest.mark.parametrize("path", ["/live", "/events/live"])
def test_streams_end_with_whoever_opened_them(service: Service, path: str) -> None:
    url = f"{service.url}/api/v1{path}"
    with service.client() as admin, httpx.Client(base_url=service.url) as page:
        admin.users.add(NewUser(name="ben", role="viewer", password="a long enough password"))
        page.post("/api/v1/session", json={"name": "ben", "password": "a long enough password"})
        made = admin.tokens.create(NewToken(name="watching", role="viewer"))
        stays = Listening(url, headers={"Authorization": f"Bearer {service.tokens['viewer']}"})
        by_cookie = Listening(url, cookies=dict(page.cookies))
        by_token = Listening(url, headers={"Authorization": f"Bearer {made.token}"})
        admin.users.remove("ben")
        assert by_cookie.ended.wait(5)
        assert not by_token.ended.is_set()
        admin.tokens.revoke(made.id)
        assert by_token.ended.wait(5)
        assert not stays.ended.is_set()


def test_one_person_has_so_many_streams(service: Service) -> None:
    headers = {"Authorization": f"Bearer {service.tokens['operator']}"}
    with httpx.Client(
        base_url=service.url, headers=headers, timeout=20, limits=httpx.Limits(max_connections=None)
    ) as c:
        held = [c.send(c.build_request("GET", "/api/v1/live"), stream=True) for _ in range(42)]
        assert [a.status_code for a in held] == [200] * 40 + [503] * 2
        for answer in held:
            answer.close()


# --- names and times of what is delivered


def test_other_content_under_a_name_that_was_used_is_another_delivery(service: Service) -> None:
    token = service.tokens["ingest"]

    def send(text: str) -> None:
        body = log_request("mole", [(START, 9, text)]).SerializeToString()
        assert post(service.url, token, "logs", body, X_Balise_Delivery="same-name").status_code == 200

    for text in ("first", "first", "second", "second"):
        send(text)
    with service.client() as admin:
        found = admin.events.search(EventQuery.model_validate({"where": 'host eq "mole"', "from": "-1h", "to": "now"}))
        assert sorted(e.body for e in found.items) == ["first", "second"]


START = time.time() - 60


def test_a_time_that_has_not_come_is_kept_beside_the_one_it_is_given_and_told(service: Service) -> None:
    ahead = time.time() + 86_400
    body = log_request("quoin", [(ahead, 9, "from tomorrow"), (time.time(), 9, "from today")]).SerializeToString()
    answer = post(service.url, service.tokens["ingest"], "logs", body)
    said = ExportLogsServiceResponse.FromString(answer.content).partial_success
    assert said.rejected_log_records == 0
    assert "1 records are of a time that has not come yet" in said.error_message
    with service.client() as admin:
        found = admin.events.search(EventQuery.model_validate({"where": 'host eq "quoin"', "from": "-1h", "to": "now"}))
    sent = {e.body: e.attributes.get("balise.time.sent") for e in found.items}
    assert sent["from today"] is None
    kept = time.strftime("%Y-%m-%dT%H:%M:%S", time.gmtime(ahead))
    assert str(sent["from tomorrow"]).startswith(kept)


def test_a_host_of_which_nothing_is_taken_says_so(service: Service) -> None:
    with service.client() as admin:
        body = gauge_request("weir", "tide", [(time.time() + 86_400, 1.0)]).SerializeToString()
        assert post(service.url, service.tokens["ingest"], "metrics", body).status_code == 200
        host = until(lambda: (h := admin.hosts.show("weir")).state == "silent" and h)
        assert "nothing it sends is taken" in str(host.collection.problem)
        assert "check the sender's clock" in str(host.collection.problem)
        assert refused_points(service, service.tokens["ingest"], "weir") == 0
        until(lambda: admin.hosts.show("weir").state == "ok")
        assert admin.hosts.show("weir").collection.problem is None


def test_a_token_of_the_data_folder_has_a_scope_too(service: Service) -> None:
    with Balise(service.url, service.tokens["administrator"]) as admin:
        by_name = {t.name: t.scope for t in admin.tokens.list()}
    assert by_name["the ingest"] == Scope(new_hosts=20_000)
    assert by_name["the viewer"] is None
