"""Probes of every kind against real services: they speak the protocol and judge the answer."""

from __future__ import annotations

import socket
import ssl
import threading
import time
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest
import trustme

import real
from balise.api.probes import ProbeBody, ProbeResult, ProbeTarget
from balise.collect.probes.run import make
from distant import Sshd
from reading import login
from running import free_port


def probe(kind: str, target: Any, credential: Any = None, **more: Any) -> ProbeResult:
    body = ProbeBody(kind=kind, target=target, every="60s", **{"time_limit": "2s", **more})  # type: ignore[arg-type]
    return make(ProbeTarget(name="p", body=body, credential=credential))


def test_http_is_judged_by_all_that_is_expected(nginx: real.Nginx) -> None:
    base = f"http://127.0.0.1:{nginx.port}"
    good = probe("http", f"{base}/", expect={"status": [200], "text": "timetable", "headers": {"Server": "nginx"}})
    assert good.good and good.phases.keys() == {"resolve", "connect", "wait for the answer", "read the answer"}
    assert sum(good.phases.values()) <= good.seconds * 1.001
    for path, expect, words in (
        ("/", {"text": "no such words"}, "has not 'no such words' in it; it begins 'timetable v1'"),
        ("/", {"not_text": "timetable"}, "has 'timetable' in it"),
        ("/", {"status": [204]}, "answered 200 OK; 204 was expected"),
        ("/down", {}, "answered 503 Service Unavailable; 200 to 399"),
        ("/", {"headers": {"X-Quay": "north"}}, "the header X-Quay is None"),
        ("/json", {"json": {"$.quay.gates": 4}}, "$.quay.gates is 3; 4 was expected"),
        ("/round", {"redirects": 3}, "redirected more than 3 times"),
        ("/", {"json": {"$.a": 1}}, "the answer is no JSON"),
    ):
        result = probe("http", base + path, expect=expect)
        assert not result.good and words in result.message, result.message
    assert probe("http", f"{base}/json", expect={"json": {"$.quay.open": True, "$..gates": 3}}).good
    assert "200 OK" in probe("http", f"{base}/moved").message
    assert probe("http", f"{base}/moved", expect={"status": [302]}).good
    assert "refused the connection" in probe("http", f"http://127.0.0.1:{free_port()}/").message
    assert "not known" in probe("http", "http://no-such-host.invalid/").message
    assert "link-local" in probe("http", "http://169.254.169.254/latest/").message


class _Slow(BaseHTTPRequestHandler):
    def do_GET(self) -> None:
        if self.path == "/never":
            time.sleep(3)
        time.sleep(1.2 if self.path == "/" else 0.1)
        self.send_response(200)
        self.end_headers()
        if self.path == "/drip":
            for _ in range(40):
                self.wfile.write(b"x")
                self.wfile.flush()
                time.sleep(0.1)
        self.wfile.write(b"ok")

    def log_message(self, *_words: object) -> None: ...


@pytest.fixture
def slow() -> Iterator[int]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Slow)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield server.server_port
    server.shutdown()


def test_a_pass_that_is_slow_says_what_was_slow_and_a_drip_ends(slow: int) -> None:
    result = probe("http", f"http://127.0.0.1:{slow}/", slow="1s", time_limit="5s")
    assert result.good and result.warning
    assert result.message.startswith("slow: 1.") and "s to wait for the answer" in result.message
    result = probe("http", f"http://127.0.0.1:{slow}/", slow="3s", time_limit="5s")
    assert result.good and not result.warning
    began = time.monotonic()
    late = probe("http", f"http://127.0.0.1:{slow}/drip", time_limit="1s")
    assert not late.good and "longer than 1 s" in late.message and time.monotonic() - began < 10
    never = probe("http", f"http://127.0.0.1:{slow}/never", time_limit="1s", attempts=2)
    assert "nothing came within 1 s while it was to wait for the answer" in never.message and never.attempts == 2


def _served(ca: trustme.CA, **kind: Any) -> int:
    """A TLS server on loopback with a certificate of this authority."""
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
    ca.issue_cert(*kind.pop("names", ("127.0.0.1",)), **kind).configure_cert(context)
    listener = socket.create_server(("127.0.0.1", 0))

    def serve() -> None:
        while True:
            line, _ = listener.accept()
            try:
                with context.wrap_socket(line, server_side=True) as talk:
                    talk.recv(1000)
                    talk.sendall(b"HTTP/1.0 200 OK\r\n\r\nhello")
            except OSError:
                continue

    threading.Thread(target=serve, daemon=True).start()
    return int(listener.getsockname()[1])


