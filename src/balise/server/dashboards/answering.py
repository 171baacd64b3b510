"""All that a dashboard shows, in one go: each panel by itself, so that one that fails leaves the others."""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache
from typing import Any, get_args

from pydantic import BaseModel

from balise.api.dashboards import (
    ChartQuery,
    Choices,
    Dashboard,
    DashboardAnswer,
    DashboardAsked,
    EventsQuery,
    ListQuery,
    Panel,
    PanelAnswer,
    StatesQuery,
    TextQuery,
    ValueQuery,
    Variable,
)
from balise.api.events import EventQuery, PatternQuery
from balise.api.foresight import BaselineAnswer, BaselineQuery, Kept
from balise.api.metrics import MetricQuery
from balise.api.spans import rfc3339
from balise.api.table import HostTableQuery
from balise.core import filters
from balise.core.dashboards import with_chosen
from balise.core.variables import Chosen, filled
from balise.server.alerts.search import AlertSearch
from balise.server.asking import read_filter, span_of
from balise.server.errors import Refused, bad_field
from balise.server.events.patterns import PatternSearch
from balise.server.events.search import EventSearch
from balise.server.fleet.table import FleetTable
from balise.server.fleet.tree import FleetTree
from balise.server.hosts.directory import Directory, attribute_of
from balise.server.incidents.search import IncidentSearch
from balise.server.metrics.questions import Metrics
from balise.server.rules.foresight import Foresight
from balise.store.series.sweep import Sweep

MOST_CHOICES = 1000
HOUR = 3600
BAND_LASTS = 600.0
"""Seconds for which a band that was worked out is shown."""
MOST_BANDS, LONGEST_BAND = 32, 8 * 24
"""How many bands are held, and of how many hours at most: some 3 MB each where they have as many lines as may be."""
SLIVER = 48
"""Steps of the course beside a value."""
_OF_HOSTS = ("host", "group", "site", "application", "os", "mode")


@dataclass(frozen=True)
class Sources:
    """Who answers what panels ask."""

    metrics: Metrics
    table: FleetTable
    tree: FleetTree
    events: EventSearch
    patterns: PatternSearch
    incidents: IncidentSearch
    alerts: AlertSearch
    foresight: Foresight


@dataclass(frozen=True)
class _Span:
    """The span of the page, as its questions name it."""

    start: float
    end: float
    step: str | None
    points: int
    sweep: Sweep | None = None
    """What its panels want of very many series, read together."""

    def asks(self, query: MetricQuery) -> MetricQuery:
        return query.model_copy(
            update={
                "from_": rfc3339(self.start), "to": rfc3339(self.end), "step": self.step,
                "points": None if self.step else self.points, "filter": None,
            }
        )  # fmt: skip


