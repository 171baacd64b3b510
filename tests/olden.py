"""Files as earlier versions wrote them."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Iterable
from contextlib import closing
from pathlib import Path

from balise.store.series.roster import Series


def with_a_row_for_each(path: Path, known: Iterable[Series]) -> None:
    """Brings a series.db of this form to form 3: a row for each series, with all that it is."""
    with closing(sqlite3.connect(path)) as plain:
        plain.execute("DROP TABLE series")
        plain.execute("DROP TABLE trait")
        plain.execute(
            "CREATE TABLE series (id INTEGER PRIMARY KEY, host INTEGER NOT NULL, metric INTEGER NOT NULL, "
            "attributes TEXT NOT NULL, part TEXT NOT NULL, kind TEXT NOT NULL)"
        )
        rows = [(s.id, s.host, s.metric, json.dumps(s.attributes), s.part, s.kind) for s in known]
        plain.executemany("INSERT INTO series VALUES (?, ?, ?, ?, ?, ?)", rows)
        plain.execute("DROP INDEX matrix_of_metric_by_day")
        plain.execute("DROP INDEX matrix_put_together")
        plain.execute("CREATE INDEX matrix_of_metric ON matrix (tier, metric, day)")
        plain.execute("PRAGMA user_version=3")
        plain.commit()
