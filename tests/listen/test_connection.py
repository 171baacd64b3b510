"""Deadlines and sizes of requests, by plain sockets against a real server."""

from __future__ import annotations

import asyncio
import socket
import ssl
import threading
import time
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest
import trustme
import uvicorn

from balise.listen import connection
from balise.listen.connection import GuardedConnection, Loop, config_of
from balise.listen.door import Door
from running import until

HEAD = b"POST /x HTTP/1.1\r\nHost: here\r\n"
LARGE = bytes(32 << 20)


async def app(scope: Any, receive: Any, send: Any) -> None:
    """Answers with how much came, or with much."""
    if scope["type"] == "lifespan":
        while (await receive())["type"] != "lifespan.shutdown":
            await send({"type": "lifespan.startup.complete"})
        await send({"type": "lifespan.shutdown.complete"})
        return
    size, more = 0, True
    while more:
        message = await receive()
        if message["type"] == "http.disconnect":
            return
        size += len(message["body"])
        more = message["more_body"]
    if scope["path"] == "/slow":
        await asyncio.sleep(0.005)
    content = LARGE if scope["path"] == "/large" else str(size).encode()
    await send({"type": "http.response.start", "status": 200, "headers": [(b"content-length", b"%d" % len(content))]})
    await send({"type": "http.response.body", "body": content})


class Serving:
    """A server in a thread of its own."""

    def __init__(self, tls: tuple[Path, Path] | None = None) -> None:
        self.listener = socket.create_server(("127.0.0.1", 0))
        self.address = self.listener.getsockname()
        self.door = Door()
        self.server = uvicorn.Server(config_of(app, self.door, stop_within=1, tls=tls))
        self.thread = threading.Thread(target=self._run)
        self.thread.start()
        until(lambda: self.server.started)

    def _run(self) -> None:
        with asyncio.Runner(loop_factory=Loop) as runner:
            runner.run(self.server._serve(sockets=[self.listener]))

    def connect(self) -> socket.socket:
        return socket.create_connection(self.address, 10)

    def stop(self) -> None:
        self.server.should_exit = True
        self.thread.join(10)


@pytest.fixture
def serving(monkeypatch: pytest.MonkeyPatch) -> Iterator[Serving]:
    for name in ("head_seconds", "body_seconds", "stalled_seconds"):
        monkeypatch.setattr(GuardedConnection, name, 0.6)
    made = Serving()
    yield made
    made.stop()


def read_all(one: socket.socket) -> bytes:
    one.settimeout(10)
    parts = []
    while part := one.recv(65_536):
        parts.append(part)
    return b"".join(parts)


def test_what_comes_in_time_is_answered_again_and_again(serving: Serving) -> None:
    with closing(serving.connect()) as one:
        for _ in range(3):
            one.sendall(HEAD + b"Content-Length: 3\r\n\r\nabc")
            assert one.recv(65_536).endswith(b"\r\n\r\n3")
            time.sleep(0.3)


@pytest.mark.parametrize(
    ("sent", "status"),
    [
        (b"", b""),
        (b"GET", b"HTTP/1.1 408"),
        (HEAD, b"HTTP/1.1 408"),
        (HEAD + b"X: 1\r\n", b"HTTP/1.1 408"),
        (HEAD + b"Content-Length: 9\r\n\r\nabc", b"HTTP/1.1 408"),
        (HEAD + b"Transfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n", b"HTTP/1.1 408"),
        (HEAD + b"Content-Length: 1\r\n\r\nxGET", b"HTTP/1.1 200"),
    ],
)
def test_half_a_request_is_waited_for_only_so_long(serving: Serving, sent: bytes, status: bytes) -> None:
    with closing(serving.connect()) as one:
        one.sendall(sent)
        began = time.monotonic()
        answer = read_all(one)
        assert answer[: len(status)] == status if status else not answer
        assert 0.4 < time.monotonic() - began < 5
    until(lambda: serving.door.strangers == 0)


def test_drops_of_a_head_do_not_make_the_wait_longer(serving: Serving) -> None:
    with closing(serving.connect()) as one:
        one.sendall(HEAD)
        began = time.monotonic()
        with pytest.raises(OSError):
            while time.monotonic() - began < 5:
                one.sendall(b"X: 1\r\n")
                time.sleep(0.05)
        assert time.monotonic() - began < 5


@pytest.mark.parametrize("part", [b"X-Long: " + b"x" * (80 << 10), b"".join(b"X-%d: y\r\n" % n for n in range(9000))])
def test_a_head_has_a_size(serving: Serving, part: bytes) -> None:
    with closing(serving.connect()) as one:
        one.sendall(HEAD + part)
        assert read_all(one).startswith(b"HTTP/1.1 431")


def test_nothing_follows_a_body(serving: Serving) -> None:
    with closing(serving.connect()) as one:
        one.sendall(HEAD + b"Transfer-Encoding: chunked\r\n\r\n3\r\nabc\r\n0\r\nX: y\r\n\r\n")
        assert read_all(one).startswith(b"HTTP/1.1 400")


def test_who_takes_nothing_of_an_answer_is_left(serving: Serving) -> None:
    with closing(serving.connect()) as one:
        until(lambda: serving.door.strangers == 1)
        one.sendall(b"GET /large HTTP/1.1\r\nHost: here\r\n\r\n")
        until(lambda: serving.door.strangers == 0, 10)
        try:
            got = len(read_all(one))
        except ConnectionError:
            got = 0
        assert got < len(LARGE)


def test_a_handshake_that_does_not_come_is_not_waited_for(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(connection, "HANDSHAKE_SECONDS", 0.5)
    authority = trustme.CA()
    made = authority.issue_cert("127.0.0.1")
    made.cert_chain_pems[0].write_to_path(tmp_path / "chain.pem")
    made.private_key_pem.write_to_path(tmp_path / "key.pem")
    serving = Serving((tmp_path / "chain.pem", tmp_path / "key.pem"))
    try:
        context = ssl.create_default_context()
        authority.configure_trust(context)
        with closing(context.wrap_socket(serving.connect(), server_hostname="127.0.0.1")) as whole:
            whole.sendall(b"GET / HTTP/1.1\r\nHost: here\r\n\r\n")
            assert whole.recv(100).startswith(b"HTTP/1.1 200")
        with closing(serving.connect()) as one:
            one.sendall(b"\x16\x03\x01")
            began = time.monotonic()
            assert not read_all(one)
            assert time.monotonic() - began < 8
    finally:
        serving.stop()


def test_requests_that_wait_behind_one_are_not_answered_to_nobody(
    serving: Serving, caplog: pytest.LogCaptureFixture
) -> None:
    for number in range(30):
        with closing(serving.connect()) as one:
            one.sendall(b"GET /slow HTTP/1.1\r\nHost: here\r\n\r\n" * 20)
            time.sleep(0.002 * (number % 5))
    until(lambda: serving.door.strangers == 0)
    time.sleep(0.5)
    assert not [record for record in caplog.records if record.levelname == "ERROR"], caplog.text
