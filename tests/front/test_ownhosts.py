"""The console's own names, and what a request says of them."""

from __future__ import annotations

import socket
import subprocess
from contextlib import closing
from pathlib import Path

import pytest

from balise.api.access import NewEnrolmentKey
from balise.front.ownhosts import OwnHosts
from balise.server.address import own_address
from running import BALISE, Service, until

PUBLIC = "https://console.skerry.example"


def asked(host: str, *, scheme: str = "http", token: bool = False) -> dict[str, object]:
    headers = [(b"host", host.encode())] + ([(b"authorization", b"Bearer x")] if token else [])
    return {"headers": headers, "scheme": scheme, "server": ("192.0.2.7", 8808)}


@pytest.mark.parametrize(
    ("host", "scheme", "ours"),
    [
        ("console.skerry.example", "https", True),
        ("CONSOLE.skerry.example:443", "https", True),
        ("console.skerry.example", "http", False),
        ("192.0.2.7:8808", "http", True),
        ("localhost:8808", "http", True),
        ("[::1]:8808", "http", True),
        ("evil.example", "https", False),
        ("console.skerry.example.evil.example", "https", False),
        ("console.skerry.example@evil.example", "https", False),
        ("", "https", False),
        ("[", "https", False),
        ("x:y", "https", False),
    ],
)
def test_with_a_public_address_other_names_are_nobodys(host: str, scheme: str, ours: bool) -> None:
    hosts = OwnHosts(PUBLIC, "http://0.0.0.0:8808")
    assert hosts.is_ours(asked(host, scheme=scheme)) == ours
    assert hosts.is_ours(asked(host, scheme=scheme, token=True))
    assert OwnHosts("", "http://0.0.0.0:8808").is_ours(asked(host, scheme=scheme))


@pytest.mark.parametrize(
    ("public", "listens", "server", "address"),
    [
        (PUBLIC, "http://0.0.0.0:8808", ("192.0.2.7", 8808), PUBLIC),
        ("", "http://127.0.0.1:8808", ("127.0.0.1", 8808), "http://127.0.0.1:8808"),
        ("", "https://0.0.0.0:8808", ("192.0.2.7", 8808), "https://192.0.2.7:8808"),
        ("", "http://[::]:8808", ("2001:db8::7", 8808), "http://[2001:db8::7]:8808"),
        ("", "http://0.0.0.0:8808", None, "http://0.0.0.0:8808"),
    ],
)
def test_where_others_reach_the_console(public: str, listens: str, server: tuple[str, int], address: str) -> None:
    assert own_address(public, listens, server) == address


def raw(service: Service, path: str, host: str, method: str = "GET", more: str = "", body: str = "") -> str:
    with closing(socket.create_connection(("127.0.0.1", service.port), 10)) as one:
        head = f"{method} {path} HTTP/1.1\r\nHost: {host}\r\nConnection: close\r\nContent-Length: {len(body)}\r\n{more}"
        one.sendall(f"{head}\r\n{body}".encode())
        parts = []
        while part := one.recv(65_536):
            parts.append(part)
    return b"".join(parts).decode("utf-8", "replace")


def test_what_a_request_calls_the_console_is_said_nowhere(service: Service) -> None:
    token = f"Authorization: Bearer {service.tokens['administrator']}\r\nContent-Type: application/json\r\n"
    wanted = NewEnrolmentKey(label="x").model_dump_json()
    for path, method, body in (
        ("/api/v1/enrolment-keys", "POST", wanted),
        ("/api/v1/hosts/", "GET", ""),
        ("/assets", "GET", ""),
        ("/api/v1/enrolment-keys/", "POST", wanted),
    ):
        answer = raw(service, path, "evil.example", method, token, body)
        assert "evil.example" not in answer, answer
    made = raw(service, "/api/v1/enrolment-keys", "evil.example", "POST", token, wanted)
    assert f"--console http://127.0.0.1:{service.port} " in made


def test_a_console_with_a_public_address_answers_to_no_other_name(tmp_path: Path) -> None:
    service = Service(tmp_path)
    service.stop()
    words = [
        BALISE,
        "serve",
        "--data",
        str(service.data),
        "--listen",
        f"127.0.0.1:{service.port}",
        "--public-url",
        PUBLIC,
    ]
    process = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        until(service._ready, 90)
        for path in ("/", "/api/v1/status", "/api/v1/session", "/v1/metrics"):
            answer = raw(service, path, "evil.example")
            assert answer.startswith("HTTP/1.1 421"), answer
            assert f"This console is reached at {PUBLIC}" in answer
        assert raw(service, "/api/v1/status", f"127.0.0.1:{service.port}").startswith("HTTP/1.1 200")
    finally:
        process.terminate()
        process.wait(20)
