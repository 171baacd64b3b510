"""The contract, through the client and over HTTP."""

from __future__ import annotations

import json
import re
import time

import httpx
import pytest
from starlette.routing import Match

from balise.api.access import NewEnrolmentKey, NewToken, NewUser
from balise.api.events import EventQuery, HistogramQuery, PatternQuery
from balise.api.hosts import HostChange
from balise.api.metrics import MetricQuery
from balise.api.rules import Rehearse, RuleBody, RuleDocument
from balise.client import Balise, Refused, Unreachable
from balise.server.app import CALLS, PREFIX
from balise.server.calls import Calls
from running import Service, free_port, until
from sending import gauge_request, log_request, post, send_gauge

RULE = RuleBody.model_validate(
    {"about": "too deep", "measure": {"metric": "depth", "over": "30s"}, "limits": {"warning": {"above": 5}}}
)


def test_status_is_open_and_says_more_to_those_who_may_see(service: Service, admin: Balise) -> None:
    with Balise(service.url) as nobody:
        assert nobody.status().figures is None
    figures = admin.status().figures
    assert figures is not None and figures.storage.free > 0


def test_each_call_is_found_as_if_all_were_tried_one_after_the_other() -> None:
    calls = Calls(PREFIX, CALLS)
    paths = {PREFIX + re.sub(r"\{[^}]*\}", filled, call.path) for call in CALLS for filled in ("7", "list", "a%2Fb")}
    for path in {*paths, PREFIX, f"{PREFIX}/", f"{PREFIX}//hosts", f"{PREFIX}/nothing", "/hosts", "/api/v2/hosts"}:
        for method in ("GET", "POST", "PUT", "PATCH", "DELETE", "HEAD"):
            scope = {"type": "http", "method": method, "path": path, "headers": []}
            tried = [call.matches({**scope, "root_path": PREFIX}) for call in CALLS] if path.startswith(PREFIX) else []
            whole = [told for match, told in tried if match == Match.FULL]
            partly = [told for match, told in tried if match == Match.PARTIAL]
            expected = next(iter([*whole, *partly]), {})
            found = calls.matches({**scope, "root_path": ""})
            assert found == (Match.FULL if whole else Match.PARTIAL if partly else Match.NONE, expected)


def test_a_service_that_is_away_is_unreachable() -> None:
    with Balise(f"http://127.0.0.1:{free_port()}") as client, pytest.raises(Unreachable):
        client.status()


@pytest.mark.parametrize(
    ("role", "method", "path", "status"),
    [
        (None, "GET", "/hosts", 401),
        ("viewer", "GET", "/hosts", 200),
        ("viewer", "PUT", "/rules/x", 403),
        ("viewer", "POST", "/alerts/1/acknowledge", 403),
        ("operator", "PUT", "/channels/x", 403),
        ("operator", "GET", "/users", 403),
        ("operator", "POST", "/tokens", 403),
        ("operator", "POST", "/enrolment-keys", 403),
        ("ingest", "GET", "/hosts", 403),
        ("ingest", "GET", "/live", 403),
        ("viewer", "PUT", "/agents/facts", 401),
        ("administrator", "GET", "/users", 200),
        ("administrator", "DELETE", "/hosts", 405),
    ],
)
def test_each_role_may_do_its_own(service: Service, role: str | None, method: str, path: str, status: int) -> None:
    headers = {"Authorization": f"Bearer {service.tokens[role]}"} if role else {}
    body: dict[str, object] = {}
    if path == "/rules/x":
        body = json.loads(RULE.model_dump_json())
    answer = httpx.request(method, f"{service.url}/api/v1{path}", json=body, headers=headers)
    assert answer.status_code == status
    if status >= 400:
        assert answer.headers["content-type"] == "application/problem+json"
        assert len(answer.json()["detail"]) > 10


