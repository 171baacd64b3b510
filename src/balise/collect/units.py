"""Whether services run: systemd's units and their restarts, or, where there is no systemd, processes by name."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass

from balise.api.events import Severity
from balise.collect.readings import Found, LogLine, Meaning, Reading

MOST_UNITS = 300
LONGEST_COMM = 15
"""Letters of a process's name that the kernel keeps (proc(5))."""
ASK = (
    "systemctl", "show", "*.service", "--all", "--no-pager",
    "--property=Id,LoadState,ActiveState,SubState,Result,NRestarts",
)  # fmt: skip
"""One question for all units (systemctl(1)); it needs no rights."""


@dataclass(frozen=True, slots=True)
class UnitLook:
    """A unit as systemd has it: `state` is its ActiveState, `result` why it ended, `restarts` since it was started."""

    name: str
    state: str
    result: str = ""
    restarts: float = 0.0


def units(text: str) -> list[UnitLook]:
    """What `ASK` says: blocks of KEY=VALUE. Units that are only named by others, and not there, are left out."""
    found = []
    for block in text.split("\n\n"):
        said = dict(line.partition("=")[::2] for line in block.splitlines())
        if said.get("Id") and said.get("LoadState") == "loaded":
            restarts = said.get("NRestarts", "")
            found.append(
                UnitLook(
                    said["Id"].removesuffix(".service"),
                    said.get("ActiveState", ""),
                    said.get("Result", ""),
                    float(restarts) if restarts.isdecimal() else 0.0,
                )
            )
    return found


class WatchedProcesses:
    """Names that must run, looked for among processes: a name whose oldest process is a newer one was restarted.

    Args:
        begun: when the first process of each name was started, in the kernel's ticks.
    """

    def __init__(self, begun: Callable[[], Mapping[str, int]], watch: Sequence[str]) -> None:
        self._begun = begun
        self._watch = sorted(watch)
        self._seen: dict[str, tuple[int, float]] = {}

    def look(self) -> list[UnitLook]:
        begun = self._begun() if self._watch else {}
        found = []
        for name in self._watch:
            started = begun.get(name[:LONGEST_COMM])
            at, restarts = self._seen.get(name, (0, 0.0))
            if started is not None:
                restarts += bool(at) and started != at
                self._seen[name] = (started, restarts)
            found.append(UnitLook(name, "missing" if started is None else "active", "", restarts))
        return found


class Units:
    """Services that run, failed or were restarted; each change of them is an event.

    Args:
        look: the units there are now.
        watch: names that must run.
    """

    name = "units"
    meanings = {
        "balise.unit.running": Meaning(
            "{state}", "gauge", "1 while a unit runs, 0 when it failed or must run and is away"
        ),
        "balise.unit.restarts": Meaning("{restart}", "counter", "Restarts of a unit that nobody asked for"),
        "balise.units": Meaning("{unit}", "gauge", "Units by state"),
    }

    def __init__(self, look: Callable[[], Sequence[UnitLook]], watch: Sequence[str] = ()) -> None:
        self._look = look
        self._watch = {name.removesuffix(".service") for name in watch}
        self._before: dict[str, UnitLook] | None = None

    def read(self, now: float) -> Iterator[Found]:
        found = self._look()
        states: dict[str, float] = {}
        told: dict[str, UnitLook] = {}
        for unit in found:
            states[unit.state] = states.get(unit.state, 0.0) + 1
            if unit.state != "inactive" or unit.name in self._watch:
                told[unit.name] = unit
        for name in sorted(self._watch - {u.name for u in found}):
            told[name] = UnitLook(name, "missing")
        # What must run and what failed is told first: a bound must not hide it.
        order = sorted(told.values(), key=lambda u: (u.name not in self._watch, u.state != "failed", u.name))
        for unit in order[:MOST_UNITS]:
            yield from self._values(unit)
        for state, count in states.items():
            yield Reading("balise.units", count, {"balise.state": state})
        before, self._before = self._before, told
        if before is not None:
            for unit in order[:MOST_UNITS]:
                yield from self._changed(before.get(unit.name), unit, now)

    def _values(self, unit: UnitLook) -> Iterator[Reading]:
        named = {"balise.unit": unit.name}
        runs = unit.state in ("active", "reloading", "activating", "deactivating")
        yield Reading("balise.unit.running", float(runs), named)
        if unit.restarts or unit.name in self._watch:
            yield Reading("balise.unit.restarts", unit.restarts, named)

    @staticmethod
    def _changed(before: UnitLook | None, unit: UnitLook, now: float) -> Iterator[LogLine]:
        old = before.state if before is not None else "inactive"
        severity: Severity
        if unit.state in ("failed", "missing") and old != unit.state:
            why = f": {unit.result}" if unit.result not in ("", "success") else ""
            text, severity = f"{unit.name} {'failed' if unit.state == 'failed' else 'does not run'}{why}", "error"
        elif unit.state == "active" and old in ("failed", "missing"):
            text, severity = f"{unit.name} runs again", "notice"
        elif before is not None and unit.restarts > before.restarts:
            text, severity = f"{unit.name} was restarted, the {unit.restarts:.0f}. time", "warning"
        else:
            return
        yield LogLine(now, text, severity, "units", {"balise.unit": unit.name, "balise.state": unit.state})
