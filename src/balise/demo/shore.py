"""Stand-ins for what is outside of a console: a control room's webhook end, a gateway for short messages, a mail server.

All that they get is kept in the folder `told` beside the demo's data, so that it can be looked at.
"""

from __future__ import annotations

import json
import socket
import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from socketserver import BaseRequestHandler, TCPServer
from typing import Any

from aiosmtpd.controller import Controller

MOST_BYTES, MOST_KEPT = 1 << 20, 200


class Shore:
    """Takes what is told, on loopback, and keeps the last of it."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder / "told"
        self._folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        self._lock = threading.Lock()
        shore = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                length = min(int(self.headers.get("Content-Length") or 0), MOST_BYTES)
                body = self.rfile.read(length)
                shore.keep(self.path.strip("/").replace("/", "-")[:40] or "webhook", "json", body)
                answer = json.dumps({"status": "accepted"}).encode()
                self.send_response(202)
                self.send_header("Content-Length", str(len(answer)))
                self.end_headers()
                self.wfile.write(answer)

            def log_message(self, *_words: object) -> None:
                pass

        class Mailbox:
            async def handle_DATA(self, _server: Any, _session: Any, envelope: Any) -> str:
                shore.keep("mail", "eml", envelope.content)
                return "250 kept"

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        threading.Thread(target=self._server.serve_forever, name="shore", daemon=True).start()
        self.mail_port, self.barrier_port = _free_port(), _free_port()
        self._barrier: _Barrier | None = None
        self.set_barrier(lost=False)
        self._mail = Controller(Mailbox(), hostname="127.0.0.1", port=self.mail_port)
        self._mail.start()
        self.url = f"http://127.0.0.1:{self._server.server_port}"

    def set_barrier(self, *, lost: bool) -> None:
        """The barrier of pier 2 answers, or its controller has lost the network."""
        if lost and self._barrier is not None:
            self._barrier.shutdown()
            self._barrier.server_close()
            self._barrier = None
        elif not lost and self._barrier is None:
            self._barrier = _Barrier(("127.0.0.1", self.barrier_port), BaseRequestHandler)
            threading.Thread(target=self._barrier.serve_forever, name="barrier", daemon=True).start()

    def keep(self, kind: str, suffix: str, content: bytes) -> None:
        """Keeps something that came; the oldest of many goes."""
        with self._lock:
            path = self._folder / f"{kind}-{time.time_ns()}.{suffix}"
            path.write_bytes(content)
            for old in sorted(self._folder.glob(f"{kind}-*"))[:-MOST_KEPT]:
                old.unlink(missing_ok=True)

    def stop(self) -> None:
        self._server.shutdown()
        self._server.server_close()
        self.set_barrier(lost=True)
        self._mail.stop()


class _Barrier(TCPServer):
    """Takes connections, and ends them."""

    allow_reuse_address = True


def _free_port() -> int:
    with socket.socket() as free:
        free.bind(("127.0.0.1", 0))
        return int(free.getsockname()[1])
