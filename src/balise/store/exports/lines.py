"""Events, a day at a time, by source."""

from __future__ import annotations

from contextlib import closing
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow as pa

from balise.api.events import SEVERITIES
from balise.store.database import looked_at
from balise.store.exports.columns import moments
from balise.store.exports.dayfiles import DayFiles
from balise.store.exports.schemas import EVENTS

AT_ONCE = 50_000
_EVENTS = (
    "SELECT event.id, time, host.name, severity, body, "
    "CASE typeof(event.attributes) WHEN 'integer' THEN kept.attributes ELSE event.attributes END, pattern, source.name "
    "FROM event JOIN host ON host.id = event.host JOIN source ON source.id = event.source "
    "LEFT JOIN kept ON typeof(event.attributes) = 'integer' AND kept.id = event.attributes "
    "WHERE time >= ? AND time < ? AND event.source = ? ORDER BY event.id"
)


def mark(path: Path) -> str:
    """What changes whenever events come to a day."""
    with closing(looked_at(path)) as connection:
        low, high = connection.execute("SELECT min(id), max(id) FROM event").fetchone()
    return f"{low or 0}:{high or 0}"


def write(path: Path, day: int, start: int, end: int, files: DayFiles) -> None:
    """Writes the events of a day's file within [start, end) nanoseconds."""
    with closing(looked_at(path)) as connection:
        connection.execute("BEGIN")
        for number, source in connection.execute("SELECT id, name FROM source ORDER BY name").fetchall():
            found = connection.execute(_EVENTS, (start, end, number))
            while rows := found.fetchmany(AT_ONCE):
                files.add(source, _table(day, rows))
            files.end(source)


def _table(day: int, rows: list[tuple[Any, ...]]) -> pa.Table:
    ids, times, hosts, severities, bodies, attributes, patterns, _ = zip(*rows, strict=True)
    columns = [
        pa.array([f"{day}-{number}" for number in ids]),
        *moments(np.array(times, np.int64)),
        pa.array(hosts, pa.string()).dictionary_encode(),
        pa.array([SEVERITIES[code] for code in severities], pa.string()).dictionary_encode(),
        pa.array(severities, pa.int8()),
        pa.array(bodies, pa.string()),
        pa.array([one or "{}" for one in attributes], pa.string()),
        pa.array([one or None for one in patterns], pa.int64()),
    ]
    return pa.Table.from_arrays(columns, schema=EVENTS)