@pytest.mark.parametrize(
    ("path", "body", "field"),
    [
        ("/metrics/query", {"metric": "depth", "from": "now", "to": "-1h"}, "to"),
        ("/metrics/query", {"metric": "depth", "from": "yesterday"}, "from"),
        ("/metrics/query", {"metric": "depth", "take": "most"}, "take"),
        ("/metrics/query", {"metric": "depth", "step": "5"}, "step"),
        ("/metrics/query", {"metric": "depth", "from": "-30d", "step": "1s"}, "step"),
        ("/metrics/query", {"metric": "depth", "where": "host eq"}, "where"),
        ("/events/query", {"where": 'severity ge "worst"'}, "where"),
        ("/events/query", {"limit": 100000}, "limit"),
        ("/events/query", {"cursor": "abc"}, "cursor"),
        ("/enrolment-keys", {"label": "", "uses": 0}, "label"),
        ("/enrolment-keys", {"label": "x", "expires_in": "tomorrow"}, "expires_in"),
        ("/users", {"name": "x/y", "role": "viewer", "password": "long enough"}, "name"),
        ("/users", {"name": "x", "role": "king", "password": "long enough"}, "role"),
        ("/users", {"name": "x", "role": "viewer", "password": "short"}, "password"),
        (
            "/rules/rehearse",
            {"rule": {"about": "x", "measure": {"metric": "nobody.sends.this"}, "limits": {"warning": {"above": 1}}}},
            "rule.measure.metric",
        ),
    ],
)
def test_bad_input_names_the_field(
    service: Service, admin: Balise, path: str, body: dict[str, object], field: str
) -> None:
    send_gauge(service.url, service.tokens["ingest"], "pier-1", "depth", 1.0)
    headers = {"Authorization": f"Bearer {service.tokens['administrator']}"}
    answer = httpx.post(f"{service.url}/api/v1{path}", json=body, headers=headers)
    assert answer.status_code == 422
    assert field in [e["field"] for e in answer.json()["errors"]]
    assert field in answer.json()["detail"]


@pytest.mark.parametrize(
    "body", [b"", b"{", b"[]", b"null", b"\xff\xfe", b'{"metric": {"a": []}}', b"[" * 5000, b'{"metric": "\\ud800"}']
)
def test_broken_bodies_are_refused_and_never_crash(service: Service, body: bytes) -> None:
    headers = {"Authorization": f"Bearer {service.tokens['administrator']}", "Content-Type": "application/json"}
    answer = httpx.post(f"{service.url}/api/v1/metrics/query", content=body, headers=headers)
    assert 400 <= answer.status_code < 500
    assert answer.headers["content-type"] == "application/problem+json"


def test_a_request_that_is_too_large_is_refused(service: Service) -> None:
    headers = {"Authorization": f"Bearer {service.tokens['administrator']}", "Content-Type": "application/json"}
    answer = httpx.post(
        f"{service.url}/api/v1/events/query", content=b'{"text":"' + b"x" * (2 << 20) + b'"}', headers=headers
    )
    assert answer.status_code in (400, 413)


def test_a_metric_nobody_sent_is_not_found_with_a_hint(service: Service, admin: Balise) -> None:
    send_gauge(service.url, service.tokens["ingest"], "pier-1", "hint.depth", 1.0)
    with pytest.raises(Refused, match="Did you mean") as refused:
        admin.metrics.read(MetricQuery(metric="depth.depth"))
    assert refused.value.status == 404


