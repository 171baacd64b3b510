"""The front and the console, by plain sockets: what is passed on, what is refused, and what breaks off."""

from __future__ import annotations

import asyncio
import gzip
from collections.abc import Iterator
from contextlib import closing
from pathlib import Path
from typing import Any

import pytest

from balise.api.problems import Problem
from balise.front import frames, hand, otlp
from balise.front.frames import Taken
from balise.server.inside import AHEAD
from both_ends import PUBLIC, BothEnds, answer_on
from running import until

LARGE = 16 << 20
POST = "POST {} HTTP/1.1\r\nHost: 127.0.0.1\r\nContent-Type: application/x-protobuf\r\nContent-Length: {}\r\n{}\r\n"


class Console:
    """An application of which tests see what it was asked, and how much of an answer it could send."""

    def __init__(self) -> None:
        self.asked: list[tuple[dict[str, Any], bytes]] = []
        self.sent = 0
        self.left: list[str] = []

    async def __call__(self, scope: Any, receive: Any, send: Any) -> None:
        body = (await receive())["body"]
        self.asked.append((scope, body))
        if scope["path"] == "/fails":
            raise RuntimeError("as it may happen")
        if scope["path"] == "/waits":
            self.left.append((await receive())["type"])
            return
        size = LARGE if scope["path"] in ("/large", "/breaks") else 2
        await send({"type": "http.response.start", "status": 200, "headers": [(b"content-length", b"%d" % size)]})
        if size == 2:
            await send({"type": "http.response.body", "body": b"ok"})
            return
        for at in range(0, LARGE, 1 << 16):
            if scope["path"] == "/breaks" and at:
                raise RuntimeError("in the midst of it")
            await send({"type": "http.response.body", "body": bytes(1 << 16), "more_body": at + (1 << 16) < LARGE})
            self.sent += 1 << 16


@pytest.fixture
def console() -> Console:
    return Console()


@pytest.fixture
def both(console: Console) -> Iterator[BothEnds]:
    made = BothEnds(console)
    yield made
    made.stop()


def post(path: str, body: bytes, token: str = "known", *more: str) -> bytes:
    said = "".join(f"{line}\r\n" for line in (f"Authorization: Bearer {token}", *more))
    return POST.format(path, len(body), said).encode() + body


def get(path: str) -> bytes:
    return f"GET {path} HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n".encode()


def test_a_request_is_asked_as_it_came(both: BothEnds, console: Console) -> None:
    with closing(both.connect()) as one:
        one.sendall(post("/api/v1/a%20b?q=%FF", b"body", "x", "X-Twice: 1", "X-Twice: 2"))
        assert answer_on(one).endswith(b"\r\n\r\nok")
        one.sendall(get("/next"))
        assert answer_on(one).startswith(b"HTTP/1.1 200")
        scope, body = console.asked[0]
        assert (scope["path"], scope["raw_path"], scope["query_string"]) == ("/api/v1/a b", b"/api/v1/a%20b", b"q=%FF")
        assert [value for name, value in scope["headers"] if name == b"x-twice"] == [b"1", b"2"]
        assert (scope["client"], scope["server"]) == (one.getsockname(), both.address)
        assert body == b"body"


def test_whoever_takes_an_answer_slowly_is_sent_only_so_much_ahead(both: BothEnds, console: Console) -> None:
    with closing(both.connect()) as one:
        one.sendall(get("/large"))
        until(lambda: console.sent > 0)
        before = -1
        while before != console.sent:
            before = console.sent
            with closing(both.connect()) as other:
                other.sendall(get("/other"))
                assert answer_on(other).endswith(b"ok")
        # The sockets' own buffers take some as well.
        assert AHEAD <= console.sent < LARGE
        assert len(answer_on(one, 30)) > LARGE
    assert console.sent == LARGE


def test_whoever_leaves_is_told_of(both: BothEnds, console: Console) -> None:
    one = both.connect()
    one.sendall(get("/waits"))
    until(lambda: console.asked)
    one.close()
    until(lambda: console.left == ["http.disconnect"])
    one = both.connect()
    one.sendall(get("/large"))
    until(lambda: console.sent > 0)
    one.close()
    until(lambda: not both.inside._asked)


def test_what_fails_is_answered_or_breaks_off(both: BothEnds) -> None:
    with closing(both.connect()) as one:
        one.sendall(get("/fails"))
        assert answer_on(one).startswith(b"HTTP/1.1 500")
    with closing(both.connect()) as one, pytest.raises(AssertionError, match="the connection ended"):
        one.sendall(get("/breaks"))
        answer_on(one)


