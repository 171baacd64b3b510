"""What a process takes, with all that it began."""

from __future__ import annotations

import psutil


def used(process: psutil.Process) -> float:
    """Seconds of a core."""
    times = [one.cpu_times() for one in _all(process)]
    return sum(one.user + one.system for one in times)


def resident(process: psutil.Process) -> int:
    """Bytes of memory."""
    return sum(one.memory_info().rss for one in _all(process))


def _all(process: psutil.Process) -> list[psutil.Process]:
    return [process, *process.children(recursive=True)]
