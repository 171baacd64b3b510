"""Reading one service, part by part, as its kit says."""

from __future__ import annotations

import contextlib
import importlib
import threading
import time
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from balise.api.credentials import CredentialBody
from balise.api.kits import KitPart, KitReading, Scalar, SourceName, Target, Tried, TriedMetric, TriedPart
from balise.api.services import EVENT as SERVICE_FACTS
from balise.api.services import ServicePart, ServiceTarget, ServiceTurn
from balise.api.spans import seconds
from balise.collect.kits.sources.running import Guarded, Here
from balise.collect.kits.sources.source import Accounts, Asked, Hand, Rows, Source, SourceProblem
from balise.collect.readings import Kept, LogLine, Meaning, Reading
from balise.core.kits.rows import Value, facts_of, meanings_of, table_of, text_of, values_of, wanted
from balise.core.kits.sessions import kept_sessions

UP = "balise.service.up"
TOOK = "balise.service.duration"
OWN = {
    UP: Meaning("{state}", "gauge", "1 when a service could be read, else 0"),
    TOOK: Meaning("s", "gauge", "How long reading a part of a service took"),
}
OPTIONAL_AGAIN = 600.0
"""Seconds after which a part that this service does not have is tried again."""
SESSIONS_AGAIN = 300.0
"""Seconds after which sessions are kept again although nothing about them changed."""
_SOURCES: dict[SourceName, tuple[str, str, str]] = {
    "postgresql": ("postgres", "PostgresSource", "psycopg"),
    "mariadb": ("mariadb", "MariadbSource", "PyMySQL"),
    "redis": ("redis", "RedisSource", "redis"),
    "http": ("http", "HttpSource", "httpx"),
    "socket": ("sockets", "SocketSource", ""),
    "command": ("command", "CommandSource", ""),
    "file": ("file", "FileSource", ""),
    "greeting": ("greeting", "GreetingSource", ""),
    "snmp": ("snmp", "SnmpSource", "pysnmp"),
    "dns": ("dns", "DnsSource", "dnspython"),
    "port": ("port", "PortSource", ""),
    "sql": ("sql", "SqlSource", "psycopg or PyMySQL"),
}
LOCAL: tuple[SourceName, ...] = ("command", "file")
"""What only works on the service's own host."""


def source_class(name: SourceName) -> Asked:
    """The class that speaks a protocol; loaded, with the package it needs, only when a service wants it.

    Raises:
        SourceProblem: the package is not installed here.
    """
    module, cls, package = _SOURCES[name]
    try:
        found: Asked = getattr(importlib.import_module(f"balise.collect.kits.sources.{module}"), cls)
    except ImportError:
        raise SourceProblem(
            f"this installation cannot speak to {name}: the package {package} is missing "
            "(pip install 'balise[services]')",
            lost=True,
        ) from None
    return found


@dataclass
class PartRead:
    """How one part went."""

    part: str
    seconds: float = 0.0
    rows: int = 0
    values: int = 0
    problem: str | None = None
    note: str | None = None


@dataclass
class ServiceRead:
    """What one reading of a service gave. `problem` says why it could not be read at all."""

    readings: list[Reading] = field(default_factory=list)
    kept: list[Kept] = field(default_factory=list)
    parts: list[PartRead] = field(default_factory=list)
    facts: dict[str, str] = field(default_factory=dict)
    tables: dict[str, list[dict[str, Scalar]]] = field(default_factory=dict)
    sessions: list[dict[str, Any]] | None = None
    configuration: dict[str, str] = field(default_factory=dict)
    meanings: dict[str, Meaning] = field(default_factory=dict)
    problem: str | None = None

    @property
    def problems(self) -> list[str]:
        found = [self.problem] if self.problem else []
        return found + [f"{p.part}: {p.problem}" for p in self.parts if p.problem]

    @property
    def nothing(self) -> str | None:
        """Why nothing at all could be read; None when something could, or there is nothing to read."""
        if self.problem is None and self.parts and all(p.problem for p in self.parts):
            return self.problems[0]
        return self.problem

    @property
    def seconds(self) -> float:
        return sum(p.seconds for p in self.parts)


def _anything(_kit: KitReading, _part: KitPart, _words: list[str]) -> bool:
    return True


