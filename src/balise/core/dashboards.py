"""Whether a dashboard holds together, what a kit brings, and what is asked when something was chosen."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TypeVar

from pydantic import BaseModel

from balise.api.dashboards import COLUMNS, ChartPanel, ChartQuery, DashboardBody, IncidentsPanel, Panel, Variable
from balise.api.kit_documents import KitDocument
from balise.api.metrics import MetricQuery
from balise.core import filters
from balise.core.variables import Chosen, filled, variables_in

Q = TypeVar("Q", bound=BaseModel)
HIGH = 4


def slips_in(body: DashboardBody) -> Iterator[tuple[str, str]]:
    """What is wrong with a dashboard that has its right form: fields, and what to do."""
    known = {variable.name for variable in body.variables}
    for number, variable in enumerate(body.variables):
        yield from _slips(f"variables.{number}.where", variable.where, known - {variable.name})
    for number, panel in enumerate(body.panels):
        for field, where in _filters_of(panel.query, f"panels.{number}.query"):
            yield from _slips(field, where, known)


def _slips(field: str, where: str | None, known: set[str]) -> Iterator[tuple[str, str]]:
    try:
        used = variables_in(where)
    except filters.FilterError as error:
        yield field, str(error)
        return
    for name in sorted(used - known):
        there = f"those there are: {', '.join(sorted(known))}" if known else "there are none"
        yield field, f"there is no variable ${name}: {there}"


def _filters_of(query: BaseModel, field: str) -> Iterator[tuple[str, str | None]]:
    """Every filter in a question, with its place."""
    where = getattr(query, "where", None)
    if where:
        yield f"{field}.where", where
    for key in ("queries", "columns"):
        for number, one in enumerate(getattr(query, key, None) or ()):
            yield from _filters_of(one, f"{field}.{key}.{number}")
    values = getattr(query, "values", None)
    for key, one in (values or {}).items() if isinstance(values, dict) else ():
        yield from _filters_of(one, f"{field}.values.{key}")


def with_chosen(query: Q, chosen: Chosen) -> Q:
    """A question with what was chosen in the place of variables, in each of its filters. Raises FilterError."""
    changed: dict[str, object] = {}
    if getattr(query, "where", None):
        changed["where"] = filled(query.where, chosen)  # type: ignore[attr-defined]
    for key in ("queries", "columns"):
        held = getattr(query, key, None)
        if held:
            changed[key] = [with_chosen(one, chosen) for one in held]
    values = getattr(query, "values", None)
    if isinstance(values, dict):
        changed["values"] = {key: with_chosen(one, chosen) for key, one in values.items()}
    return query.model_copy(update=changed)


def of_kit(kit: KitDocument) -> DashboardBody:
    """The dashboard of a kit's services, one or all of them: its charts, two beside each other, and what is wrong."""
    if kit.dashboard is not None:
        return kit.dashboard.model_copy(update={"shared": True})
    filter_ = 'host eq "$host" and service.name eq "$service"'
    panels: list[Panel] = []
    for number, chart in enumerate(kit.charts):
        own = f"({chart.where}) and {filter_}" if chart.where else filter_
        query = MetricQuery(
            metric=chart.metric, take=chart.take, where=own, by=["host", "service.name", *chart.by], top=12
        )
        at = [number % 2 * (COLUMNS // 2), number // 2 * HIGH, COLUMNS // 2, HIGH]
        panels.append(ChartPanel(kind="chart", title=chart.title, at=at, query=ChartQuery(queries=[query])))
    below = (len(kit.charts) + 1) // 2 * HIGH
    panels.append(IncidentsPanel(kind="incidents", title="Incidents", at=[0, below, COLUMNS, HIGH]))
    metric = kit.charts[0].metric if kit.charts else None
    variables = [
        Variable(name="host", of="host", metric=metric),
        Variable(name="service", of="service.name", metric=metric, where='host eq "$host"'),
    ]
    return DashboardBody(about=kit.about[:300], variables=variables, panels=panels, shared=True)