def test_a_query_answers_by_group_and_step(service: Service, admin: Balise) -> None:
    at = time.time() // 60 * 60 - 120
    for host, base in (("step-1", 10.0), ("step-2", 20.0)):
        for i in range(8):
            send_gauge(service.url, service.tokens["ingest"], host, "step.level", base + i, at + i * 15)
    answer = admin.metrics.read(MetricQuery(metric="step.level", from_="-5m", step="1m", take="max", by=["host"]))
    by_host = {s.attributes["host"]: [v for v in s.values if v is not None] for s in answer.series}
    assert by_host == {"step-1": [13.0, 17.0], "step-2": [23.0, 27.0]}
    top = admin.metrics.read(MetricQuery(metric="step.level", from_="-5m", step="5m", take="avg", by=["host"], top=1))
    assert [s.attributes["host"] for s in top.series] == ["step-2"]
    together = admin.metrics.read(MetricQuery(metric="step.level", from_="-10m", step="10m", take="count", by=[]))
    assert sum(v or 0 for v in together.series[0].values) == 16


def test_metrics_are_known_with_unit_and_attributes(service: Service, admin: Balise) -> None:
    request = gauge_request("pier-2", "known.metric", [(time.time(), 1.0)], {"berth": "4"}, unit="m")
    request.resource_metrics[0].scope_metrics[0].metrics[0].description = "water under the keel"
    assert post(service.url, service.tokens["ingest"], "metrics", request.SerializeToString()).status_code == 200
    known = {m.name: m for m in admin.metrics.list()}["known.metric"]
    assert (known.unit, known.kind, known.attributes, known.series) == ("m", "gauge", ["berth"], 1)
    assert known.description == "water under the keel"


def test_events_are_counted_and_grouped_into_patterns(service: Service, admin: Balise) -> None:
    now = time.time()
    lines = [(now - i, 17 if i % 3 == 0 else 9, f"winch {i} stalled after {i * 3} s") for i in range(30)]
    assert (
        post(
            service.url, service.tokens["ingest"], "logs", log_request("winch-1", lines).SerializeToString()
        ).status_code
        == 200
    )
    where = 'host eq "winch-1"'
    histogram = admin.events.count(HistogramQuery(where=where, from_="-10m", bars=10))
    assert histogram.total == 30
    assert sum(histogram.counts["error"]) == 10
    patterns = admin.events.patterns(PatternQuery(where=where, from_="-10m")).items
    assert [(p.pattern, p.severity, p.count) for p in patterns] == [
        ("winch … stalled after … s", "error", 10),
        ("winch … stalled after … s", "informational", 20),
    ]
    page = admin.events.search(EventQuery(where=where, from_="-10m", limit=12))
    assert page.items[0].body.startswith("winch 0 ")
    rest = admin.events.search(EventQuery(where=where, from_="-10m", limit=30, cursor=page.next))
    assert len(rest.items) == 18


def test_hosts_are_labelled_grouped_and_filtered(service: Service, admin: Balise) -> None:
    for name in ("lamp-1", "lamp-2"):
        send_gauge(service.url, service.tokens["ingest"], name, "lamp.light", 1.0)
    admin.hosts.change("lamp-1", HostChange(labels={"site": "headland"}, groups=["Lamps", "headland"]))
    assert [h.name for h in admin.hosts.list('label.site eq "headland"')] == ["lamp-1"]
    assert [h.name for h in admin.hosts.list('group eq "Lamps" and name sw "lamp"')] == ["lamp-1"]
    group = next(g for g in admin.groups.list() if g.name == "Lamps")
    assert (group.hosts, sum(group.states.values())) == (1, 1)
    answer = admin.metrics.read(
        MetricQuery(metric="lamp.light", where='label.site eq "headland"', by=["host", "label.site"])
    )
    assert [s.attributes for s in answer.series] == [{"host": "lamp-1", "label.site": "headland"}]
    with pytest.raises(Refused):
        admin.hosts.show("lamp-9")


def test_signing_in_and_out_by_cookie(service: Service, admin: Balise) -> None:
    admin.users.add(NewUser(name="anker", role="viewer", password="correct horse"))
    with Balise(service.url) as person:
        assert person.me().name is None
        with pytest.raises(Refused, match="Name or password is wrong"):
            person.sign_in("anker", "wrong")
        assert person.sign_in("anker", "correct horse").role == "viewer"
        assert list(person.hosts.list()) is not None
        person.sign_out()
        assert person.me().name is None


