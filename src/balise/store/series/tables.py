"""The tables of series.db."""

from __future__ import annotations

from collections.abc import Callable

from sqlalchemy import Column, Connection, Float, ForeignKey, Index, Integer, LargeBinary, MetaData, Table, Text

from balise.store.series.written import pack

metadata = MetaData()
FORM = 5
"""`PRAGMA user_version` of series.db: raised when these tables change."""

metric = Table(
    "metric",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("name", Text, nullable=False, unique=True),
    Column("unit", Text, nullable=False),
    Column("kind", Text, nullable=False),
    Column("description", Text, nullable=False),
)
series = Table(
    "series",
    metadata,
    Column("first", Integer, primary_key=True),
    Column("host", Integer, nullable=False),
    Column("metrics", LargeBinary, nullable=False),
    Column("traits", LargeBinary, nullable=False),
)
trait = Table(
    "trait",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("attributes", Text, nullable=False),
    Column("part", Text, nullable=False),
    Column("kind", Text, nullable=False),
)
layout = Table(
    "layout", metadata, Column("id", Integer, primary_key=True), Column("series", LargeBinary, nullable=False)
)
inbox = Table(
    "inbox",
    metadata,
    Column("seq", Integer, primary_key=True),
    Column("layout", Integer, ForeignKey("layout.id"), nullable=False),
    Column("times", LargeBinary, nullable=False),
    Column("points", LargeBinary, nullable=False),
)
block = Table(
    "block",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("host", Integer, nullable=False),
    Column("first", Integer, nullable=False),
    Column("last", Integer, nullable=False),
    Column("low_series", Integer, nullable=False),
    Column("high_series", Integer, nullable=False),
    Column("samples", Integer, nullable=False),
    Column("series", LargeBinary, nullable=False),
    Column("times", LargeBinary, nullable=False),
    Column("data", LargeBinary, nullable=False),
    Index("block_of_host", "host", "last"),
    Index("block_by_age", "last"),
)
matrix = Table(
    "matrix",
    metadata,
    Column("id", Integer, primary_key=True),
    Column("tier", Integer, nullable=False),
    Column("metric", Integer, nullable=False),
    Column("day", Integer, nullable=False),
    Column("step", Integer, nullable=False),
    Column("steps", Integer, nullable=False),
    Column("late", Integer, nullable=False),
    # How many days were put together, from `day` on; 0 for a piece of a day.
    Column("whole", Integer, nullable=False),
    Column("series", LargeBinary, nullable=False),
    Column("low", LargeBinary, nullable=False),
    Column("high", LargeBinary, nullable=False),
    Column("total", LargeBinary, nullable=False),
    Column("count", LargeBinary, nullable=False),
    Column("last", LargeBinary, nullable=False),
    Column("seen", LargeBinary),
    Column("extra", LargeBinary),
    Index("matrix_of_metric_by_day", "tier", "metric", "day", "whole"),
    Index("matrix_put_together", "whole", "tier", "day", "metric"),
    Index("matrix_by_day", "tier", "day"),
)
aside = Table(
    "aside",
    metadata,
    Column("seq", Integer, primary_key=True),
    Column("at", Float, nullable=False),
    Column("why", Text, nullable=False),
    Column("layout", LargeBinary, nullable=False),
    Column("times", LargeBinary, nullable=False),
    Column("points", LargeBinary, nullable=False),
)
"""Rows of the inbox that could not be sealed or read, kept to be looked at."""
UPGRADES: dict[int, tuple[str | Callable[[Connection], None], ...]] = {
    1: ("ALTER TABLE matrix ADD COLUMN seen BLOB",),
    2: ("ALTER TABLE matrix ADD COLUMN extra BLOB",),
    3: (
        "CREATE TABLE trait (id INTEGER PRIMARY KEY, attributes TEXT NOT NULL, part TEXT NOT NULL, kind TEXT NOT NULL)",
        "INSERT INTO trait (attributes, part, kind) SELECT DISTINCT attributes, part, kind FROM series",
        "CREATE UNIQUE INDEX trait_apart ON trait (attributes, part, kind)",
        "ALTER TABLE series RENAME TO series_apart",
        "CREATE TABLE series (first INTEGER PRIMARY KEY, host INTEGER NOT NULL, metrics BLOB NOT NULL, "
        "traits BLOB NOT NULL)",
        pack,
        "DROP TABLE series_apart",
        "DROP INDEX trait_apart",
    ),
    4: (
        "DROP INDEX matrix_of_metric",
        "CREATE INDEX matrix_of_metric_by_day ON matrix (tier, metric, day, whole)",
        "CREATE INDEX matrix_put_together ON matrix (whole, tier, day, metric)",
    ),
}
"""What brings a file of each earlier form to the next."""
note = Table("note", metadata, Column("name", Text, primary_key=True), Column("value", Float, nullable=False))
