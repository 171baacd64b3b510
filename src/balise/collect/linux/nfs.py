"""Mounted network filesystems: /proc/self/mountstats (its form: net/sunrpc/stats.c, fs/nfs/super.c of Linux)."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field

from balise.collect.readings import Meaning, Reading

_DEVICE = re.compile(r"device (?P<server>\S+) mounted on (?P<place>\S+) with fstype (?P<type>nfs4?)\b")
_OPERATION = re.compile(r"\s+(?P<name>[A-Z_]+):((?: \d+){8,9})$")
MOST_MOUNTS = 50
TOLD = ("READ", "WRITE", "GETATTR", "LOOKUP", "OPEN", "COMMIT")
"""Operations told by name; the others are added up."""


@dataclass
class NfsLook:
    """One mount: by operation how many there were, how often sent, timeouts, and milliseconds they took."""

    server: str
    mountpoint: str
    read: float = 0.0
    written: float = 0.0
    operations: dict[str, tuple[float, float, float, float]] = field(default_factory=dict)


def nfs_mounts(mountstats: str) -> list[NfsLook]:
    """The mounts of type nfs and nfs4."""
    found: list[NfsLook] = []
    here: NfsLook | None = None
    for line in mountstats.splitlines():
        if line.startswith("device "):
            named = _DEVICE.match(line)
            here = NfsLook(named["server"], named["place"].replace(r"\040", " ")) if named else None
            if here is not None and len(found) < MOST_MOUNTS:
                found.append(here)
            continue
        if here is None:
            continue
        if line.strip().startswith("bytes:") and len(words := line.split()) >= 7:
            # The fifth and sixth number: what went over the wire.
            here.read, here.written = float(words[5]), float(words[6])
        elif one := _OPERATION.match(line):
            n = [float(word) for word in one[2].split()]
            here.operations[one["name"]] = (n[0], n[1], n[2], n[7])
    return found


class Nfs:
    """What goes to and from file servers, and how long they take."""

    name = "nfs"
    meanings = {
        "balise.nfs.io": Meaning("By", "counter", "Bytes read from and written to a file server"),
        "balise.nfs.operations": Meaning("{operation}", "counter", "Operations asked of a file server"),
        "balise.nfs.repeated": Meaning("{operation}", "counter", "Operations that had to be sent again"),
        "balise.nfs.latency": Meaning("s", "gauge", "Seconds an operation took, mean since the last reading"),
    }

    def __init__(self, look: Callable[[], str]) -> None:
        self._look = look
        self._before: dict[tuple[str, str], tuple[float, float]] = {}

    def read(self, now: float) -> Iterator[Reading]:
        del now
        before, self._before = self._before, {}
        for mount in nfs_mounts(self._look()):
            named = {"system.filesystem.mountpoint": mount.mountpoint, "server.address": mount.server}
            yield Reading("balise.nfs.io", mount.read, {**named, "nfs.direction": "read"})
            yield Reading("balise.nfs.io", mount.written, {**named, "nfs.direction": "write"})
            sums: dict[str, tuple[float, float, float]] = {}
            for name, (count, sent, _, took) in mount.operations.items():
                key = name.lower() if name in TOLD else "other"
                held = sums.get(key, (0.0, 0.0, 0.0))
                sums[key] = (held[0] + count, held[1] + max(0.0, sent - count), held[2] + took)
            for name, (count, repeated, took) in sums.items():
                told = {**named, "nfs.operation": name}
                yield Reading("balise.nfs.operations", count, told)
                yield Reading("balise.nfs.repeated", repeated, told)
                self._before[mount.mountpoint, name] = (count, took)
                old = before.get((mount.mountpoint, name))
                if old is not None and count > old[0] and took >= old[1]:
                    yield Reading("balise.nfs.latency", round((took - old[1]) / (count - old[0]) / 1000, 6), told)
