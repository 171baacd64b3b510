"""No input of anybody gives a 500: the classes that once did, one by one, and then whatever schemathesis thinks of."""

from __future__ import annotations

import os
import re
import subprocess
import sys
import time
from pathlib import Path
from typing import Any

import httpx
import pytest

from balise.api.access import NewEnrolmentKey
from balise.client import Balise
from running import Service

FAR = ("999999999w", "99999999999999999999w", "1e9w", "-5m", "0.0.1s")
HUGE = (2**63, 2**64, 10**30, -1)
CHECKS = "not_a_server_error,status_code_conformance,content_type_conformance,response_schema_conformance"


def ask(service: Service, method: str, path: str, role: str = "administrator", **kwargs: Any) -> httpx.Response:
    headers = {"Authorization": f"Bearer {service.tokens[role]}", "Content-Type": "application/json"}
    return httpx.request(method, f"{service.url}{path}", headers=headers, timeout=30, **kwargs)


@pytest.mark.parametrize("length", FAR)
def test_spans_that_no_calendar_has_are_refused_and_kept_nowhere(service: Service, length: str) -> None:
    for path, body in (
        ("/tokens", {"name": "far", "role": "viewer", "expires_in": length}),
        ("/enrolment-keys", {"label": "far", "expires_in": length}),
        ("/metrics/query", {"metric": "tide", "from": f"-{length}"}),
        ("/events/query", {"from": f"-{length}"}),
    ):
        answer = ask(service, "POST", f"/api/v1{path}", json=body)
        assert answer.status_code in (404, 422), (path, answer.text)
    for path in ("/tokens", "/enrolment-keys"):
        listed = ask(service, "GET", f"/api/v1{path}")
        assert listed.status_code == 200
        assert "far" not in listed.text


@pytest.mark.parametrize("number", HUGE)
def test_numbers_beyond_the_records_are_refused(service: Service, number: int) -> None:
    schema = httpx.get(f"{service.url}/api/openapi.json", timeout=30).json()
    tried = 0
    for path, methods in schema["paths"].items():
        if "{number}" not in path or "events" in path.rsplit("/", 1)[-1]:
            continue
        for method in methods:
            answer = ask(service, method, re.sub(r"\{number\}", str(number), path), json={})
            assert answer.status_code in (401, 404, 422), (method, path, answer.text)
            tried += 1
    assert tried > 12


def test_what_no_number_is_refused_wherever_one_is_asked_for(service: Service) -> None:
    for content in (
        b'{"protocol": "ssh", "address": "a", "port": Infinity, "credential": "c"}',
        b'{"protocol": "ssh", "address": "a", "port": NaN, "credential": "c"}',
        b'{"protocol": "ssh", "address": "a", "port": 1e400, "credential": "c"}',
        b'{"protocol": "ssh", "address": "\\ud800", "port": 22, "credential": "c"}',
        b"[" * 100_000,
        b'{"protocol": ' + b"9" * 5000 + b"}",
        b"\xff\xfe",
    ):
        answer = ask(service, "PUT", "/api/v1/hosts/pier-1/remote", content=content)
        assert answer.status_code in (400, 404, 422), content[:60]


@pytest.mark.parametrize(
    "path", ["/" + "a" * 300, "/" + "a" * 300 + ".js", "/assets/" + "b" * 300, "/%00", "/a%2f..%2fb.js"]
)
def test_odd_paths_are_not_found(service: Service, path: str) -> None:
    assert httpx.get(service.url + path, timeout=10).status_code == 404


def test_an_agent_may_ask_who_it_is(service: Service) -> None:
    with service.client() as admin:
        key = admin.keys.create(NewEnrolmentKey(label="who")).key
    enrolled = httpx.post(
        f"{service.url}/api/v1/agents/enrol",
        json={"key": key, "facts": {"host_name": "pier-7", "machine_id": "m7"}},
        timeout=10,
    ).json()
    with Balise(service.url, enrolled["token"]) as agent:
        assert agent.call("GET", "/session")["role"] == "agent"


def test_evidence_that_is_no_evidence_is_taken_and_hurts_nobody(service: Service) -> None:
    with service.client() as admin:
        key = admin.keys.create(NewEnrolmentKey(label="nonsense")).key
    facts = {"host_name": "pier-8", "machine_id": "m8"}
    asked = {"key": key, "facts": facts}
    token = httpx.post(f"{service.url}/api/v1/agents/enrol", json=asked, timeout=10).json()["token"]
    nonsense: list[Any] = [
        *('{"cpu": "no number"}', "[]", "null", '{"processes": {"a": 1}}', '[{"pid": 1e999}]', '[{"pid": []}]', '"x"'),
        *("no JSON", "", "[" * 50_000, "[" * 500 + "]" * 500, "9" * 5000, '["\\ud800"]', "[NaN]", '{"a":1}{"b":2}'),
    ]
    kinds = ("processes", "sessions", "signed-in", "network", "table-locks", "x" * 90)
    for told in nonsense:
        records = [
            {"timeUnixNano": str(time.time_ns()), "eventName": f"balise.evidence.{kind}", "body": {"stringValue": told}}
            for kind in kinds
        ]
        body = {"resourceLogs": [{"resource": {"attributes": []}, "scopeLogs": [{"logRecords": records}]}]}
        headers = {"Authorization": f"Bearer {token}"}
        answer = httpx.post(f"{service.url}/v1/logs", json=body, headers=headers, timeout=10)
        assert answer.status_code == 200, (told[:40], answer.text)
    for what in ("evidence", "processes", "sessions"):
        answer = ask(service, "GET", f"/api/v1/hosts/pier-8/{what}?from=-1h")
        assert answer.status_code == 200, (what, answer.text)


def test_schemathesis_finds_no_500(service: Service) -> None:
    """Every operation but those that end the token itself; some minutes of it in `make fuzz`."""
    examples = "400" if os.environ.get("FUZZ") == "long" else "4"
    words = [
        str(Path(sys.executable).parent / "schemathesis"), "run", f"{service.url}/api/openapi.json",
        "--checks", CHECKS, "--phases", "examples,fuzzing", "--max-examples", examples,
        "--header", f"Authorization: Bearer {service.tokens['administrator']}",
        "--exclude-path-regex", r"live$|/enrolments/\{number\}/events$|/tokens/\{number\}$|/session$",
        "--request-timeout", "30", "--workers", "1", "--suppress-health-check", "all", "--no-color",
    ]  # fmt: skip
    done = subprocess.run(words, check=False, capture_output=True, text=True, timeout=3600)
    assert done.returncode == 0, done.stdout[-30_000:][:12_000]
    assert re.search(r"(\d+) generated, \1 passed", done.stdout), done.stdout[-3000:]
