"""The systemd journal as events: of this system, or of journal files."""

from __future__ import annotations

import subprocess
import threading
from collections.abc import Callable, Iterator, Sequence

from balise.collect.position import Position
from balise.collect.readings import CollectorProblem, Found, LogLine, Meaning, NotHere
from balise.core.events.journal import CURSOR, entries, line_of, source_of

MOST_BYTES = 4 << 20
"""Bytes of entries that are read in one turn; what is beyond is read in the next."""
SECONDS = 10.0
Run = Callable[[Sequence[str]], bytes]
"""Runs a program and gives what it says, cut where it says too much."""


class Journal:
    """Entries since the last that was read, each once. The first time only what comes from then on is told.

    Args:
        paths: journal files, instead of the system's own journal.
        position: its mark is the cursor of the last entry.
    """

    name = "journal"
    meanings: dict[str, Meaning] = {}

    def __init__(self, paths: Sequence[str], position: Position | None = None, run: Run | None = None) -> None:
        self._words = ["journalctl", "-o", "export", "--no-pager", "-q", *(f"--file={path}" for path in paths)]
        self._run = run or run_program
        self.position = position or Position()
        self.lines = 0
        self.last_at: float | None = None

    def read(self, now: float) -> Iterator[Found]:
        if not self.position.mark:
            self._begin()
            return
        found, _ = entries(self._run([*self._words, f"--after-cursor={self.position.mark}"]))
        for entry in found:
            line = line_of(entry)
            self.lines, self.last_at = self.lines + 1, now
            yield LogLine(line.time or now, line.body, line.severity, source_of(entry), line.attributes)
            self.position = Position(1, 0, 0, entry.get(CURSOR, self.position.mark))

    def _begin(self) -> None:
        """Finds where the journal ends now."""
        found, _ = entries(self._run([*self._words, "-n", "1"]))
        cursor = found[-1].get(CURSOR, "") if found else ""
        if cursor:
            self.position = Position(1, 0, 0, cursor)


def run_program(words: Sequence[str]) -> bytes:
    """What a program says, at most so much and for so long.

    Raises:
        NotHere: there is no such program.
        CollectorProblem: it complains and says nothing.
    """
    try:
        process = subprocess.Popen(
            list(words), stdin=subprocess.DEVNULL, stdout=subprocess.PIPE, stderr=subprocess.PIPE
        )
    except FileNotFoundError:
        raise NotHere(f"there is no {words[0]}: this system has no journal") from None
    except OSError as error:
        raise CollectorProblem(f"{words[0]}: {error.strerror}") from None
    late = threading.Timer(SECONDS, process.kill)
    late.start()
    with process:
        if process.stdout is None or process.stderr is None:
            return b""
        out = process.stdout.read(MOST_BYTES)
        process.kill()
        complaint = process.stderr.read(2000).decode("utf-8", "replace").strip()
    late.cancel()
    if not out and complaint and "No entries" not in complaint:
        raise CollectorProblem(f"the journal cannot be read: {complaint.splitlines()[0][:200]}")
    return out
