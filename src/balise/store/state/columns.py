"""Columns of many rows, set by one statement.

A step of SQLite for each row would have to wait for its turn each time, while others compute.
"""

from __future__ import annotations

import json
from collections.abc import Iterable, Sequence
from typing import Any

from sqlalchemy import JSON, bindparam, func, update
from sqlalchemy.orm import InstrumentedAttribute, Session


def set_columns(session: Session, columns: Sequence[InstrumentedAttribute[Any]], rows: Iterable[Sequence[Any]]) -> None:
    """Sets columns of a table by `id`, which comes first in each of `rows`; ids that are not there are passed over.

    Raises:
        ValueError: a number is not finite.
    """
    table = columns[0].class_
    given = func.json_each(bindparam("rows")).table_valued("value")
    part = [func.json_extract(given.c.value, f"$[{place}]") for place in range(len(columns) + 1)]
    values = {column.key: part[place] for place, column in enumerate(columns, 1)}
    kinds = [isinstance(column.type, JSON) for column in columns]
    told = [
        [row[0], *(json.dumps(v) if is_json else v for v, is_json in zip(row[1:], kinds, strict=True))] for row in rows
    ]
    words = update(table).where(table.id == part[0]).values(values).execution_options(synchronize_session=False)
    session.execute(words, {"rows": json.dumps(told, allow_nan=False)})
