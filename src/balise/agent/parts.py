"""The parts of this system: each read as often as the plan says, and none for longer than it may take."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from typing import Any

from balise.agent.aside import Aside, Deliver
from balise.agent.part import Part
from balise.api.parts import CollectorSetting, default_setting
from balise.collect.here import system_collectors
from balise.collect.parts import MADE, SLOW
from balise.collect.position import Position
from balise.collect.readings import CollectorProblem, Found, LogLine, Meaning, NotHere, Sorted

PLACES = {"messages": "/dev/kmsg", "journal": "the journal"}
"""What the places of parts that are read like files are kept under."""


class Parts:
    """Every part of this system that its plan wants.

    Args:
        settings: what the plan says now, by part.
        every: seconds between turns now.
        deliver: takes what slow parts found.
        place_of: how far something was read before, by path.
    """

    def __init__(
        self,
        settings: Callable[[], Mapping[str, CollectorSetting]],
        every: Callable[[], float],
        deliver: Deliver,
        place_of: Callable[[str], Position | None],
    ) -> None:
        self._settings = settings
        self._every = every
        self._place_of = place_of
        self._usual = {c.name: c for c in system_collectors()}
        self._parts: dict[str, Part] = {}
        self._aside = Aside(self._found, deliver)

    @property
    def names(self) -> set[str]:
        return {*self._usual, *MADE}

    def first(self, now: float) -> list[LogLine]:
        """Looks at all quick parts once before the first turn: shares and rates need two looks. Answers the lines."""
        self._take_up()
        out = Sorted()
        for name, part in self._parts.items():
            if name not in SLOW:
                out.add(self._found(part, now))
        return out.lines

    def read(self, now: float) -> Sorted:
        """What the quick parts that are due tell; the slow ones are read aside, and deliver when they have ended."""
        self._take_up()
        out = Sorted()
        for name, part in self._parts.items():
            if not self._is_due(part, now):
                continue
            if name in SLOW:
                self._aside.begin(part)
            else:
                out.add(self._found(part, now))
        return out

    def meanings(self) -> dict[str, Meaning]:
        return {k: m for part in self._parts.values() for k, m in part.collector.meanings.items()}

    def costs(self) -> dict[str, float]:
        """Seconds of processor time of each part's last reading."""
        return {name: part.costs[-1] for name, part in self._parts.items() if part.costs}

    def turn_cost(self) -> float:
        """Seconds of processor time a turn, parts that are read more seldom with their share."""
        turn = self._every()
        return sum(
            part.costs[-1] * turn / max(turn, part.setting.every or turn) for part in self._parts.values() if part.costs
        )

    def problems(self) -> dict[str, str]:
        return {name: part.problem for name, part in self._parts.items() if part.problem}

    def positions(self) -> dict[str, Position]:
        """How far the kernel's messages and the journal were read."""
        found = {}
        for name, place in PLACES.items():
            held = getattr(self._parts[name].collector, "position", None) if name in self._parts else None
            if isinstance(held, Position):
                found[place] = held
        return found

    def journal(self) -> dict[str, Any] | None:
        """How reading the journal goes, as a source; None when it is not read."""
        part = self._parts.get("journal")
        if part is None:
            return None
        told = {"path": PLACES["journal"], "kind": "journal", "status": "unreadable" if part.problem else "following"}
        counts = {"lines": getattr(part.collector, "lines", 0), "last_at": getattr(part.collector, "last_at", None)}
        return {**told, "detail": part.problem or "what systemd and its units say", **counts}

    def read_again(self) -> None:
        """What was read since the last kept place was not kept: goes back to it."""
        for name in PLACES:
            self._parts.pop(name, None)

    def close(self) -> None:
        self._aside.close()

    # --- what is read

    def _take_up(self) -> None:
        """Makes what the plan wants, and lets go of what it no longer does. A part that is off costs nothing."""
        said = self._settings()
        for name in [*self._usual, *MADE]:
            setting = said.get(name) or default_setting(name)
            held = self._parts.get(name)
            if not setting.on:
                self._parts.pop(name, None)
            elif held is None or held.setting != setting:
                collector = self._usual.get(name) or MADE[name](setting, self._place_of(PLACES.get(name, "")))
                self._parts[name] = Part(collector, setting)

    def _is_due(self, part: Part, now: float) -> bool:
        moment = time.monotonic()
        if part.busy or moment < part.stopped_until:
            return False
        often = part.setting.every or 0.0
        if now < part.due - self._every() / 2 and part.due - now <= often:
            return False
        part.due = now + often
        return True

    def _found(self, part: Part, now: float) -> list[Found]:
        began = time.thread_time()
        found: list[Found] = []
        problem = ""
        try:
            for one in part.collector.read(now):
                found.append(one)
        except NotHere as error:
            problem = str(error) if part.collector.name in self._settings() else ""
        except CollectorProblem as error:
            # What was found until then holds.
            problem = str(error)
        except Exception as error:  # noqa: BLE001  one collector that fails must not stop the others
            found, problem = [], f"{type(error).__name__}: {error}"
        part.judge(time.thread_time() - began, problem, self._every())
        return found