@pytest.mark.parametrize("said", [True, False])
def test_no_more_of_a_body_is_read_than_shows_that_it_is_too_large(
    both: BothEnds, console: Console, said: bool
) -> None:
    body = bytes(frames.MOST_REQUEST * 2)
    with closing(both.connect()) as one:
        if said:
            one.sendall(post("/x", body)[:200])
        else:
            one.sendall(b"POST /x HTTP/1.1\r\nHost: 127.0.0.1\r\nTransfer-Encoding: chunked\r\n\r\n200000\r\n" + body)
        head, _, content = answer_on(one).partition(b"\r\n\r\n")
    assert head.startswith(b"HTTP/1.1 413")
    assert Problem.model_validate_json(content).status == 413
    assert console.asked == []


def test_pages_are_answered_by_the_front(console: Console, tmp_path: Path) -> None:
    (tmp_path / "assets").mkdir()
    for name in ("index.html", "mark.svg", "assets/page-1.js"):
        (tmp_path / name).write_text(f"this is {name}")
    both = BothEnds(console, tmp_path)
    kinds = {
        "/": "index.html",
        "/index.html": "index.html",
        "/fleet/host.example.org": "index.html",
        "/mark.svg": "mark.svg",
        "/assets/page-1.js": "assets/page-1.js",
        "/assets/none.js": "",
        "/none.txt": "",
        "/.git/config": "",
        "/api/v1/status": "",
        "/v1/other": "",
    }
    with closing(both.connect()) as one:
        for path, file in kinds.items():
            one.sendall(f"GET {path} HTTP/1.1\r\nHost: 127.0.0.1\r\nAccept: text/html\r\n\r\n".encode())
            head, _, content = answer_on(one).partition(b"\r\n\r\n")
            assert content == (f"this is {file}".encode() if file else b"ok"), path
            assert b"content-security-policy: default-src 'self'" in head
            assert (b"immutable" in head) is (file.startswith("assets/"))
            assert (b"cache-control: no-store" in head) is path.startswith("/api/")
        asked = len(console.asked)
        one.sendall(b"HEAD / HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n")
        assert one.recv(65_536).endswith(b"\r\n\r\n")
        one.sendall(b"GET /fleet HTTP/1.1\r\nHost: 127.0.0.1\r\n\r\n")
        assert answer_on(one).endswith(b"ok"), "whoever does not ask for a page is told by the console"
    assert len(console.asked) == asked + 1
    both.stop()


def test_without_its_files_the_page_says_how_to_build_it(both: BothEnds) -> None:
    with closing(both.connect()) as one:
        one.sendall(get("/"))
        assert b"make setup" in answer_on(one)


def test_nothing_is_answered_under_somebody_elses_name(both: BothEnds, console: Console) -> None:
    with closing(both.connect()) as one:
        for path in ("/", "/api/v1/status", "/v1/metrics"):
            one.sendall(get(path).replace(b"127.0.0.1", b"evil.example"))
            head, _, content = answer_on(one).partition(b"\r\n\r\n")
            assert head.startswith(b"HTTP/1.1 421")
            assert PUBLIC in Problem.model_validate_json(content).detail
    assert console.asked == []


def test_a_delivery_is_taken_as_it_was_meant(both: BothEnds) -> None:
    both.taking.answer = Taken(503, b"later", retry=7)
    with closing(both.connect()) as one:
        zipped = ("Content-Encoding: gzip", "x-balise-delivery: d 1", "x-balise-sent: 1e9")
        one.sendall(post("/v1/logs", gzip.compress(b"content"), "known", *zipped))
        head, _, content = answer_on(one).partition(b"\r\n\r\n")
    assert head.startswith(b"HTTP/1.1 503")
    assert b"retry-after: 7" in head
    assert content == b"later"
    (sent,) = both.taking.sent
    assert (sent.path, sent.token, sent.body, sent.delivery) == ("/v1/logs", "known", b"content", "d 1")
    assert sent.behind is not None
    assert sent.behind > 1e8


@pytest.mark.parametrize(
    ("asked", "status"),
    [
        (get("/v1/metrics"), 405),
        (POST.format("/v1/metrics", 4, "").encode() + b"body", 401),
        (post("/v1/metrics", b"body", "other"), 401),
        (post("/v1/metrics", b"body", "x" * 70_000), 401),
        (post("/v1/metrics", b"body").replace(b"application/x-protobuf", b"text/plain"), 415),
        (post("/v1/metrics", b"body", "known", "Content-Encoding: br"), 415),
        (post("/v1/metrics", b"body", "known", "Content-Encoding: gzip"), 400),
        (post("/v1/metrics", bytes(otlp.MOST_SENT + 1)), 413),
    ],
)
def test_what_is_no_delivery_is_refused_by_the_front(both: BothEnds, asked: bytes, status: int) -> None:
    with closing(both.connect()) as one:
        one.sendall(asked)
        assert answer_on(one).startswith(b"HTTP/1.1 %d " % status)
    assert both.taking.sent == []


