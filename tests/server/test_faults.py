"""Killed in the middle of everything: what was acknowledged is there once, and the house goes on afterwards."""

from __future__ import annotations

import asyncio
import contextlib
import random
import signal
import threading
import time
from collections.abc import Callable
from pathlib import Path

import httpx
import pytest

from balise.server.life import begin, close, end_waits
from balise.server.parts import Parts, build
from balise.server.settings import Settings
from balise.store.events.day_search import Search
from running import Service, often, until
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
        known = console.directory.find(self._host)
        assert known is not None
        metric = console.series.catalogue.metrics["tide"]
        (number,) = console.series.catalogue.series_of(metric.id, known.id)
        times, values = console.series.reader.raw([number], 0, 1 << 62)[0]
        assert [round(t / NS, 3) for t in times.tolist()] == sorted(self.points)
        assert values.tolist() == pytest.approx([t % 100 for t in sorted(self.points)])
        search = Search(int((self._begin - 60) * NS), time.time_ns() + DAY, self._host.replace("-", " "))
        bodies, cursor = [], None
        while True:
            found, cursor = console.events.find(search, 500, cursor)
            bodies += [e.body for e in found if e.host == self._host]
            if cursor is None:
                break
        assert sorted(bodies) == sorted(self.lines)


def test_what_was_acknowledged_is_there_once_after_any_kill(tmp_path: Path) -> None:
    service = Service(tmp_path)
    streams = [Stream(service, seed) for seed in range(3)]
    pause = random.Random(7)
    for _ in range(often(5)):
        time.sleep(pause.uniform(0.4, 1.5))
        service.stop(signal.SIGKILL)
        service.start()
    for stream in streams:
        stream.stop()
    service.stop()
    assert "Traceback" not in service.log()
    console = build(Settings(data=service.data))
    for sealed in (False, True):
        if sealed:
            console.series.seal(time.time_ns())
            assert console.series.head.samples == 0
            console.series.compact(time.time_ns() + 3 * DAY)
        for stream in streams:
            stream.check(console)
    console.series.forget(time.time_ns() + 20 * DAY)
    assert console.series.stored_samples() == 0
    assert console.events.forget(time.time_ns() + 40 * DAY)
    close(console)


def test_every_worker_that_dies_comes_back_and_says_so(tmp_path: Path) -> None:
    console = build(Settings(data=tmp_path))
    loop = asyncio.new_event_loop()
    thread = threading.Thread(target=loop.run_forever, daemon=True)
    thread.start()
    loop.call_soon_threadsafe(begin, console, loop)
    until(lambda: len(console.workers._workers) >= 9 and all(w._thread is not None for w in console.workers._workers))
    time.sleep(1.5)
    for worker in console.workers._workers:
        worker._pause = 0.05
        worker._step = _dies_once(worker._step)
        # Those that sleep for long are woken by a thread of their own.
        worker.once()
        worker.once()
    assert [w.name for w in console.workers._workers if w.failures.count < 1 or w.failures.in_a_row] == []
    told = " ".join(console.figures.warnings())
    assert all(f"{w.name!r} failed" in told for w in console.workers._workers)
    end_waits(console)
    close(console)
    loop.call_soon_threadsafe(loop.stop)
    thread.join(10)
    loop.close()


def _dies_once(step: Callable[[], object]) -> Callable[[], object]:
    died: list[bool] = []

    def first_dies() -> object:
        if not died:
            died.append(True)
            raise SystemExit("injected")
        return step()

    return first_dies
