"""Made-up network devices that only speak syslog, each a line now and then over UDP."""

from __future__ import annotations

import random
import socket
import time

_LINES = {
    "switch-n1": ("port-security", ("interface ge-0/0/{p} is up", "interface ge-0/0/{p} is down, link lost", "stp: port {p} is forwarding")),
    "camera-s2": ("viewer", ("motion on pier {p}", "stream {p} lost {n} frames", "lens cleaned at pier {p}")),
}  # fmt: skip


class Devices:
    """Sends to a receiver on loopback; `step` is called every few seconds."""

    def __init__(self, port: int) -> None:
        self._to = ("127.0.0.1", port)
        self._chance = random.Random(7)
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)

    def step(self) -> None:
        for name, (app, lines) in _LINES.items():
            if self._chance.random() < 0.4:
                continue
            text = self._chance.choice(lines).format(p=self._chance.randrange(1, 9), n=self._chance.randrange(2, 900))
            severity = 4 if "lost" in text else 6
            moment = time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime())
            self._socket.sendto(f"<{16 * 8 + severity}>1 {moment} {name} {app} - - - {text}".encode(), self._to)
