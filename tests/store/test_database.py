"""Many rows at once, against SQLAlchemy's own way of a row at a time."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy import Column, Float, Integer, MetaData, Table, Text, create_engine, select
from sqlalchemy.orm import Session

from balise.store.database import delete_from, insert_into, rows_together

TIDE = Table(
    "tide", MetaData(), Column("id", Integer, primary_key=True), Column("at", Float), Column("berth", Text)
)  # fmt: skip
MOMENTS = st.integers(0, 2**30).map(float) | st.floats(2.0**30, 2.0**40)
TEXTS = st.text(st.characters(exclude_characters="\0", exclude_categories=["Cs"]))


@pytest.fixture
def session() -> Iterator[Session]:
    engine = create_engine("sqlite://")
    TIDE.metadata.create_all(engine)
    with Session(engine) as made:
        yield made
    engine.dispose()


@given(st.lists(st.tuples(st.integers(-(2**63), 2**63 - 1), MOMENTS, TEXTS), unique_by=lambda row: row[0]))
@settings(suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_rows_that_are_read_together_are_those_that_are_read_one_by_one(
    session: Session, rows: list[tuple[int, float, str]]
) -> None:
    session.rollback()
    insert_into(session.connection(), TIDE, [dict(zip(("id", "at", "berth"), row, strict=True)) for row in rows])
    query = select(TIDE.c.berth, TIDE.c.at, TIDE.c.id).where(TIDE.c.id > -1000).order_by(TIDE.c.at, TIDE.c.id)
    assert rows_together(session, query) == [list(row) for row in session.execute(query)]


def test_many_rows_are_written_and_taken_out_by_few_statements(session: Session) -> None:
    connection = session.connection()
    insert_into(connection, TIDE, [{"id": n, "berth": str(n)} for n in range(1500)], most=64)
    delete_from(connection, TIDE, "id", [n for n in range(2000) if n % 3])
    left = session.execute(select(TIDE.c.id, TIDE.c.berth, TIDE.c.at)).all()
    assert left == [(n, str(n), None) for n in range(0, 1500, 3)]
    insert_into(connection, TIDE, [])
    delete_from(connection, TIDE, "id", [])
    assert session.execute(select(TIDE.c.id)).all() == [(n,) for n, _, _ in left]