def test_nothing_of_a_strangers_body_is_waited_for(both: BothEnds) -> None:
    with closing(both.connect()) as one:
        one.sendall(post("/v1/metrics", bytes(100), "stranger")[:-50])
        assert answer_on(one).startswith(b"HTTP/1.1 401")


def test_a_token_is_asked_for_once_and_again_when_it_was_refused(both: BothEnds) -> None:
    with closing(both.connect()) as one:
        for answer in (Taken(200, b""), Taken(200, b""), Taken(401, b"ended"), Taken(200, b"")):
            both.taking.answer = answer
            one.sendall(post("/v1/metrics", b"body"))
            assert answer_on(one).startswith(b"HTTP/1.1 %d" % answer.status)
    assert both.taking.asked == ["known", "known"]


def test_more_than_there_is_room_for_is_put_off(both: BothEnds, monkeypatch: pytest.MonkeyPatch) -> None:
    """Large bodies have room for a mebibyte here, small ones for a hundred bytes; each goes on beside the other."""
    monkeypatch.setattr(hand, "MOST_SMALL", 100)
    both.do(both.taking.may_go_on.clear)
    held = []
    for size in (80, 600_000):
        held.append(both.connect())
        held[-1].sendall(post("/v1/logs", bytes(size)))
    until(lambda: len(both.taking.sent) == 2)
    for size in (30, 600_000):
        with closing(both.connect()) as one:
            one.sendall(post("/v1/logs", bytes(size)))
            head = answer_on(one)
            assert head.startswith(b"HTTP/1.1 503")
            assert b"retry-after: 2" in head
    both.do(both.taking.may_go_on.set)
    for one in held:
        assert answer_on(one).startswith(b"HTTP/1.1 200")
        one.sendall(post("/v1/logs", bytes(80)))
        assert answer_on(one).startswith(b"HTTP/1.1 200")
        one.close()


def test_what_waits_when_the_console_is_gone_may_come_again(both: BothEnds, console: Console) -> None:
    both.do(both.taking.may_go_on.clear)
    with closing(both.connect()) as one, closing(both.connect()) as other:
        one.sendall(post("/v1/logs", b"body"))
        other.sendall(get("/waits"))
        until(lambda: both.taking.sent and console.asked)
        both.do(both.inside.cut)
        for waiting in (one, other):
            head = answer_on(waiting)
            assert head.startswith(b"HTTP/1.1 503")
            assert b"retry-after" in head
    both._thread.join(10)
    assert not both._thread.is_alive()


def test_at_the_end_what_is_in_hand_is_answered(both: BothEnds) -> None:
    both.do(both.taking.may_go_on.clear)
    with closing(both.connect()) as one:
        one.sendall(post("/v1/logs", b"body"))
        until(lambda: both.taking.sent)
        both.do(lambda: both.inside.say(frames.Kind.CLOSE))
        both.loop.call_soon_threadsafe(both.loop.call_later, 0.3, both.taking.may_go_on.set)
        assert answer_on(one).startswith(b"HTTP/1.1 200")
    with pytest.raises(OSError):
        until(lambda: both.connect().close())


def test_whoever_is_turned_out_is_counted(both: BothEnds, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("balise.listen.door.ALWAYS_OF_ADDRESS", 2)
    monkeypatch.setattr("balise.listen.door.GRACE", 0.0)
    monkeypatch.setattr("balise.front.front.FIGURES_SECONDS", 0.1)
    some = [both.connect() for _ in range(5)]
    until(lambda: both.figures and both.figures[-1].counters.get("turned-out", 0) == 3)
    assert both.figures[-1].memory > 10 << 20
    assert both.figures[-1].cpu_seconds >= both.figures[0].cpu_seconds > 0
    for one in some:
        one.close()


def test_waiting_is_ended_with_the_line() -> None:
    """Nobody is left waiting for an answer that will not come."""
    waited = asyncio.Event()

    async def waits(_scope: Any, receive: Any, _send: Any) -> None:
        await receive()
        assert (await receive())["type"] == "http.disconnect"
        waited.set()

    made = BothEnds(waits)
    one = made.connect()
    one.sendall(get("/waits"))
    until(lambda: made.inside._asked)
    made.do(made.inside.cut)
    until(waited.is_set)
    made.stop()
    one.close()
