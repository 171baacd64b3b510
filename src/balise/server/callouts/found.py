"""Finding what callouts are made of by its name."""

from __future__ import annotations

from typing import TypeVar

from sqlalchemy.orm import Session

from balise.server.errors import unknown
from balise.store.state import tables

Row = TypeVar("Row", tables.Channel, tables.Callout, tables.Person, tables.Rota)


def found(session: Session, table: type[Row], name: str) -> Row:
    """A channel, a callout, a person or a rota. Raises Refused 404."""
    row = session.get(table, name)
    if row is None:
        raise unknown(table.__name__.lower(), name)
    return row
