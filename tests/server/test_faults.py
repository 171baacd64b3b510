"""Killed in the middle of everything: what was acknowledged is there once, and the house goes on afterwards."""

from __future__ import annotations

import asyncio
import random
import signal
import threading
import time
from collections.abc import Callable
from pathlib import Path

from balise.server.life import begin, close, end_waits
from balise.server.parts import build
from balise.server.settings import Settings
from running import Service, often, until
from streaming import DAY, Stream


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
