"""What the kernel says: its messages from /dev/kmsg (Documentation/ABI/testing/dev-kmsg of Linux)."""

from __future__ import annotations

import os
import re
import time
from collections.abc import Callable, Iterator

from balise.api.events import SEVERITIES
from balise.collect.position import Position
from balise.collect.readings import Found, LogLine, Meaning, NotHere, Reading

PLACE = "/dev/kmsg"
MOST_AT_ONCE = 500
WHOLE = 100_000
"""Records that the kernel keeps at most, and more."""
LONGEST = 8192
NOTABLE = (
    ("out-of-memory", r"Out of memory: Killed process (?P<pid>\d+) \((?P<name>[^)]*)\)|Memory cgroup out of memory"),
    ("storage-error", r"(?:I/O|critical \w+) error, dev|Medium Error|Unrecovered read error|nvme\S+ .*(timeout|reset)"),
    ("filesystem-error", r"(?:EXT4-fs|XFS|BTRFS)\S* .*(?:error|corrupt|shut ?down)|Remounting filesystem read-only"),
    ("crash", r"(?:segfault at|general protection fault|traps: \S+\[\d+\]|Kernel panic|BUG:|Oops)"),
    ("hung", r"(?:blocked for more than \d+ seconds|soft lockup|hard LOCKUP|rcu\S* .*stall)"),
    ("hardware", r"(?:\[Hardware Error\]|mce: |EDAC .*[CU]E|temperature above threshold|clock throttled)"),
    ("network-link", r"(?:[Ll]ink is [Dd]own|NIC Link is Down|link becomes ready|Link is Up)"),
)  # fmt: skip
"""Kinds of messages that somebody ought to see, and the kernel's words that tell them."""
_NOTABLE = [(kind, re.compile(pattern)) for kind, pattern in NOTABLE]
_RECORD = re.compile(r"(?P<priority>\d+),(?P<number>\d+),(?P<moment>\d+),[^;]*;(?P<text>[^\n]*)")


def notable(text: str) -> tuple[str, dict[str, str]]:
    """The kind of a message, empty for an ordinary one, and what it says of a process."""
    for kind, pattern in _NOTABLE:
        found = pattern.search(text)
        if found:
            names = {"pid": "process.pid", "name": "process.executable.name"}
            return kind, {names[k]: v for k, v in found.groupdict().items() if v}
    return "", {}


class KernelMessages:
    """The kernel's messages as events, each once, over restarts too.

    Args:
        place: where they are read.
        boot: a number of this start of the system: messages are numbered anew with each.
        position: what was read last; without one only what comes from now on is told.
    """

    name = "messages"
    meanings = {
        "balise.kernel.notable": Meaning("{message}", "counter", "Messages of the kernel that somebody ought to see"),
    }

    def __init__(
        self,
        boot: int,
        position: Position | None = None,
        *,
        place: str = PLACE,
        monotonic: Callable[[], float] = time.monotonic,
    ) -> None:
        self._place = place
        self._monotonic = monotonic
        self._from = position.offset if position is not None and position.inode == boot else None
        self.position = Position(boot, self._from or 0)
        self._file: int | None = None
        self._counts: dict[str, float] = {kind: 0.0 for kind, _ in NOTABLE}

    def read(self, now: float) -> Iterator[Found]:
        if self._file is None:
            self._file = self._open()
            if self._from is None:
                self._from = max((number for number, _ in self._records(self._file, WHOLE)), default=0)
                self.position = Position(self.position.inode, self._from)
        started = now - self._monotonic()
        for number, said in self._records(self._file, MOST_AT_ONCE):
            if number > self.position.offset:
                self.position = Position(self.position.inode, number)
                yield self._line(said, started)
        for kind, count in self._counts.items():
            yield Reading("balise.kernel.notable", count, {"balise.kernel.event": kind})

    @staticmethod
    def _records(file: int, most: int) -> Iterator[tuple[int, re.Match[str]]]:
        """Records that are there now, with their numbers: each call of read gives one."""
        for _ in range(most):
            try:
                record = os.read(file, LONGEST)
            except BlockingIOError:
                return
            except BrokenPipeError:
                # What was not read in time was overwritten; the next record is the oldest there is.
                continue
            if not record:
                return
            said = _RECORD.match(record.decode("utf-8", "replace"))
            if said is not None:
                yield int(said["number"]), said

    def _open(self) -> int:
        try:
            file = os.open(self._place, os.O_RDONLY | os.O_NONBLOCK)
        except PermissionError:
            raise NotHere(
                "the agent may not read the kernel's messages: give its unit AmbientCapabilities=CAP_SYSLOG, "
                "or switch them off (collect.messages)"
            ) from None
        return file

    def _line(self, said: re.Match[str], started: float) -> LogLine:
        kind, attributes = notable(said["text"])
        if kind:
            attributes["balise.kernel.event"] = kind
            self._counts[kind] += 1
        # The facility is above the three bits of the severity (RFC 5424, table 2).
        severity = SEVERITIES[int(said["priority"]) & 7]
        return LogLine(started + int(said["moment"]) / 1e6, said["text"], severity, "kernel", attributes)


def boot_number() -> int:
    """A number of this start of the system; 0 where it does not tell."""
    try:
        with open("/proc/sys/kernel/random/boot_id", encoding="ascii") as file:
            return int(file.read().strip().replace("-", "")[:12], 16)
    except (OSError, ValueError):
        return 0
