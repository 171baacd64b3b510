"""Backups that the service is asked for: in one folder, below which each has a folder of its own."""

from __future__ import annotations

import threading
import time
from datetime import UTC, datetime
from pathlib import Path

from balise.api.data import Backup, DataJob
from balise.api.spans import rfc3339
from balise.server.data.job import Job
from balise.server.errors import Refused
from balise.server.people.access import audit
from balise.store.copies.manifest import FILE, UNFINISHED, Manifest
from balise.store.folders import DataError
from balise.store.state.store import StateStore

MOST_BACKUPS = 100


class BackupBook:
    """One is made at a time."""

    def __init__(self, *, data: Path, folder: Path, state: StateStore) -> None:
        self.folder = folder
        self._data, self._state = data, state
        self._lock = threading.Lock()
        self._job: Job | None = None
        self._why: dict[str, str] = {}

    def begin(self, name: str | None, who: str) -> Backup:
        """Begins a backup, or goes on with one that was broken off.

        Raises:
            Refused: 409 when one is made already, that name has a whole one, or there are too many.
        """
        chosen = name or datetime.fromtimestamp(time.time(), UTC).strftime("%Y-%m-%d %H.%M.%S")
        with self._lock:
            self._look()
            if self._job is not None:
                raise Refused(409, f"A backup is being made already ({self._job.name}): wait until it is there.")
            held = {one.name: one for one in self.all()}
            if chosen in held and held[chosen].state == "whole":
                raise Refused(409, f"There is a backup {chosen} already: give another name.")
            if chosen not in held and len(held) >= MOST_BACKUPS:
                raise Refused(409, f"There are {MOST_BACKUPS} backups in {self.folder}: remove some first.")
            self._state.write(lambda session: audit(session, who, "backup.begin", chosen))
            self.folder.mkdir(parents=True, exist_ok=True, mode=0o700)
            self._why.pop(chosen, None)
            self._job = Job("backup", chosen, ["backup", str(self.folder / chosen), "--data", str(self._data)])
        return next((one for one in self.all() if one.name == chosen), _begun(chosen))

    def _look(self) -> None:
        if self._job is not None and (said := self._job.ended()) is not None:
            if said:
                self._why[self._job.name] = said
            self._job = None

    def look(self) -> None:
        """Notes whether the one at work has ended."""
        with self._lock:
            self._look()

    def all(self) -> list[Backup]:
        """The newest first."""
        at_work = self._job.name if self._job is not None else None
        found = [self._one(path, at_work) for path in sorted(self.folder.glob("*")) if path.is_dir()]
        if at_work is not None and at_work not in {one.name for one in found}:
            found.append(_begun(at_work))
        return sorted(found, key=lambda one: (one.state != "under way", one.at or "", one.name), reverse=True)

    def _one(self, path: Path, at_work: str | None) -> Backup:
        whole = (path / FILE).exists()
        try:
            held = Manifest.read(path / (FILE if whole else UNFINISHED))
        except DataError as error:
            held = Manifest("", 0.0)
            self._why.setdefault(path.name, str(error)[:300])
        return Backup(
            name=path.name,
            state="whole" if whole else "under way" if path.name == at_work else "broken off",
            at=rfc3339(held.at) if whole else None,
            bytes=held.size,
            files=len(held.files),
            version=held.version,
            said="" if whole else self._why.get(path.name, ""),
        )

    def jobs(self) -> list[DataJob]:
        return [self._job.shown] if self._job is not None else []

    def stop(self) -> None:
        with self._lock:
            if self._job is not None:
                self._job.stop()
                self._job = None


def _begun(name: str) -> Backup:
    return Backup(name=name, state="under way", at=None, bytes=0, files=0, version="")
