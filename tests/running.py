"""The real service on loopback, and what tests need around it."""

from __future__ import annotations

import contextlib
import json
import os
import random
import signal
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Callable
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any, TypeVar

from balise.api.access import Scope
from balise.client import Balise, BaliseError
from balise.server.people.access import Access
from balise.server.people.tokens import TokenBook
from balise.store.state.store import StateStore

T = TypeVar("T")
# How much slower than a quiet machine one may be on which other tests run too.
PATIENCE = 4
BALISE = str(Path(sys.executable).parent / "balise")


def often(times: int) -> int:
    """How often something is tried: in `make soak`, ten times as often as in the suite."""
    return times * 10 if os.environ.get("SOAK") == "yes" else times


def until(what: Callable[[], T], seconds: float = 20.0) -> T:
    """The first true answer of `what`; fails when there is none within the time, which is that of a quiet machine."""
    end = time.monotonic() + seconds * PATIENCE
    while True:
        value = what()
        if value:
            return value
        if time.monotonic() > end:
            raise AssertionError(f"still {value!r} after {seconds * PATIENCE} s")
        time.sleep(0.05)


def free_port() -> int:
    """A port nobody listens at, of those that are given to nobody who calls: it stays free until it is listened at."""
    while True:
        port = random.SystemRandom().randint(12_000, 32_000)
        with socket.socket() as s, contextlib.suppress(OSError):
            s.bind(("127.0.0.1", port))
            return port


class Service:
    """`balise serve` in a process of its own."""

    def __init__(self, folder: Path, *options: str) -> None:
        self.data = folder / "data"
        self._options = options
        self.port = free_port()
        self.url = f"http://127.0.0.1:{self.port}"
        self._log = folder / "serve.log"
        self._process: subprocess.Popen[bytes] | None = None
        self.start()
        self.tokens = self._make_tokens()

    def start(self) -> None:
        words = [BALISE, "serve", "--data", str(self.data), "--listen", f"127.0.0.1:{self.port}", *self._options]
        with self._log.open("ab") as output:
            self._process = subprocess.Popen(words, stdout=output, stderr=output, start_new_session=True)
        # Three of these may start at once beside other tests.
        until(self._started, 90)

    def _started(self) -> bool:
        assert self._process is not None and self._process.poll() is None, f"it ended: {self.log()[-2000:]}"
        return self._ready()

    def _ready(self) -> bool:
        try:
            with Balise(self.url) as client:
                return client.status().state == "ready"
        except BaliseError:
            return False

    def _make_tokens(self) -> dict[str, str]:
        """A token of every role, made in the data folder while the service runs, as the command line does."""
        state = StateStore(self.data)
        book = TokenBook(state=state, access=Access(state))
        roles = ("administrator", "operator", "viewer", "ingest")
        # Benches send for ten thousand hosts.
        scopes = {"ingest": Scope(new_hosts=20_000)}
        made = {role: book.make(f"the {role}", role, by="tests", scope=scopes.get(role))[1] for role in roles}
        state.close()
        return made

    def client(self, role: str = "administrator") -> Balise:
        return Balise(self.url, self.tokens[role])

    def stop(self, sign: int = signal.SIGTERM) -> None:
        if self._process and self._process.poll() is None:
            os.killpg(self._process.pid, sign)
            self._process.wait(30 * PATIENCE)

    @property
    def pid(self) -> int:
        assert self._process is not None
        return self._process.pid

    def log(self) -> str:
        return self._log.read_text("utf-8", "replace")


class Receiver:
    """A webhook's other end: keeps what it gets, and answers as it is told."""

    def __init__(self) -> None:
        self.got: list[tuple[dict[str, str], Any]] = []
        self.answers: list[int] = []
        outer = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers.get("Content-Length", 0)))
                status = outer.answers.pop(0) if outer.answers else 204
                if status < 300:
                    outer.got.append(({k.lower(): v for k, v in self.headers.items()}, json.loads(body)))
                self.send_response(status)
                self.end_headers()

            def log_message(self, *_words: object) -> None:
                pass

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.url = f"http://127.0.0.1:{self._server.server_port}/hook"
        threading.Thread(target=self._server.serve_forever, daemon=True).start()

    def events(self, kind: str, rule: str) -> list[Any]:
        return [e for _, e in self.got if e["type"] == f"balise.alert.{kind}" and e["data"].get("rule") == rule]

    def close(self) -> None:
        self._server.shutdown()
        self._server.server_close()
