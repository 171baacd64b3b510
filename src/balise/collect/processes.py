"""Processes and people: how many, which are busiest, and who is signed in."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field

from balise.collect.readings import Found, Kept, Meaning, Reading

MOST_SIGNED_IN = 200
MOST_USERS = 12
KEEP_SHOWING = 600.0
"""Seconds for which a program goes on being told after it was last among the busiest, so that its line ends low."""
MOST_SHOWN = 24
MOST_PROGRAMS = 200
"""Programs that become series of their own in the life of a collector; later ones are told together."""
OTHERS = "(others)"


@dataclass(frozen=True, slots=True)
class ProcessLook:
    """One process: `started` tells a new one of the same number, `cpu` seconds since then, `memory` in bytes.

    `terminal` is the number of its terminal's device and `parent` the process that started it, 0 for none.
    """

    pid: int
    started: int
    state: str
    cpu: float
    memory: int
    name: str = ""
    owner: str = ""
    terminal: int = 0
    parent: int = 0


@dataclass(frozen=True, slots=True)
class ProcessAbout:
    """What is asked of the busiest processes alone. `command` is without secrets; `io` bytes read and written since
    its start, None where that may not be known; `started` unix seconds, 0 for unknown; `unit` of the system."""

    name: str
    command: str = ""
    unit: str = ""
    io: float | None = None
    started: float = 0.0


AboutOf = Callable[[ProcessLook, ProcessAbout | None], ProcessAbout]
"""Answers what is known of a process, from what was known of it before."""


def named_alone(process: ProcessLook, _before: ProcessAbout | None) -> ProcessAbout:
    """What is known of a process without asking more: its name."""
    return ProcessAbout(process.name)


@dataclass(slots=True)
class Share:
    """What several processes take together: cores and bytes."""

    cpu: float = 0.0
    memory: float = 0.0
    count: int = 0

    def add(self, cpu: float, memory: int) -> None:
        self.cpu, self.memory, self.count = self.cpu + cpu, self.memory + memory, self.count + 1


@dataclass
class Shares:
    """What programs, users and terminals take."""

    programs: dict[tuple[str, str], Share] = field(default_factory=dict)
    users: dict[str, Share] = field(default_factory=dict)
    terminals: dict[int, Share] = field(default_factory=dict)

    def add(self, process: ProcessLook, cpu: float) -> None:
        # Threads of the kernel hold no memory, and behind a stroke have what they do just now.
        name = process.name if process.memory else process.name.partition("/")[0]
        of: list[Share] = [
            self.programs.setdefault((name, process.owner), Share()),
            self.users.setdefault(process.owner, Share()),
        ]
        if process.terminal:
            of.append(self.terminals.setdefault(process.terminal, Share()))
        for share in of:
            share.add(cpu, process.memory)


class Processes:
    """How many processes there are, and which are busiest, by processor, memory and storage: as evidence one by one, as
    series by program and user.

    Args:
        look: the moment of looking (monotonic seconds) and all processes.
        about: more of a process; asked of the busiest alone.
    """

    name = "processes"
    keep = 8
    meanings = {
        "system.process.count": Meaning("{process}", "gauge", "Processes by state"),
        "balise.program.cpu": Meaning("1", "gauge", "Cores that the processes of a program keep busy, for the busiest"),
        "balise.program.memory": Meaning("By", "gauge", "Memory that the processes of a program hold, for the largest"),
        "balise.program.processes": Meaning("{process}", "gauge", "Processes of a program, for the busiest"),
    }
    _states = {
        "R": "running", "S": "sleeping", "D": "waiting", "Z": "zombie", "T": "stopped", "t": "stopped", "I": "sleeping",
    }  # fmt: skip

    def __init__(
        self,
        look: Callable[[], tuple[float, Iterable[ProcessLook]]],
        about: AboutOf = named_alone,
    ) -> None:
        self._look = look
        self._about = about
        self._before: dict[tuple[int, int], float] | None = None
        self._at = 0.0
        self._passed = 0.0
        self._shown_before: dict[tuple[int, int], tuple[ProcessLook, ProcessAbout]] = {}
        self._moving: list[tuple[int, int]] = []
        self._shown: dict[tuple[str, str], float] = {}
        self._told: set[tuple[str, str]] = set()
        self.shares = Shares()

    def read(self, now: float) -> Iterator[Found]:
        moment, found = self._look()
        states: dict[str, int] = {}
        processes: dict[tuple[int, int], ProcessLook] = {}
        for process in found:
            state = self._states.get(process.state, "other")
            states[state] = states.get(state, 0) + 1
            processes[process.pid, process.started] = process
        cores = self._cores(processes, moment)
        self.shares = Shares()
        for key, process in processes.items():
            self.shares.add(process, cores[key])
        for state in ("running", "sleeping", "waiting", "zombie", "stopped"):
            yield Reading("system.process.count", float(states.get(state, 0)), {"process.state": state})
        yield from self._programs(moment)
        yield Kept(now, "balise.evidence.processes", self._busiest(processes, cores, now))

    def _cores(
        self, processes: Mapping[tuple[int, int], ProcessLook], moment: float
    ) -> Mapping[tuple[int, int], float]:
        """Cores that each kept busy since the last reading; nothing at the first."""
        before, passed = self._before, max(moment - self._at, 0.001)
        self._passed = passed
        self._before, self._at = {key: process.cpu for key, process in processes.items()}, moment
        if before is None:
            return dict.fromkeys(processes, 0.0)
        return {k: max(0.0, p.cpu - before.get(k, 0.0)) / passed for k, p in processes.items()}

    def _busiest(
        self, processes: Mapping[tuple[int, int], ProcessLook], cores: Mapping[tuple[int, int], float], now: float
    ) -> list[dict[str, object]]:
        by_cpu = sorted((k for k in cores if cores[k] > 0.0005), key=lambda k: -cores[k])[: self.keep]
        by_memory = sorted(processes, key=lambda k: -processes[k].memory)[: self.keep]
        # To ask every process what it reads and writes costs more than it tells: who waits for storage just now is
        # asked, and who moved much when last asked.
        waiting = [key for key, process in processes.items() if process.state == "D" and process.memory][: self.keep]
        moving = [key for key in self._moving if key in processes]
        chosen = dict.fromkeys([*by_cpu, *by_memory, *waiting, *moving])
        before, passed = self._shown_before, self._passed
        self._shown_before = {
            key: (processes[key], self._about(processes[key], before[key][1] if key in before else None))
            for key in chosen
        }
        paces = {key: _pace(shown[1], before.get(key), passed) for key, shown in self._shown_before.items()}
        # Of whom nothing is known yet, the next look will tell.
        new = [key for key in waiting if paces[key] is None]
        most = sorted((k for k, pace in paces.items() if pace), key=lambda k: -(paces[k] or 0.0))
        self._moving = [*new, *most][: self.keep]
        told = [_row(*shown, cores[key], paces[key]) for key, shown in self._shown_before.items()]
        # One that was told of and is there no more has ended; one that is only less busy has not.
        ended = [shown for key, shown in before.items() if key not in processes]
        return told + [{**_row(*shown, 0.0, None), "memory": 0, "ended": round(now, 1)} for shown in ended]

    def _programs(self, moment: float) -> Iterator[Reading]:
        """The busiest programs, and those that were a short time ago."""
        programs = self.shares.programs
        by_cpu = sorted((p for p in programs if programs[p].cpu > 0.0005), key=lambda p: -programs[p].cpu)
        by_memory = sorted(programs, key=lambda p: -programs[p].memory)
        self._shown.update(dict.fromkeys([*by_cpu[: self.keep], *by_memory[: self.keep // 2]], moment))
        latest = sorted(self._shown.items(), key=lambda s: -s[1])[:MOST_SHOWN]
        self._shown = {p: at for p, at in latest if moment - at < KEEP_SHOWING}
        told: dict[tuple[str, str], Share] = {}
        for program in self._shown:
            if len(self._told) < MOST_PROGRAMS:
                self._told.add(program)
            name = program if program in self._told else (OTHERS, "")
            share, held = programs.get(program, Share()), told.setdefault(name, Share())
            held.cpu, held.memory = held.cpu + share.cpu, held.memory + share.memory
            held.count += share.count
        for (executable, owner), share in told.items():
            named = {"process.executable.name": executable, "process.owner": owner}
            yield Reading("balise.program.cpu", round(share.cpu, 4), named)
            yield Reading("balise.program.memory", share.memory, named)
            yield Reading("balise.program.processes", float(share.count), named)


def _pace(about: ProcessAbout, before: tuple[ProcessLook, ProcessAbout] | None, passed: float) -> float | None:
    """Bytes a second that a process read and wrote since it was last among the busiest; None where nobody knows."""
    if before is None or about.io is None or before[1].io is None:
        return None
    return max(0.0, about.io - before[1].io) / passed


def _row(look: ProcessLook, about: ProcessAbout, cores: float, io: float | None) -> dict[str, object]:
    known: dict[str, object] = {
        "parent": look.parent,
        "started": round(about.started, 1),
        "command": about.command,
        "unit": about.unit,
        "io": round(io) if io is not None else None,
    }
    return {
        "pid": look.pid,
        "name": about.name,
        "user": look.owner,
        "cpu": round(cores, 4),
        "memory": look.memory,
        **{key: value for key, value in known.items() if value},
    }


@dataclass(frozen=True, slots=True)
class SignedIn:
    """Somebody who is signed in: where, from where, and since when (unix seconds).

    `device` is the number of the terminal's device, 0 where it is not known.
    """

    user: str
    terminal: str
    origin: str
    since: float
    device: int = 0


class Users:
    """Who is signed in and what they use, and what the processes of each user take. To be read after `processes`."""

    name = "users"
    meanings = {
        "balise.users": Meaning("{session}", "gauge", "Sessions of people who are signed in, by user"),
        "balise.user.cpu": Meaning("1", "gauge", "Cores that the processes of a user keep busy, for the busiest"),
        "balise.user.memory": Meaning("By", "gauge", "Memory that the processes of a user hold, for the busiest"),
    }

    def __init__(self, look: Callable[[float], Iterable[SignedIn]], processes: Processes) -> None:
        self._look = look
        self._processes = processes
        self._there_were = False

    def read(self, now: float) -> Iterator[Found]:
        found = list(self._look(now))[:MOST_SIGNED_IN]
        counts: dict[str, int] = {}
        for one in found:
            counts[one.user] = counts.get(one.user, 0) + 1
        for user, count in sorted(counts.items(), key=lambda c: -c[1])[:MOST_USERS]:
            yield Reading("balise.users", float(count), {"user.name": user})
        users = self._processes.shares.users
        by_memory = sorted(users, key=lambda u: -users[u].memory)[: MOST_USERS // 2]
        by_cpu = sorted(users, key=lambda u: -users[u].cpu)[: MOST_USERS // 2]
        for user in dict.fromkeys([*by_cpu, *by_memory]):
            yield Reading("balise.user.cpu", round(users[user].cpu, 4), {"user.name": user})
            yield Reading("balise.user.memory", users[user].memory, {"user.name": user})
        if found or self._there_were:
            yield Kept(now, "balise.evidence.signed-in", self._sessions(found, now))
        self._there_were = bool(found)

    def _sessions(self, found: Sequence[SignedIn], now: float) -> list[dict[str, object]]:
        terminals = self._processes.shares.terminals
        told: list[dict[str, object]] = []
        for one in found:
            used = terminals.get(one.device, Share())
            told.append(
                {
                    "user": one.user,
                    "terminal": one.terminal,
                    "origin": one.origin,
                    "seconds": round(max(0.0, now - one.since)),
                    "cpu": round(used.cpu, 4),
                    "memory": used.memory,
                    "processes": used.count,
                }
            )
        return told
