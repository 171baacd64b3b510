"""Senders that never pause, and what a console has of them afterwards."""

from __future__ import annotations

import contextlib
import random
import threading
import time

import httpx
import pytest

from balise.server.parts import Parts
from balise.store.events.day_search import Search
from running import Service
from sending import NS, gauge_request, log_request, post

DAY = 86_400 * NS


class Stream:
    """Sends points and lines without pause, each body again until it is answered, sometimes regrouped or repeated."""

    def __init__(self, service: Service, seed: int) -> None:
        self._service = service
        self._random = random.Random(seed)
        self._host = f"pier-{seed}"
        self._stop = threading.Event()
        self._begin = time.time() - 3600
        self.points: set[float] = set()
        self.lines: set[str] = set()
        self._thread = threading.Thread(target=self._run, daemon=True)
        self._thread.start()

    def _run(self) -> None:
        number = 0
        while not self._stop.is_set():
            at = [round(self._begin + number + i / 8, 3) for i in range(8)]
            if self._random.random() < 0.3 and number:
                # A sender that regroups: half of what it sent before comes with the new.
                at = [round(self._begin + number - 1 + i / 8, 3) for i in range(4, 12)]
            request = gauge_request(self._host, "tide", [(t, t % 100) for t in at])
            self._sent("metrics", request.SerializeToString())
            self.points.update(at)
            line = f"line {number} of {self._host}"
            name = f"{self._host}-{number}"
            body = log_request(self._host, [(self._begin + number, 9, line)]).SerializeToString()
            self._sent("logs", body, X_Balise_Delivery=name)
            if self._random.random() < 0.2:
                self._sent("logs", body, X_Balise_Delivery=name)
            self.lines.add(line)
            number += 1

    def _sent(self, kind: str, body: bytes, **headers: str) -> None:
        """Tries until the body is acknowledged: what was sent at the very end is then there as well."""
        while True:
            with contextlib.suppress(httpx.HTTPError):
                if post(self._service.url, self._service.tokens["ingest"], kind, body, **headers).status_code == 200:
                    return
            time.sleep(0.05)

    def stop(self) -> None:
        self._stop.set()
        self._thread.join(60)

    def check(self, console: Parts) -> None:
        """Everything that was acknowledged is there, once."""
        points, lines = self.kept(console)
        assert [at for at, _ in points] == sorted(self.points)
        assert lines == sorted(self.lines)

    def kept(self, console: Parts) -> tuple[list[tuple[float, float]], list[str]]:
        """The points and the lines that a console has of this sender."""
        known = console.directory.find(self._host)
        assert known is not None
        metric = console.series.catalogue.metrics["tide"]
        (number,) = console.series.catalogue.series_of(metric.id, known.id)
        times, values = console.series.reader.raw([number], 0, 1 << 62)[0]
        points = [(round(t / NS, 3), v) for t, v in zip(times.tolist(), values.tolist(), strict=True)]
        assert [v for _, v in points] == pytest.approx([t % 100 for t, _ in points])
        search = Search(int((self._begin - 60) * NS), time.time_ns() + DAY, self._host.replace("-", " "))
        bodies, cursor = [], None
        while True:
            found, cursor = console.events.find(search, 500, cursor)
            bodies += [e.body for e in found if e.host == self._host]
            if cursor is None:
                break
        return points, sorted(bodies)
