"""Slow parts, read beside the others."""

from __future__ import annotations

import contextlib
import resource
import threading
import time
from collections.abc import Callable, Mapping
from concurrent.futures import ThreadPoolExecutor

import psutil

from balise.agent.part import Part
from balise.collect.readings import Found, Meaning, Sorted

Deliver = Callable[[float, Sorted, Mapping[str, Meaning]], None]
"""Keeps durably what was read aside at a time, unix seconds. Raises OSError when it cannot."""


class Aside:
    """Reads slow parts one after another in a thread of its own.

    Args:
        found: reads one part at a time, unix seconds.
        deliver: takes what it found.
    """

    def __init__(self, found: Callable[[Part, float], list[Found]], deliver: Deliver) -> None:
        self._found = found
        self._deliver = deliver
        self._pool: ThreadPoolExecutor | None = None
        self._stop = threading.Event()

    def begin(self, part: Part) -> None:
        if self._pool is None:
            self._pool = ThreadPoolExecutor(1, "aside", initializer=_stand_back)
        part.busy = True
        self._pool.submit(self._read, part)

    def close(self) -> None:
        self._stop.set()
        if self._pool is not None:
            self._pool.shutdown(wait=False, cancel_futures=True)

    def _read(self, part: Part) -> None:
        try:
            before, now = _children_seconds(), time.time()
            out = Sorted()
            out.add(self._found(part, now))
            if part.costs:
                # Programs that it ran are part of what it took.
                part.costs[-1] += _children_seconds() - before
            if not self._stop.is_set():
                self._deliver(now, out, part.collector.meanings)
        except OSError as error:
            part.problem = f"cannot keep what was collected: {error.strerror}"
        finally:
            part.busy = False


def _children_seconds() -> float:
    used = resource.getrusage(resource.RUSAGE_CHILDREN)
    return used.ru_utime + used.ru_stime


def _stand_back() -> None:
    """What is read aside comes after everybody else at the disks (ioprio_set(2) is for one thread)."""
    with contextlib.suppress(psutil.Error, OSError, AttributeError):
        psutil.Process(threading.get_native_id()).ionice(psutil.IOPRIO_CLASS_IDLE)
