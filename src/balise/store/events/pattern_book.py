"""Which patterns there are, kept beside the days: what is learnt is written before any event says that it is of it."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from balise.core.events.patterns import SETTLED, Line, PatternLearner, Template
from balise.store.database import open_engine

_TABLE = (
    "CREATE TABLE IF NOT EXISTS pattern (id INTEGER PRIMARY KEY, source TEXT NOT NULL, severity INTEGER NOT NULL, "
    "words TEXT NOT NULL, first_seen INTEGER NOT NULL, first_host TEXT NOT NULL, place_taken_by INTEGER)"
)
_KEEP = (
    "INSERT OR REPLACE INTO pattern (id, source, severity, words, first_seen, first_host, place_taken_by) "
    "VALUES (?, ?, ?, ?, ?, ?, ?)"
)


class PatternBook:
    """The patterns of all events. One thread asks for those of new events; any may look them up."""

    def __init__(self, folder: Path) -> None:
        self._engine = open_engine(folder / "patterns.db", cache_mib=2, readers=1)
        self._writing = self._engine.connect()
        self._writing.exec_driver_sql(_TABLE)
        self._writing.commit()
        self.reload()

    def reload(self) -> None:
        """Reads all of them anew, as another process wrote them."""
        held = self._writing.exec_driver_sql("SELECT * FROM pattern ORDER BY id").fetchall()
        self._writing.rollback()
        found = {
            number: Template(number, source, severity, words.split(), first, host, seen=SETTLED)
            for number, source, severity, words, first, host, _ in held
        }
        for number, *_, taken_by in held:
            found[number].into = found.get(taken_by)
        self._learner = PatternLearner(list(found.values()))

    def patterns(self, events: Sequence[Line]) -> list[int]:
        """The number of the pattern of each event; 0 for what is like no others."""
        learner = self._learner
        found = learner.of(events)
        if learner.changed:
            self._write(list(learner.changed.values()))
            learner.changed.clear()
        return found

    def _write(self, changed: Sequence[Template]) -> None:
        rows = [
            (t.id, t.source, t.severity, t.text, t.first_seen, t.first_host, t.into.id if t.into else None)
            for t in changed
        ]
        try:
            self._writing.exec_driver_sql(_KEEP, rows)
            self._writing.commit()
        except Exception:
            self._writing.rollback()
            raise

    def root(self, number: int) -> Template | None:
        """The pattern that counts for this one now."""
        held = self._learner.by_id.get(number)
        return None if held is None else held.root()

    def said_by(self, source: str | None, worst: int, mildest: int) -> set[int]:
        """The patterns of a source, or of all, with a severity code from the worst to the mildest."""
        every = list(self._learner.by_id.values())
        return {t.id for t in every if source in (None, t.source) and worst <= t.severity <= mildest}

    def family(self, number: int) -> set[int]:
        """A pattern with all those whose place it took; empty when there is none of this number."""
        return self._learner.family(number)

    def close(self) -> None:
        self._writing.close()
        self._engine.dispose()