class Answering:
    """Answers dashboards. `named` writes out filters that have a name."""

    def __init__(
        self, *, directory: Directory, sources: Sources, named: Callable[[str | None, str | None], str | None]
    ) -> None:
        self._directory = directory
        self._from = sources
        self._named = named
        # Bands are of hours and learnt from weeks: screens that ask each 15 s get the same one.
        self._usual = lru_cache(MOST_BANDS)(self._worked_out)
        self._answers: Mapping[type[BaseModel], Callable[[Any, str, _Span], dict[str, Any]]] = {
            ChartQuery: self._chart,
            ValueQuery: self._value,
            HostTableQuery: self._table,
            StatesQuery: self._states,
            EventsQuery: self._events,
            ListQuery: self._list,
            TextQuery: self._text,
        }

    def of(self, dashboard: Dashboard, asked: DashboardAsked) -> DashboardAnswer:
        """Raises Refused 422 naming the field when what is chosen cannot be."""
        start, end = span_of(asked.from_, asked.to, time.time())
        unknown = set(asked.variables) - {variable.name for variable in dashboard.variables}
        if unknown:
            raise bad_field(f"variables.{sorted(unknown)[0]}", "the dashboard has no such variable")
        chosen = {v.name: asked.variables.get(v.name, v.default) for v in dashboard.variables}
        span = _Span(start, end, asked.step, asked.points)
        span = replace(span, sweep=self._from.metrics.sweep(self._wanted(dashboard, chosen, span)))
        return DashboardAnswer(
            from_=start,
            to=end,
            panels=[self._panel(panel, chosen, span) for panel in dashboard.panels],
            variables=[
                Choices(name=v.name, chosen=list(chosen[v.name]), choices=self._choices(v, chosen))
                for v in dashboard.variables
            ],
        )

    def _wanted(self, dashboard: Dashboard, chosen: Chosen, span: _Span) -> Iterator[tuple[MetricQuery, bool]]:
        """What the panels ask of metrics, and whether for one value; what cannot be asked says so in its own panel."""
        for panel in dashboard.panels:
            try:
                query = with_chosen(panel.query, chosen)
                if isinstance(query, ChartQuery):
                    yield from [(span.asks(self._applied(one)), False) for one in query.queries]
                elif isinstance(query, ValueQuery):
                    yield from zip(self._figure(query, span), (True, False), strict=True)
            except (Refused, filters.FilterError):
                continue

    def _panel(self, panel: Panel, chosen: Chosen, span: _Span) -> PanelAnswer:
        try:
            query = with_chosen(panel.query, chosen)
            shown = self._answers[type(panel.query)](query, panel.kind, span)
        except (Refused, filters.FilterError) as error:
            detail = error.detail if isinstance(error, Refused) else str(error)
            return PanelAnswer(title=panel.title, kind=panel.kind, problem=detail)
        return PanelAnswer(title=panel.title, kind=panel.kind, **shown)

    # --- panels

    def _chart(self, query: ChartQuery, _kind: str, span: _Span) -> dict[str, Any]:
        asked = [span.asks(self._applied(one)) for one in query.queries]
        shifted = [one.model_copy(update={"shift": shift}) for shift in query.beside for one in asked]
        return {
            "chart": self._from.metrics.ask_all([*asked, *shifted], lambda one: one, kept=span.sweep).answers,
            "usual": [self._band(one, span) for one in asked] if query.usual else None,
        }

    def _band(self, query: MetricQuery, span: _Span) -> BaselineAnswer | None:
        """What is usual of a question; None where that is not known of its kind, or of so long a span."""
        if query.metric is None or query.take not in get_args(Kept):
            return None
        hours = math.floor(span.start / HOUR) - 1, math.ceil(span.end / HOUR) + 1
        if hours[1] - hours[0] > LONGEST_BAND:
            return None
        try:
            return self._usual(
                query.metric, query.where, tuple(query.by), query.take, *hours, time.time() // BAND_LASTS
            )
        except Refused:
            return None

    def _worked_out(
        self, metric: str, where: str | None, by: tuple[str, ...], take: str, first: int, last: int, _now: float
    ) -> BaselineAnswer:
        return self._from.foresight.baseline(
            BaselineQuery.model_validate(
                {
                    "metric": metric, "where": where, "by": by or ("host",), "take": take,
                    "from": rfc3339(first * HOUR), "to": rfc3339(last * HOUR),
                }
            )
        )  # fmt: skip

    def _value(self, query: ValueQuery, _kind: str, span: _Span) -> dict[str, Any]:
        whole, sliver = self._figure(query, span)
        value = self._from.metrics.ask(whole, whole=True, kept=span.sweep)
        return {"value": value, "course": self._from.metrics.ask(sliver, kept=span.sweep)}

    def _figure(self, query: ValueQuery, span: _Span) -> tuple[MetricQuery, MetricQuery]:
        """The questions for one value, and for its course."""
        asked = span.asks(MetricQuery.model_validate(self._applied(query).model_dump(exclude={"limit"})))
        return asked, asked.model_copy(update={"step": None, "points": SLIVER})

    def _applied(self, query: MetricQuery) -> MetricQuery:
        return query.model_copy(update={"where": self._named(query.where, query.filter), "filter": None})

    def _table(self, query: HostTableQuery, _kind: str, _span: _Span) -> dict[str, Any]:
        where = self._named(query.where, query.filter)
        return {"table": self._from.table.page(query.model_copy(update={"where": where, "cursor": None}))}

    def _states(self, query: StatesQuery, _kind: str, _span: _Span) -> dict[str, Any]:
        return {"states": self._from.tree.level(query.by, query.below)}

    def _events(self, query: EventsQuery, kind: str, span: _Span) -> dict[str, Any]:
        said = {"text": query.text, "where": query.where, "from": rfc3339(span.start), "to": rfc3339(span.end)}
        if kind == "patterns":
            return {"patterns": self._from.patterns.of(PatternQuery.model_validate({**said, "limit": query.limit}))}
        return {"events": self._from.events.find(EventQuery.model_validate({**said, "limit": query.limit})).items}

    def _list(self, query: ListQuery, kind: str, span: _Span) -> dict[str, Any]:
        if kind == "incidents":
            closed = "closed" if query.state == "recovered" else query.state
            found = self._from.incidents.page(where=query.where, state=closed, limit=query.limit, cursor=None)
            return {"incidents": found.items}
        over = "recovered" if query.state == "closed" else query.state
        alerts = self._from.alerts.page(
            span.start, span.end, where=query.where, state=over, limit=query.limit, cursor=None
        )
        return {"alerts": alerts.items}

    @staticmethod
    def _text(query: TextQuery, _kind: str, _span: _Span) -> dict[str, Any]:
        return {"text": query.text}

    # --- what may be chosen

    def _choices(self, variable: Variable, chosen: Chosen) -> list[str]:
        try:
            where = filled(variable.where, chosen)
        except filters.FilterError:
            return []
        metric = self._from.metrics.metric(variable.metric) if variable.metric else None
        if metric is not None and variable.of not in _OF_HOSTS:
            try:
                named = self._from.metrics.selector.select(metric, where, [variable.of], apart=True).named
            except filters.FilterError:
                return []
            return sorted({text for one in named if (text := one[variable.of])})[:MOST_CHOICES]
        hosts = self._directory.all()
        if metric is not None:
            mine = {one["host"] for one in self._from.metrics.selector.select(metric, where, ["host"]).named}
            hosts = [known for known in hosts if known.name in mine]
        elif where:
            hosts = self._directory.matching(read_filter(where, "where"))
        found: set[str] = set()
        for known in hosts:
            value = attribute_of(known, variable.of)
            found.update(_texts(value))
        return sorted(found)[:MOST_CHOICES]


def _texts(value: Any) -> Sequence[str]:
    if isinstance(value, list | tuple):
        return [str(one) for one in value]
    return [str(value)] if value not in (None, "") else []