class ServiceReader:
    """One service, and the connections to it that are kept. Not for two threads at once.

    Args:
        may_run: whether a part's command may be run here; asked with the kit, the part and the words of the command.
        hand: what runs commands and reads files on the service's host; this host's own unless given.
    """

    def __init__(
        self,
        service: ServiceTarget,
        may_run: Callable[[KitReading, KitPart, list[str]], bool] = _anything,
        hand: Hand | None = None,
    ) -> None:
        self._hand = hand
        self.service = service
        self._kit = service.kit
        self._may_run = may_run
        self._asking: KitPart | None = None
        self._sources: dict[str, Source] = {}
        self._read_at: dict[str, float] = {}
        self._put_off: dict[str, float] = {}
        self._sessions_before: tuple[float, Any] = (0.0, None)
        self._configuration: dict[str, str] = {}
        self._accounts = Accounts()
        self._lock = threading.Lock()
        self._meanings = {k: Meaning(m.unit, m.kind, m.about) for k, m in meanings_of(self._kit).items()}  # type: ignore[arg-type]

    def read(self, now: float, *, everything: bool = False) -> ServiceRead:
        """Reads the parts that are due, or everything. Never raises: what went wrong is in the answer."""
        with self._lock:
            return self._read(now, everything)

    def _read(self, now: float, everything: bool) -> ServiceRead:
        out = ServiceRead(meanings={**OWN, **self._meanings})
        for part in self._kit.read:
            if not everything and not self._due(part, now):
                continue
            done = PartRead(part.part)
            out.parts.append(done)
            began = time.monotonic()
            try:
                self._one(part, out, done, now)
            except SourceProblem as problem:
                if problem.lost:
                    self._drop()
                if problem.lost and not part.optional:
                    out.problem = str(problem)
                elif part.optional:
                    self._put_off[part.part] = now
                    done.note = f"{problem} ({part.optional})"
                else:
                    done.problem = str(problem)
            done.seconds = round(time.monotonic() - began, 5)
            if out.problem:
                break
            self._read_at[part.part] = now
        if not out.problem:
            self._look_at_account(out)
        self._finish(out, now)
        return out

    def _look_at_account(self, out: ServiceRead) -> None:
        """What the account that the service is read with may do."""
        source = self._sources.get(self._kit.by)
        said = self._accounts.of(self._kit.by, source) if source is not None else None
        if said is not None:
            out.facts["account"] = said

    def _due(self, part: KitPart, now: float) -> bool:
        if part.part in self._put_off and 0 <= now - self._put_off[part.part] < OPTIONAL_AGAIN:
            return False
        if part.every is None:
            return True
        at = self._read_at.get(part.part)
        # A clock that was set back must not stop a part for as long.
        return at is None or not 0 <= now - at < seconds(part.every) * 0.9

    def _one(self, part: KitPart, out: ServiceRead, done: PartRead, now: float) -> None:
        rows = wanted(part, self._ask(part))
        done.rows = len(rows)
        if part.samples:
            for row in rows:
                out.meanings.setdefault(str(row["name"]), _meaning(row))
        values = [reading_of(v, self.service.name) for v in values_of(part, rows)]
        done.values = len(values)
        out.readings += values
        out.facts.update(facts_of(part, rows))
        if part.keep is not None:
            table = table_of(part.keep, rows)
            out.tables[part.keep.name] = table
            content = {"service": self.service.name, "rows": table}
            out.kept.append(Kept(now, f"balise.evidence.table-{part.keep.name}", content))
        if part.sessions:
            out.sessions = kept_sessions(rows, self.service.name)
            self._keep_sessions(out, now)
        if part.configuration:
            name, value = part.configuration["name"], part.configuration["value"]
            out.configuration.update({text_of(r.get(name)): text_of(r.get(value)) for r in rows if r.get(name)})

    def _ask(self, part: KitPart) -> Rows:
        by, self._asking = part.by or self._kit.by, part
        if part.each is None:
            return self._source(by, self.service.target).ask(part.ask)
        rows: Rows = []
        for first in self._source(by, self.service.target).ask(part.each.ask)[: part.each.most]:
            target = {**self.service.target, part.each.field: first.get(part.each.column)}
            source = self._made(by, target)
            try:
                rows += [{part.each.field: first.get(part.each.column), **row} for row in source.ask(part.ask)]
            finally:
                source.close()
        return rows

    def _may(self, words: Sequence[str]) -> bool:
        return self._asking is not None and self._may_run(self._kit, self._asking, list(words))

    def _source(self, by: SourceName, target: Target) -> Source:
        held = self._sources.get(by)
        if held is None:
            held = self._sources[by] = self._made(by, target)
        return held

    def _made(self, by: SourceName, target: Target) -> Source:
        more = {"hand": Guarded(self._hand or Here(), self._may)} if by in LOCAL else {}
        return source_class(by)(target, self.service.credential, self.service.time_limit, **more)

    def _keep_sessions(self, out: ServiceRead, now: float) -> None:
        """Sessions are kept when they changed, and now and then: an idle database fills no disk."""
        at, before = self._sessions_before
        seen = [(s["id"], s["state"], s["statement"], s["blocked_by"]) for s in out.sessions or []]
        if seen != before or not 0 <= now - at < SESSIONS_AGAIN or any(s["blocked_by"] for s in out.sessions or []):
            self._sessions_before = (now, seen)
            content = {"service": self.service.name, "sessions": out.sessions}
            out.kept.append(Kept(now, "balise.evidence.sessions", content))

    def _finish(self, out: ServiceRead, now: float) -> None:
        named = {"service.name": self.service.name}
        out.readings.append(Reading(UP, 0.0 if out.problem else 1.0, named))
        out.readings += [Reading(TOOK, p.seconds, {**named, "balise.part": p.part}) for p in out.parts]
        if out.configuration and out.configuration != self._configuration:
            self._configuration = dict(out.configuration)
            items = [{"name": f"{self.service.name}: {k}", "value": v} for k, v in sorted(out.configuration.items())]
            content = {"kind": "configuration", "scope": self.service.name, "items": items[:2000]}
            out.kept.append(Kept(now, "balise.inventory", content))
        if out.facts:
            facts: dict[str, Any] = {"service": self.service.id, **out.facts}
            out.kept.append(Kept(now, SERVICE_FACTS, facts))

    def _drop(self) -> None:
        for source in self._sources.values():
            with contextlib.suppress(Exception):
                source.close()
        self._sources.clear()

    def close(self) -> None:
        with self._lock:
            self._drop()


