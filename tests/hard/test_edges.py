"""The edge of the service: origins, headers, sizes, files, and what is printed."""

from __future__ import annotations

import gzip
import os
import stat
import subprocess
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import asyncssh
import httpx
import pytest

from balise.api.credentials import SshCredential
from balise.core.cells import safe_cell
from peaks import peak_mib
from running import Service


@pytest.mark.parametrize("origin", ["http://elsewhere.example", "null", "https://127.0.0.1:1"])
def test_nobodys_page_signs_anybody_in_or_out(service: Service, origin: str) -> None:
    for method in ("POST", "DELETE"):
        answer = httpx.request(
            method,
            f"{service.url}/api/v1/session",
            json={"name": "a", "password": "b"},
            headers={"Origin": origin},
            timeout=10,
        )
        assert answer.status_code == 403, method
    ours = httpx.post(
        f"{service.url}/api/v1/session",
        json={"name": "a", "password": "b"},
        headers={"Origin": service.url},
        timeout=10,
    )
    assert ours.status_code == 401


def test_every_answer_says_how_it_may_be_used(service: Service) -> None:
    for path in ("/", "/api/v1/status", "/v1/metrics", "/v1/logs", "/api/v1/nothing", "/assets/none.js"):
        headers = httpx.get(service.url + path, timeout=10).headers
        assert headers["x-content-type-options"] == "nosniff", path
        assert "frame-ancestors 'none'" in headers["content-security-policy"], path
        # Plain HTTP promises nothing of TLS.
        assert "strict-transport-security" not in headers


@pytest.mark.parametrize(
    "content",
    [
        b"null",
        b"1",
        b"[]",
        b'"x"',
        b"true",
        b"{",
        b"[[[[",
        b'{"resourceMetrics": 5}',
        b'{"resourceLogs": [{"scopeLogs": [{"logRecords": [{"severityNumber": "\\ud800"}]}]}], "resourceMetrics": 5}',
    ],
)
@pytest.mark.parametrize("path", ["/v1/metrics", "/v1/logs"])
def test_what_is_no_otlp_is_not_to_be_sent_again(service: Service, path: str, content: bytes) -> None:
    for body, extra in ((content, {}), (gzip.compress(content), {"Content-Encoding": "gzip"})):
        headers = {
            "Authorization": f"Bearer {service.tokens['ingest']}", "Content-Type": "application/json", **extra
        }  # fmt: skip
        answer = httpx.post(service.url + path, content=body, headers=headers, timeout=10)
        # A field that is not of this path is ignored, as the standard says.
        assert answer.status_code == (200 if path == "/v1/logs" and content == b'{"resourceMetrics": 5}' else 400), (
            answer.text
        )


def test_a_request_that_is_too_large_is_told_so(service: Service) -> None:
    headers = {"Authorization": f"Bearer {service.tokens['administrator']}", "Content-Type": "application/json"}
    large = b'{"metric": "' + b"x" * (2 << 20) + b'"}'
    chunks = (large[at : at + 65_536] for at in range(0, len(large), 65_536))
    for content in (large, chunks):
        answer = httpx.post(f"{service.url}/api/v1/metrics/query", content=content, headers=headers, timeout=10)
        assert answer.status_code == 413
        assert answer.headers["content-type"] == "application/problem+json"


def test_bombs_are_not_unpacked_and_hold_nobody_up(service: Service) -> None:
    headers = {"Authorization": f"Bearer {service.tokens['ingest']}", "Content-Encoding": "gzip"}
    bombs = {
        "application/json": gzip.compress(b'{"resourceMetrics": [' + b"[" * (40 << 20), 9),
        "application/x-protobuf": gzip.compress(bytes(200 << 20), 9),
    }
    before, slowest = peak_mib(service), 0.0
    with ThreadPoolExecutor(12) as pool:
        sent = [
            pool.submit(
                httpx.post, service.url + path, content=bomb, headers={**headers, "Content-Type": kind}, timeout=30
            )
            for kind, bomb in bombs.items()
            for path in ("/v1/metrics", "/v1/logs")
            for _ in range(3)
        ]
        while not all(one.done() for one in sent):
            began = time.perf_counter()
            assert httpx.get(f"{service.url}/api/v1/status", timeout=30).status_code == 200
            slowest = max(slowest, time.perf_counter() - began)
            time.sleep(0.02)
    assert {one.result().status_code for one in sent} == {400}
    assert slowest < 2
    assert peak_mib(service) - before < 250
    long = b'{"resourceMetrics": [' + b" " * (5 << 20) + b"]}"
    json_headers = {"Authorization": headers["Authorization"], "Content-Type": "application/json"}
    answer = httpx.post(f"{service.url}/v1/metrics", content=long, headers=json_headers, timeout=30)
    assert answer.status_code == 413


def test_nobody_else_reads_what_is_in_the_data_folder(service: Service) -> None:
    open_to_others = [
        path.name
        for path in service.data.rglob("*")
        if not path.is_socket() and stat.S_IMODE(os.stat(path).st_mode) & 0o077
    ]
    assert open_to_others == []


@pytest.mark.parametrize(
    ("cell", "safe"),
    [
        ("=1+1", "'=1+1"), ("+1 =cmd", "'+1 =cmd"), ("-1 @x", "'-1 @x"), ("|calc", "'|calc"), ("@a", "'@a"),
        ("\n=1", "'\n=1"), (" =1", "' =1"), ("-3.5", "-3.5"), ("+7 s", "+7 s"), ("-12 %", "-12 %"), ("-1e-05", "-1e-05"),
        ("pier-1", "pier-1"), ("\x1b[2Jx", "·[2Jx"), ("-1+1", "'-1+1"), ("\r=1", "·=1"),
    ],
)  # fmt: skip
def test_cells_are_no_formulas(cell: str, safe: str) -> None:
    assert safe_cell(cell) == safe


def test_a_key_with_a_passphrase_is_read(tmp_path: Path) -> None:
    """As ssh-keygen writes it by default, encrypted with bcrypt."""
    path = tmp_path / "key"
    words = ["ssh-keygen", "-q", "-t", "ed25519", "-N", "correct horse", "-f", str(path)]
    subprocess.run(words, check=True)
    held = SshCredential(kind="ssh", user="x", private_key=path.read_text(), passphrase="correct horse")
    assert held.private_key and held.passphrase
    key = asyncssh.import_private_key(held.private_key.reveal(), held.passphrase.reveal())
    assert key.get_algorithm() == "ssh-ed25519"
