"""Filters that have a name."""

from __future__ import annotations

import time
from typing import TypeVar

from pydantic import BaseModel
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from balise.api.events import EventQuery, ExportQuery, FieldsQuery, HistogramQuery, PatternQuery
from balise.api.filters import FilterBody, FilterExplained, FilterProblem, SavedFilter
from balise.api.foresight import BaselineQuery, ForecastQuery
from balise.api.metrics import MetricQuery
from balise.api.moved import MovedQuery
from balise.api.spans import rfc3339
from balise.api.table import HostTableQuery
from balise.core import filters
from balise.core.filter_words import sentence_of, tree_of
from balise.server.asking import NamedFilters, read_filter
from balise.server.errors import Refused, bad_field, unknown
from balise.server.people.access import Principal, audit
from balise.store.state import tables
from balise.store.state.store import StateStore

MOST_FILTERS, LONGEST = 500, 2000
Kept = TypeVar("Kept", bound=BaseModel)
Asked = TypeVar(
    "Asked",
    EventQuery,
    HistogramQuery,
    PatternQuery,
    FieldsQuery,
    ExportQuery,
    MetricQuery,
    BaselineQuery,
    ForecastQuery,
    MovedQuery,
    HostTableQuery,
)


class FilterBook(NamedFilters):
    """All filters that have a name."""

    def __init__(self, state: StateStore) -> None:
        self._state = state

    def all(self) -> list[SavedFilter]:
        rows = self._state.read(lambda s: list(s.scalars(select(tables.SavedFilter).order_by(tables.SavedFilter.name))))
        return [_answer(row) for row in rows]

    def get(self, name: str) -> SavedFilter:
        row = self._find(name)
        if row is None:
            raise unknown("filter", name)
        return _answer(row)

    def put(self, name: str, body: FilterBody, who: Principal) -> SavedFilter:
        """Raises Refused 422 for a filter that cannot be read, 409 when there are too many or it is somebody else's."""
        read_filter(body.where, "where")

        def write(session: Session) -> tables.SavedFilter:
            row = session.get(tables.SavedFilter, name)
            if row is None:
                if (session.scalar(select(func.count(tables.SavedFilter.name))) or 0) >= MOST_FILTERS:
                    raise Refused(409, f"There are {MOST_FILTERS} filters already: delete some first.")
                row = tables.SavedFilter(name=name, owner=who.name)
                session.add(row)
            _check_owner(row, who)
            row.where, row.about, row.updated_at = body.where, body.about, time.time()
            audit(session, who.name, "filter.put", name)
            return row

        return _answer(self._state.write(write))

    def delete(self, name: str, who: Principal) -> None:
        def write(session: Session) -> None:
            row = session.get(tables.SavedFilter, name)
            if row is None:
                raise unknown("filter", name)
            _check_owner(row, who)
            session.delete(row)
            audit(session, who.name, "filter.delete", name)

        self._state.write(write)

    def text(self, where: str | None, name: str | None) -> str | None:
        if name is None:
            return where
        row = self._find(name)
        if row is None:
            raise bad_field("filter", f"there is no filter {name!r}: balise filter list shows those there are")
        return f"({where}) and ({row.where})" if where and where.strip() else row.where

    def applied(self, query: Asked) -> Asked:
        """A question with its filter of a name made a part of what it asks. Raises as `text`."""
        return query.model_copy(update={"where": self.text(query.where, query.filter), "filter": None})

    def put_in(self, body: Kept, field: str = "where") -> Kept:
        """What is to be kept with its filter of a name written out, as a part of the filter in a field.

        Raises as `text`, and Refused 422 when both together are too long.
        """
        name = getattr(body, "filter", None)
        if name is None:
            return body
        # A default is what holds when nothing is said: the name says something.
        written = getattr(body, field) if field in body.model_fields_set else None
        text = self.text(written, name)
        if len(text or "") > LONGEST:
            raise bad_field("filter", f"with {field} it has more than {LONGEST} characters: write a shorter one")
        said = {key: getattr(body, key) for key in body.model_fields_set - {"filter"}}
        return type(body).model_construct(**{**said, field: text})

    def has(self, name: str) -> bool:
        """Whether there is a filter of this name."""
        return self._find(name) is not None

    def _find(self, name: str) -> tables.SavedFilter | None:
        return self._state.read(lambda s: s.get(tables.SavedFilter, name))


def explained(where: str) -> FilterExplained:
    """What a filter means, or where its slip is."""
    try:
        node = filters.parse(where)
    except filters.FilterError as error:
        problem = FilterProblem(at=error.at, message=str(error), expected=list(error.expected))
        return FilterExplained(where=where, sentence=None, tree=None, problem=problem)
    return FilterExplained(where=where, sentence=sentence_of(node), tree=tree_of(node), problem=None)


def _check_owner(row: tables.SavedFilter, who: Principal) -> None:
    """A filter that others stand on is changed by its owner, or by an administrator."""
    if who.name != row.owner and who.role != "administrator":
        raise Refused(403, f"The filter {row.name!r} is {row.owner}'s: keep yours under another name.")


def _answer(row: tables.SavedFilter) -> SavedFilter:
    return SavedFilter(
        name=row.name,
        where=row.where,
        about=row.about,
        sentence=sentence_of(filters.parse(row.where)),
        owner=row.owner,
        updated_at=rfc3339(row.updated_at),
    )