def tried(kit: KitReading, target: Target, read: ServiceRead) -> Tried:
    """What a trial gave, for people."""
    return Tried(
        kit=kit.kit,
        version=kit.version,
        target=target,
        seconds=round(read.seconds, 4),
        facts=read.facts,
        parts=[TriedPart(**vars(part)) for part in read.parts],
        metrics=[
            TriedMetric(
                name=r.metric,
                unit=read.meanings[r.metric].unit,
                attributes={k: v for k, v in r.attributes.items() if k != "service.name"},
                value=r.value,
            )
            for r in read.readings
            if r.metric not in OWN
        ],
        tables=read.tables,
        problems=read.problems,
    )


def turn_of(read: ServiceRead) -> ServiceTurn:
    """How a reading went, without what it read."""
    return ServiceTurn(
        problem=read.problem,
        problems=read.problems if not read.problem else [],
        parts=[ServicePart(part=p.part, seconds=p.seconds, problem=p.problem, note=p.note) for p in read.parts],
        seconds=round(read.seconds, 4),
    )


def reading_of(value: Value, service: str) -> Reading:
    return Reading(value.metric, value.value, {"service.name": service, **value.attributes})


def _meaning(row: Mapping[str, Any]) -> Meaning:
    kind: Any = "counter" if row.get("kind") == "counter" else "gauge"
    return Meaning(str(row.get("unit") or "1"), kind, str(row.get("about") or "")[:300])


def looks_at_host(kit: KitReading) -> bool:
    """Whether reading a kit's services takes something that is done on their own host."""
    return bool(kit.logs) or any((part.by or kit.by) in LOCAL for part in kit.read)


def lines_of(service: str, lines: Iterable[LogLine]) -> list[LogLine]:
    """Lines of a service's logs, under its name."""
    named = {"service.name": service}
    return [LogLine(one.time, one.body, one.severity, service, {**named, **one.attributes}) for one in lines]


def once(
    kit: KitReading,
    target: Target,
    credential: CredentialBody | None,
    time_limit: float,
    name: str,
    now: float,
    hand: Hand | None = None,
) -> ServiceRead:
    """Reads a target once with everything its kit has."""
    service = ServiceTarget(
        id=0, name=name, kit=kit, target=target, credential=credential, every=60.0, time_limit=time_limit
    )
    reader = ServiceReader(service, hand=hand)
    try:
        return reader.read(now, everything=True)
    finally:
        reader.close()