def test_everybody_begins_with_the_page_they_choose(service: Service, admin: Balise) -> None:
    admin.call("POST", "/users", {"name": "lookout", "role": "viewer", "password": "correct horse"})
    with httpx.Client(base_url=f"{service.url}/api/v1", headers={"Origin": service.url}) as browser:
        me = browser.post("/session", json={"name": "lookout", "password": "correct horse"}).json()
        assert me["first_page"] == ""
        chosen = "/dashboards/morning?from=-24h&var.site=northquay"
        assert browser.put("/session/first-page", json={"page": chosen}).status_code == 200
        assert browser.get("/session").json()["first_page"] == chosen
        browser.delete("/session")
        again = browser.post("/session", json={"name": "lookout", "password": "correct horse"}).json()
        assert again["first_page"] == chosen
        for elsewhere in ("//evil.example", "https://evil.example", "javascript:alert(1)", "/\\evil", "/x y", "x"):
            refused = browser.put("/session/first-page", json={"page": elsewhere})
            assert refused.status_code == 422 and "address of a page" in refused.json()["errors"][0]["detail"]
        assert browser.get("/session").json()["first_page"] == chosen
    with pytest.raises(Refused, match="no pages"):
        admin.call("PUT", "/session/first-page", {"page": "/fleet"})


def test_a_cookie_is_for_the_browser_alone_and_for_our_own_pages(service: Service, admin: Balise) -> None:
    admin.users.add(NewUser(name="bootsmann", role="administrator", password="correct horse"))
    answer = httpx.post(f"{service.url}/api/v1/session", json={"name": "bootsmann", "password": "correct horse"})
    cookie = answer.headers["set-cookie"].lower()
    assert "httponly" in cookie and "samesite=lax" in cookie
    for origin, status in (("http://evil.example", 403), (service.url, 201)):
        sent = httpx.post(
            f"{service.url}/api/v1/tokens",
            json={"name": "t", "role": "viewer"},
            cookies=dict(answer.cookies),
            headers={"Origin": origin},
        )
        assert sent.status_code == status


def test_guessing_passwords_is_slowed_down(service: Service, admin: Balise) -> None:
    admin.users.add(NewUser(name="steward", role="viewer", password="correct horse"))
    with Balise(service.url) as guesser:
        statuses = []
        for _ in range(10):
            with pytest.raises(Refused) as refused:
                guesser.sign_in("steward", "guess")
            statuses.append(refused.value.status)
    assert statuses[-1] == 429


def test_a_revoked_token_ends(service: Service, admin: Balise) -> None:
    made = admin.tokens.create(NewToken(name="short-lived", role="viewer"))
    with Balise(service.url, made.token) as client:
        assert client.me().role == "viewer"
        admin.tokens.revoke(made.id)
        with pytest.raises(Refused):
            list(client.hosts.list())
    assert made.token not in json.dumps([t.model_dump() for t in admin.tokens.list()])


def test_a_token_expires(service: Service, admin: Balise) -> None:
    made = admin.tokens.create(NewToken(name="brief", role="viewer", expires_in="1s"))
    with Balise(service.url, made.token) as client:
        until(lambda: client.me().name is None, 10)


def test_enrolment_keys_are_shown_once_and_can_be_revoked(admin: Balise) -> None:
    made = admin.keys.create(NewEnrolmentKey(label="pier", uses=2, group="Pier"))
    assert made.key in made.command
    held = next(k for k in admin.keys.list() if k.id == made.id)
    assert (held.uses_left, "key" in held.model_dump()) == (2, False)
    admin.keys.revoke(made.id)
    held = next(k for k in admin.keys.list() if k.id == made.id)
    assert held.revoked_at is not None and held.uses_left == 0


