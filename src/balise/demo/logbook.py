"""What the demo remembers between starts: when it began, which past was laid down, and which stories were asked for."""

from __future__ import annotations

import json
import time
from pathlib import Path
from typing import Any

from balise.demo.schedules import schedule_from
from balise.demo.stories import DAY, MINUTE, Occurrence, Schedule
from balise.demo.tales import TALES
from balise.durable import write_durably

FILE, ASKED = "demo.json", "stories.json"
MOST_ASKED, MOST_PASTS = 200, 50


class Logbook:
    """`held` has `started`, `until`, `days`, `seed`, `password` and `pasts`: `[started, from, to]` of each that was laid."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self.held: dict[str, Any] = _read(folder / FILE, {})
        self._seen = 0

    @property
    def begun(self) -> bool:
        """Whether a past was laid down, so that it is known what happens."""
        return "started" in self.held

    def keep(self) -> None:
        write_durably(self._folder / FILE, json.dumps(self.held).encode())

    def laid(self, start: float, end: float) -> None:
        """Notes which past was laid down, and by when the stories of it began."""
        self.held["pasts"] = [*self.held.get("pasts", []), [self.held["started"], start, end]][-MOST_PASTS:]

    def schedule(self) -> Schedule:
        """What happens, with what was asked for."""
        planned = schedule_from(self.held["started"], self.held["days"], seed=self.held.get("seed", 0))
        return Schedule([*planned.occurrences, *self._asked()])

    def has_news(self) -> bool:
        """Whether somebody asked for a story since the last look."""
        path = self._folder / ASKED
        changed = path.stat().st_mtime_ns if path.exists() else 0
        news, self._seen = changed != self._seen, changed
        return news

    def ask(self, story: str, at: float) -> Occurrence:
        """A story is to begin at a moment, in the demo that runs or the next that does."""
        one = Occurrence(story, at, at + sum(TALES[story].minutes) / 2 * MINUTE)
        asked = [*self._asked(), one][-MOST_ASKED:]
        text = json.dumps([[o.story, o.start, o.end] for o in asked])
        write_durably(self._folder / ASKED, text.encode())
        return one

    def told(self) -> list[Occurrence]:
        """The stories that happened in what was laid down, and since."""
        found: list[Occurrence] = []
        now = time.time()
        for started, start, end in self.held.get("pasts", []):
            planned = schedule_from(started, self.held["days"], seed=self.held.get("seed", 0))
            found += [one for one in planned.occurrences if start <= one.start < end]
        since = max((end for _, _, end in self.held.get("pasts", [])), default=now - DAY)
        found += [one for one in self.schedule().occurrences if since <= one.start <= now]
        return sorted({one for one in found if one.story in TALES}, key=lambda one: one.start)

    def _asked(self) -> list[Occurrence]:
        return [Occurrence(*one) for one in _read(self._folder / ASKED, []) if one[0] in TALES]


def _read(path: Path, nothing: Any) -> Any:
    try:
        return json.loads(path.read_text("utf-8"))
    except (OSError, ValueError):
        return nothing
