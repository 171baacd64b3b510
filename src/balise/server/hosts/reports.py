"""What collectors say of themselves and of their hosts."""

from __future__ import annotations

import time
from typing import Any

from sqlalchemy.orm import Session

from balise.api.hosts import Facts
from balise.server.hosts.directory import Directory
from balise.server.signals import Signal
from balise.store.state import tables
from balise.store.state.store import StateStore

CLONE_SECONDS = 600.0
"""How long a host is called cloned after it was noticed."""
CLONED = (
    "two machines deliver as this host: one is a copy of the other. On the copy, delete the agent's state folder, give "
    "the machine an id of its own (systemd-machine-id-setup) and enrol it anew"
)


class Clones:
    """Notices when two agents take turns in delivering as one host: a copied machine has its identity too."""

    def __init__(self) -> None:
        self._turns: dict[int, list[str]] = {}
        self._until: dict[int, float] = {}

    def look(self, host: int, instance: str, now: float) -> bool:
        """Whether the host is delivered for by two. An agent that starts anew never comes back as the one before."""
        turns = self._turns.setdefault(host, [])
        if not turns or turns[-1] != instance:
            if instance in turns:
                self._until[host] = now + CLONE_SECONDS
            turns.append(instance)
            del turns[:-8]
        return now < self._until.get(host, 0.0)


class HostReports:
    """The last report of each host's agent, and what it says of its host."""

    def __init__(self, *, state: StateStore, directory: Directory) -> None:
        self._state = state
        self._directory = directory
        self._reports: dict[int, dict[str, Any]] = {}
        self._unwritten: set[int] = set()
        self._clones = Clones()
        self._files: dict[int, list[dict[str, Any]]] = {}
        self.reported = Signal[dict[str, Any]]("agent reported")
        """Told what an agent said of itself."""

    def set_facts(self, host: int, facts: Facts) -> None:
        """What an agent says of its host at each start."""

        def write(session: Session) -> None:
            session.get_one(tables.Host, host).facts = facts.model_dump()

        self._state.write(write)
        self._directory.refresh(host)

    def note_files(self, host: int, files: list[dict[str, Any]]) -> None:
        """How following files goes on a host that is collected from afar."""
        now = time.time()
        before = {one["path"]: one for one in self._files.get(host, [])}
        kept = []
        for one in files:
            old = before.get(one["path"], {})
            so_far = int(old.get("lines", 0)) + int(one.get("lines", 0))
            lines = int(one.get("total_lines", so_far))
            last = one.get("last_at") or (now if one.get("lines") else old.get("last_at"))
            kept.append({**one, "lines": lines, "last_at": last})
        self._files[host] = kept

    def files(self, host: int) -> list[dict[str, Any]]:
        """How following each file goes, as its collector said last."""
        told = (self._reports.get(host) or {}).get("follow") or []
        own = [one for one in told if isinstance(one, dict)] if isinstance(told, list) else []
        return [*own, *self._files.get(host, [])]

    def last(self, host: int) -> dict[str, Any] | None:
        return self._reports.get(host)

    def take(self, host: int, content: dict[str, Any]) -> None:
        """An agent's report of itself: kept in memory, and what went wrong shown on the host."""
        self._reports[host] = content
        self._unwritten.add(host)
        self.reported.tell(content)
        known = self._directory.get(host)
        if known is None:
            return
        problem = str(content["problem"])[:300] if content.get("problem") else None
        cloned = self._clones.look(host, str(content.get("instance", ""))[:40], time.time())
        known.problem = CLONED if cloned else problem
        cost = content.get("turn_cost")
        if isinstance(cost, int | float):
            known.cost = round(float(cost), 5)

    def write(self) -> None:
        """Keeps the last reports, so that they are there after a restart."""
        fresh, self._unwritten = self._unwritten, set()
        try:
            here = [n for n in sorted(fresh) if n in self._reports and self._directory.is_here(n)]
            self._state.set_columns([tables.Host.agent], [(n, self._reports.get(n)) for n in here])
        except Exception:
            self._unwritten |= fresh
            raise

    def forget(self, host: int) -> None:
        self._reports.pop(host, None)
        self._files.pop(host, None)
