"""Which exports there are, and each at work when it is its time."""

from __future__ import annotations

import shutil
import threading
import time
from dataclasses import dataclass
from pathlib import Path

from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.data import DataJob, Export, ExportBody
from balise.api.spans import instant, rfc3339, seconds
from balise.server.data.job import Job
from balise.server.errors import Refused, unknown
from balise.server.people.access import audit
from balise.store.exports.ledger import Ledger
from balise.store.folders import DataError
from balise.store.state import tables
from balise.store.state.store import StateStore

MOST_EXPORTS = 20
TRY_AGAIN = 300.0
"""Seconds after which one that failed is tried again."""


@dataclass
class _Course:
    """When an export is due, unix seconds, and why the last round failed."""

    due: float = 0.0
    said: str = ""


class ExportBook:
    """Exports that the service does by itself, one at a time, each below one folder."""

    def __init__(self, *, data: Path, folder: Path, state: StateStore) -> None:
        self.folder = folder
        self._data, self._state = data, state
        self._lock = threading.Lock()
        self._courses: dict[str, _Course] = {}
        self._job: Job | None = None

    # --- which there are

    def _rows(self) -> list[tables.Export]:
        return self._state.read(lambda s: list(s.scalars(select(tables.Export).order_by(tables.Export.name))))

    def all(self) -> list[Export]:
        return [self._answer(row) for row in self._rows()]

    def get(self, name: str) -> Export:
        row = self._state.read(lambda s: s.get(tables.Export, name))
        if row is None:
            raise unknown("export", name)
        return self._answer(row)

    def put(self, name: str, body: ExportBody, who: str) -> Export:
        """Makes or changes an export; it begins at once.

        Relative times are of now. What was exported under this name before stays, and what is wanted is added.

        Raises:
            Refused: 409 when there are too many.
        """
        now = time.time()
        fixed = {
            name: rfc3339(instant(text, now))
            for name, text in (("from_", body.from_), ("until", body.until))
            if text is not None
        }
        document = body.model_copy(update=fixed).model_dump()

        def write(session: Session) -> None:
            row = session.get(tables.Export, name)
            if row is None:
                if len(session.scalars(select(tables.Export.name)).all()) >= MOST_EXPORTS:
                    raise Refused(409, f"There are {MOST_EXPORTS} exports already: delete some first.")
                row = tables.Export(name=name)
                session.add(row)
            row.document, row.ended_at = document, None
            audit(session, who, "export.put", name, follow=body.follow)

        with self._lock:
            self._state.write(write)
            self._end_job(name)
            self._courses[name] = _Course()
        return self.get(name)

    def delete(self, name: str, who: str, *, files: bool) -> None:
        """Exports no more under this name; with `files`, what was exported is removed too."""

        def write(session: Session) -> None:
            row = session.get(tables.Export, name)
            if row is None:
                raise unknown("export", name)
            session.delete(row)
            audit(session, who, "export.delete", name, files=files)

        with self._lock:
            self._state.write(write)
            self._end_job(name)
            self._courses.pop(name, None)
            if files:
                shutil.rmtree(self.folder / name, ignore_errors=True)

    def _end_job(self, name: str) -> None:
        if self._job is not None and self._job.name == name:
            self._job.stop()
            self._job = None

    def _answer(self, row: tables.Export) -> Export:
        body = ExportBody.model_validate(row.document)
        course = self._courses.get(row.name, _Course())
        at_work = self._job is not None and self._job.name == row.name
        rows = size = days = 0
        said = course.said
        if (self.folder / row.name).exists():
            try:
                ledger = Ledger.read(self.folder / row.name)
                rows, size, days = ledger.rows, ledger.size, len(ledger.units)
            except DataError as error:
                said = said or str(error)[:300]
        return Export(
            **body.model_dump(),
            name=row.name,
            to=str(self.folder / row.name),
            state="under way" if at_work
            else "failing" if said
            else "ended" if row.ended_at is not None
            else "following" if body.follow and course.due else "waiting",
            rows=rows,
            bytes=size,
            days=days,
            written_at=rfc3339(row.written_at) if row.written_at is not None else None,
            said=said,
        )  # fmt: skip

    # --- at work

    def look(self) -> None:
        """Takes up what the one at work has come to, and begins the next that is due."""
        with self._lock:
            now = time.time()
            if self._job is not None:
                job, said = self._job, self._job.ended()
                if said is None:
                    return
                self._job = None
                self._note(job.name, said, now)
            for row in self._rows():
                course = self._courses.setdefault(row.name, _Course())
                if row.ended_at is None and course.due <= now:
                    self._begin(row)
                    return

    def _begin(self, row: tables.Export) -> None:
        body = ExportBody.model_validate(row.document)
        self.folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        words = ["export", "--to", str(self.folder / row.name), "--data", str(self._data)]
        words += ["--what", ",".join(body.what)]
        words += [f"--from={body.from_}"] if body.from_ else []
        words += [f"--until={body.until}"] if body.until else []
        self._job = Job("export", row.name, words)

    def _note(self, name: str, said: str, now: float) -> None:
        """One round has ended."""
        course = self._courses.setdefault(name, _Course())
        course.said = said
        if said:
            course.due = now + TRY_AGAIN
            return

        def write(session: Session) -> float | None:
            row = session.get(tables.Export, name)
            if row is None:
                return None
            body = ExportBody.model_validate(row.document)
            row.written_at = now
            if not body.follow:
                row.ended_at = now
            return seconds(body.every)

        every = self._state.write(write)
        course.due = now + (every or TRY_AGAIN)

    def jobs(self) -> list[DataJob]:
        return [self._job.shown] if self._job is not None else []

    def warnings(self, _now: float) -> list[str]:
        return [f"the export {name} fails: {course.said}" for name, course in self._courses.items() if course.said]

    def stop(self) -> None:
        """What is broken off goes on at the next start."""
        with self._lock:
            if self._job is not None:
                self._job.stop()
                self._job = None
