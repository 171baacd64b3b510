"""The tables of series.db."""

from __future__ import annotations

from sqlalchemy import Column, Float, ForeignKey, Index, Integer, LargeBinary, MetaData, Table, Text

metadata = MetaData()
FORM = 3
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
    Column("id", Integer, primary_key=True),
    Column("host", Integer, nullable=False),
    Column("metric", Integer, ForeignKey("metric.id"), nullable=False),
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
    Column("whole", Integer, nullable=False),
    Column("series", LargeBinary, nullable=False),
    Column("low", LargeBinary, nullable=False),
    Column("high", LargeBinary, nullable=False),
    Column("total", LargeBinary, nullable=False),
    Column("count", LargeBinary, nullable=False),
    Column("last", LargeBinary, nullable=False),
    Column("seen", LargeBinary),
    Column("extra", LargeBinary),
    Index("matrix_of_metric", "tier", "metric", "day"),
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
UPGRADES = {1: ("ALTER TABLE matrix ADD COLUMN seen BLOB",), 2: ("ALTER TABLE matrix ADD COLUMN extra BLOB",)}
"""What brings a file of each earlier form to the next."""
note = Table("note", metadata, Column("name", Text, primary_key=True), Column("value", Float, nullable=False))
