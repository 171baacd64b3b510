"""Reading this host's services as their kits say, on threads of their own, so that a slow one delays nothing."""

from __future__ import annotations

import logging
import shlex
import threading
import time
from collections.abc import Iterable, Mapping
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Any, Protocol

from balise.agent.places import Places
from balise.api.kits import KitPart, KitReading
from balise.api.services import ServiceTarget, ServiceTurn
from balise.collect.follow import Follower
from balise.collect.kits.folder import shipped_kits
from balise.collect.kits.reader import OWN, ServiceReader, lines_of, reading_of, turn_of
from balise.collect.kits.sources.source import filled
from balise.collect.position import Position
from balise.collect.readings import Kept, LogLine, Meaning, Reading
from balise.core.kits.logs import LogReader
from balise.core.kits.rows import meanings_of

log = logging.getLogger(__name__)
AT_ONCE = 4
MOST_LINES = 2000


class Deliver(Protocol):
    """Keeps durably what was read at a time, unix seconds, and how far files were read. Raises OSError."""

    def __call__(
        self,
        at: float,
        readings: list[Reading],
        meanings: Mapping[str, Meaning],
        lines: list[LogLine],
        kept: list[Kept],
        positions: Mapping[str, Position] | None = None,
    ) -> None: ...


@dataclass
class Held:
    """One service as it is read here."""

    service: ServiceTarget
    reader: ServiceReader
    followers: list[Follower] = field(default_factory=list)
    due: float = 0.0
    busy: bool = False
    turn: ServiceTurn | None = None
    cost: float = 0.0


class ServiceWork:
    """All services that this host's agent reads.

    Args:
        places: how far files were read before; told of it when what was read is kept.
        allowed: commands that the console may have run besides those of the kits that came with this agent.
    """

    def __init__(self, deliver: Deliver, places: Places, allowed: Iterable[str]) -> None:
        self._deliver = deliver
        self._places = places
        self._allowed = {shlex.join(shlex.split(line)) for line in allowed}
        self._held: dict[int, Held] = {}
        self._lock = threading.Lock()
        self._pool = ThreadPoolExecutor(AT_ONCE, thread_name_prefix="service")

    def look(self, services: Iterable[ServiceTarget], now: float) -> None:
        """Takes up what is to be read now, and reads what is due."""
        wanted = {service.id: service for service in services}
        with self._lock:
            for number in [n for n, h in self._held.items() if wanted.get(n) != h.service]:
                gone = self._held.pop(number)
                self._pool.submit(gone.reader.close)
            for number, service in wanted.items():
                if number not in self._held and not _lacks_credential(service):
                    self._held[number] = self._take_up(service)
            for held in self._held.values():
                if not held.busy and (now >= held.due or held.due - now > held.service.every * 2):
                    held.busy, held.due = True, now + held.service.every
                    self._pool.submit(self._read, held)

    def _take_up(self, service: ServiceTarget) -> Held:
        return Held(service, ServiceReader(service, self._may_run), self._followers(service))

    def _followers(self, service: ServiceTarget) -> list[Follower]:
        """The service's logs, each from where what was kept of it ends."""
        followers = []
        for one in service.kit.logs:
            path = filled(one.path, service.target)
            if "{" in path or not path.startswith("/"):
                continue
            followers.append(Follower(path, position=self._places.get(path), reader=LogReader(one)))
        return followers

    def _may_run(self, kit: KitReading, part: KitPart, words: list[str]) -> bool:
        came = shipped_kits().get(kit.kit)
        if came is not None and any(p.by == part.by and p.ask == part.ask for p in came.kit.read) and not kit.generic:
            return True
        return shlex.join(words) in self._allowed

    def _read(self, held: Held) -> None:
        began = time.thread_time()
        try:
            now = time.time()
            read = held.reader.read(now)
            lines, counted = self._lines(held, now)
            meanings = {**OWN, **read.meanings, **{k: _meaning(v) for k, v in meanings_of(held.service.kit).items()}}
            readings = [*read.readings, *counted] if held.service.kit.read else counted
            reached = {follower.path: follower.position for follower in held.followers}
            self._deliver(now, readings, meanings, lines, read.kept, reached)
            held.turn = turn_of(read)
        except OSError as error:
            held.followers = self._followers(held.service)
            held.turn = ServiceTurn(problem=f"cannot keep what was read: {error.strerror}")
        except Exception as error:
            log.exception("service=%s", held.service.name)
            held.turn = ServiceTurn(problem=f"{type(error).__name__}: {str(error)[:200]}")
        finally:
            held.cost = time.thread_time() - began
            held.busy = False

    @staticmethod
    def _lines(held: Held, now: float) -> tuple[list[LogLine], list[Reading]]:
        lines: list[LogLine] = []
        values: list[Reading] = []
        for follower in held.followers:
            # A file that was begun is read as far as it goes this time: its place is behind all of that.
            lines.extend(follower.read(now, MOST_LINES // len(held.followers)))
            if isinstance(follower.reader, LogReader):
                values += [reading_of(value, held.service.name) for value in follower.reader.values()]
        return lines_of(held.service.name, lines), values

    def turns(self) -> dict[int, dict[str, Any]]:
        """How reading went, by service."""
        with self._lock:
            told = {n: h.turn for n, h in self._held.items() if h.turn is not None and h.service.kit.read}
        return {number: turn.model_dump(exclude_none=True) | {"problem": turn.problem} for number, turn in told.items()}

    def costs(self) -> dict[str, float]:
        with self._lock:
            return {f"service {h.service.name}": h.cost for h in self._held.values()}

    def turn_cost(self, turn: float) -> float:
        """Seconds of processor time that reading takes in `turn` seconds."""
        with self._lock:
            return sum(h.cost * turn / max(turn, h.service.every) for h in self._held.values())

    def files(self) -> list[Follower]:
        with self._lock:
            return [f for h in self._held.values() for f in h.followers]

    def close(self) -> None:
        self._pool.shutdown(wait=False, cancel_futures=True)


def _lacks_credential(service: ServiceTarget) -> bool:
    """After a start without the console: credentials are not on disk, and asking without one would only be refused."""
    wants = service.kit.credential
    return bool(service.kit.read and wants and wants.needed and service.credential is None)


def _meaning(held: Any) -> Meaning:
    return Meaning(held.unit, held.kind, held.about)