def test_certificates_are_read_judged_and_counted_down(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    ca, now = trustme.CA(), datetime.now(UTC)
    ca.cert_pem.write_to_path(str(tmp_path / "ca.pem"))
    monkeypatch.setenv("SSL_CERT_FILE", str(tmp_path / "ca.pem"))
    good = probe("tls", f"127.0.0.1:{_served(ca, not_after=now + timedelta(days=90))}")
    assert good.good and not good.warning and good.certificates[0].days_left == pytest.approx(90, abs=0.1)
    assert good.certificates[0].names == ["127.0.0.1"] and "agree on TLS" in good.phases
    ending = _served(ca, not_after=now + timedelta(days=5))
    result = probe("http", f"https://127.0.0.1:{ending}/", expect={"text": "hello"})
    assert result.good and result.warning and "runs out in 5.0 days" in result.message
    assert not probe("tls", f"127.0.0.1:{ending}", expect={"days_left": 3}).warning
    over = _served(ca, not_before=now - timedelta(days=9), not_after=now - timedelta(days=2))
    assert "expired" in probe("tls", f"127.0.0.1:{over}").message
    assert "ran out 2.0 days ago" in probe("tls", f"127.0.0.1:{over}", expect={"trusted": False}).message
    other = _served(ca, names=("other.test",))
    assert "mismatch" in probe("tls", f"127.0.0.1:{other}").message
    stranger = _served(trustme.CA())
    assert "not trusted" in probe("tls", f"127.0.0.1:{stranger}").message
    assert probe("tls", f"127.0.0.1:{stranger}", expect={"trusted": False}).good


def test_mail_files_shells_and_ports_greet(
    postfix: real.Postfix, mailbox: real.Mailbox, files: real.Files, tmp_path: Path
) -> None:
    assert probe("smtp", f"127.0.0.1:{postfix.port}", expect={"text": "mx.test"}).good
    bob = login("bobpw", "bob")
    for kind, port in (("imap", mailbox.imap), ("pop3", mailbox.pop3)):
        assert probe(kind, f"127.0.0.1:{port}", bob, time_limit="5s").good
    bad = probe("pop3", f"127.0.0.1:{mailbox.pop3}", login("wrong", "bob"), time_limit="10s")
    assert not bad.good and "pop3 says" in bad.message and "wrong" not in bad.message
    assert probe("ftp", f"127.0.0.1:{files.port}").message.startswith("220")
    assert "ftp says: 530" in probe("ftp", f"127.0.0.1:{files.port}", login()).message
    sshd = Sshd(tmp_path / "ssh")
    assert probe("ssh", f"127.0.0.1:{sshd.port}").message.startswith("SSH-2.0-OpenSSH")
    sshd.stop()
    assert "this is no SSH server" in probe("ssh", f"127.0.0.1:{postfix.port}").message
    assert probe("tcp", f"127.0.0.1:{postfix.port}").message == "the connection was accepted"
    greeted = probe("tcp", f"127.0.0.1:{postfix.port}", expect={"text": "nothing such"})
    assert not greeted.good and "220" in greeted.message


def test_names_directories_and_echoes_are_asked_for(dnsmasq: real.Dnsmasq, directory: real.Directory) -> None:
    place = {"address": "127.0.0.1", "port": dnsmasq.port, "name": "web.test"}
    assert probe("dns", place, expect={"answers": ["10.1.2.4"]}).message == "web.test is 10.1.2.4"
    assert "10.9.9.9 was expected" in probe("dns", place, expect={"answers": ["10.9.9.9"]}).message
    assert probe("dns", place | {"name": "test", "type": "MX"}).good
    assert "REFUSED" in probe("dns", place | {"name": "nope.invalid"}).message
    tree = {"address": "127.0.0.1", "port": directory.port, "base": "dc=quay,dc=test"}
    user = login(user="cn=mon,dc=quay,dc=test")
    assert probe("ldap", tree, user).message == "bound and found dc=quay,dc=test"
    assert "invalidCredentials" in probe("ldap", tree, login("wrong", "cn=mon,dc=quay,dc=test")).message
    assert "was not found" in probe("ldap", tree | {"base": "dc=nowhere"}, user).message
    assert probe("icmp", "127.0.0.1").good
    assert probe("icmp", "::1").good


def test_a_query_is_judged_by_its_answer(postgres: real.Postgres, maria: real.Maria, redis: real.Redis) -> None:
    for kind, service, query, credential in (
        ("postgresql", postgres, "select 41 + 1", login()),
        ("mariadb", maria, "select 41 + 1", login()),
    ):
        assert probe(kind, service.target, credential, query=query, expect={"value": 42}).message == "it answers 42"
        assert "43 was expected" in probe(kind, service.target, credential, query=query, expect={"value": 43}).message
        assert "below 40" in probe(kind, service.target, credential, query=query, expect={"below": 40}).message
        assert "password" in probe(kind, service.target, login("wrong"), query=query).message
    assert probe("redis", redis.target, login(), expect={"value": "True"}).good
    assert "no permission" in probe("redis", redis.target, login(), query="GET berth:1").message
    for query in ("SET berth:1 2", "config set maxmemory 1", "FLUSHALL", "EVAL x 0", "client kill x", "SLOWLOG reset"):
        message = probe("redis", redis.target, login(), query=query).message
        assert "none of the commands that only read" in message
    locked = probe("postgresql", postgres.target, login(), query="select pg_sleep(9)", time_limit="1s")
    assert not locked.good and locked.seconds < 8