def test_rules_are_kept_changed_and_deleted(admin: Balise) -> None:
    admin.rules.apply("too deep", RULE)
    changed = RULE.model_copy(update={"about": "much too deep"})
    assert admin.rules.apply("too deep", changed).about == "much too deep"
    assert admin.rules.show("too deep").shipped is False
    admin.rules.delete("too deep")
    with pytest.raises(Refused):
        admin.rules.show("too deep")


def test_shipped_rules_have_advice_and_limits(admin: Balise) -> None:
    shipped = [r for r in admin.rules.list() if r.shipped]
    assert admin.rules.show("unit-not-running").updated_by == "the kit linux"
    assert {"filesystem-filling", "memory-short", "cpu-saturated", "swap-in-use", "load-high", "host-silent"} <= {
        r.name for r in shipped
    }
    assert all(len(r.advice) > 100 for r in shipped)


def test_a_rule_is_rehearsed_over_what_was_stored(service: Service, admin: Balise) -> None:
    at = time.time() // 15 * 15 - 900
    for i in range(50):
        send_gauge(
            service.url, service.tokens["ingest"], "sluice", "sluice.level", 9.0 if 20 <= i < 30 else 1.0, at + i * 15
        )
    document = RuleDocument.model_validate(
        {**RULE.model_dump(exclude_none=True), "measure": {"metric": "sluice.level", "take": "last", "over": "15s"}}
    )
    result = admin.rules.rehearse(Rehearse(rule=document, from_="-20m"))
    assert result.groups == 1
    assert [(i.host, i.severity, i.worst_value) for i in result.items] == [("sluice", "warning", 9.0)]
    assert result.items[0].opened_at == pytest.approx(at + 20 * 15, abs=31)
    assert (result.items[0].recovered_at or 0) - result.items[0].opened_at == pytest.approx(150, abs=31)


def test_events_can_be_followed_as_they_arrive(service: Service, admin: Balise) -> None:
    stream = admin.events.follow('host eq "bell-1" and severity ge "error"', "rings")
    token = service.tokens["ingest"]

    def send() -> None:
        lines = [
            (time.time(), 9, "bell rings softly"),
            (time.time(), 17, "bell rings loud"),
            (time.time(), 17, "bell broke"),
        ]
        post(service.url, token, "logs", log_request("bell-1", lines).SerializeToString())

    import threading

    timer = threading.Timer(0.5, send)
    timer.start()
    assert next(stream).body == "bell rings loud"
    timer.join()


def test_pages_and_files_are_served_with_their_headers(service: Service) -> None:
    page = httpx.get(f"{service.url}/fleet/some-host", headers={"Accept": "text/html"})
    assert page.status_code == 200 and "unsafe" not in page.headers["content-security-policy"]
    # The page says which files its version has: it is always looked at anew.
    for path in ("/", "/fleet", "/index.html"):
        assert httpx.get(f"{service.url}{path}", headers={"Accept": "text/html"}).headers["cache-control"] == "no-cache"
    assert httpx.get(f"{service.url}/favicon.svg").headers["cache-control"] == "max-age=600"
    assert page.headers["x-content-type-options"] == "nosniff"
    for path in ("/fleet/db.skerry.example", "/incidents/7/act/WzEsIm1haWwiXQ.NBtvEYCL-d3"):
        found = httpx.get(f"{service.url}{path}", headers={"Accept": "text/html"})
        assert (found.status_code, found.text) == (200, page.text)
    for path in (
        "/nope.js",
        "/assets/none.js",
        "/api/nope",
        "/%2e%2e/secret.key",
        "/.hidden",
        "/v1/traces",
    ):
        assert httpx.get(f"{service.url}{path}", headers={"Accept": "text/html"}).status_code in (404, 405)


def test_the_openapi_document_is_served(service: Service) -> None:
    document = httpx.get(f"{service.url}/api/openapi.json", timeout=60).json()
    assert document["openapi"].startswith("3.1")
    assert "/api/v1/metrics/query" in document["paths"]
