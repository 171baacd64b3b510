"""What is usual of a metric, and where it goes: the answers behind bands and forecasts."""

from __future__ import annotations

import math
import threading
import time
from collections.abc import Mapping
from datetime import tzinfo

import numpy as np

from balise.api.foresight import (
    Band,
    BaselineAnswer,
    BaselineQuery,
    Forecast,
    ForecastAnswer,
    ForecastQuery,
)
from balise.api.rules import RuleBody
from balise.api.spans import rfc3339
from balise.core.moments import NS
from balise.core.rules.baseline import HOUR, LEAST_WEEKS, NEIGHBOURS, WEEKS, hours_before, usual_of
from balise.core.rules.limits import WARNING
from balise.core.rules.trend import reached, trusted
from balise.core.series.steps import Steps
from balise.server.asking import read_filter, span_of
from balise.server.errors import Refused, bad_field
from balise.server.metrics.questions import Metrics, plain
from balise.server.rules.learner import History, Learner, fill
from balise.server.rules.playing import taken
from balise.server.rules.rehearsals import Rehearsals
from balise.server.rules.watched import Watched
from balise.store.series.query import TooLarge

MOST_HOURS = 24 * 92
MOST_LINES = 200
TOLD_FOR, MOST_TOLD = 60.0, 64
"""Seconds for which a forecast is told again, and how many of them are kept."""


class Foresight:
    """Answers questions about one metric. `zone` is where the hours of the week are those on the wall."""

    def __init__(
        self, *, metrics: Metrics, rehearsals: Rehearsals, learner: Learner, history: History, zone: tzinfo
    ) -> None:
        self._metrics = metrics
        self._rehearsals = rehearsals
        self._learner = learner
        self._history = history
        self._zone = zone
        self._telling = threading.Lock()
        self._told: dict[str, tuple[float, ForecastAnswer]] = {}

    def baseline(self, query: BaselineQuery) -> BaselineAnswer:
        """What is usual in each hour of a span. Raises Refused 422 naming the field, 404 for an unknown metric."""
        start, end = span_of(query.from_, query.to, time.time())
        first, last = math.floor(start / HOUR) * HOUR, math.ceil(end / HOUR) * HOUR
        if (last - first) / HOUR > MOST_HOURS:
            raise bad_field("from", "at most 92 days: a band has one step an hour")
        limits = {"warning": {"unusual": query.deviations}}
        rule = self._made(query.metric, query.where, query.take, query.by, limits)
        learnt = first - (WEEKS * 7 * 24 + 4) * HOUR
        steps = Steps(learnt * NS, HOUR * NS, (last - learnt) // HOUR + 4)
        try:
            line, varied = self._learner.by_hour(rule, steps)
        except TooLarge as error:
            raise bad_field("where", str(error)) from None
        hours = list(range(first, last, HOUR))
        low, middle, high = (np.full((len(rule.groups), len(hours)), np.nan) for _ in range(3))
        for i, hour in enumerate(hours):
            places = (np.array(hours_before(hour, self._zone)) - learnt) // HOUR
            usual = usual_of(taken(line, places), taken(varied, places))
            width = query.deviations * usual.spread[:, NEIGHBOURS]
            middle[:, i] = usual.middle[:, NEIGHBOURS]
            low[:, i], high[:, i] = middle[:, i] - width, middle[:, i] + width
        known = ~np.isnan(line)
        oldest = learnt + int(np.argmax(known.any(axis=0))) * HOUR if known.any() else None
        return BaselineAnswer(
            times=[float(hour) for hour in hours],
            series=[
                Band(
                    attributes=_named(rule, group),
                    low=plain(low[group]),
                    middle=plain(middle[group]),
                    high=plain(high[group]),
                    enough=bool((~np.isnan(middle[group])).mean() > 0.5) if hours else False,
                )
                for group in range(min(len(rule.groups), MOST_LINES))
            ],
            learned_from=rfc3339(oldest) if oldest is not None else None,
            enough=oldest is not None and end - oldest >= LEAST_WEEKS * 7 * 24 * HOUR,
        )

    def forecast(self, query: ForecastQuery) -> ForecastAnswer:
        """When a metric gets to a value; for all who ask within a minute it is worked out once. Raises Refused as
        `baseline`."""
        asked = query.model_dump_json()
        found = self._told_lately(asked)
        if found is not None:
            return found
        with self._telling:
            # Whoever was before may have asked the same.
            found = self._told_lately(asked)
            if found is None:
                now = time.time()
                found = self._forecast(query, now)
                self._told.pop(asked, None)
                while len(self._told) >= MOST_TOLD:
                    del self._told[next(iter(self._told))]
                self._told[asked] = now, found
        return found

    def _told_lately(self, asked: str) -> ForecastAnswer | None:
        at, found = self._told.get(asked, (-math.inf, None))
        return found if 0 <= time.time() - at < TOLD_FOR else None

    def _forecast(self, query: ForecastQuery, now: float) -> ForecastAnswer:
        limits = {"warning": {"runs_out_within": query.horizon, "at": query.at}}
        rule = self._made(query.metric, query.where, query.take, query.by, limits)
        courses = rule.courses[WARNING]
        groups = np.arange(len(rule.groups))
        try:
            fill(courses, self._history, rule, now)
        except TooLarge as error:
            raise bad_field("where", str(error)) from None
        at = np.full(len(groups), query.at)
        found = trusted(courses.far.seen(), courses.near.seen(), now, at)
        when = reached(found, at, now)
        late = when.at > now + courses.within
        order = np.argsort(np.where(np.isnan(when.at), np.inf, when.at), kind="stable")

        def told(number: float) -> float | None:
            return float(number) if math.isfinite(number) else None

        return ForecastAnswer(
            series=[
                Forecast(
                    attributes=_named(rule, int(group)),
                    reaches_at=None if late[group] else told(when.at[group]),
                    earliest=None if late[group] else told(when.earliest[group]),
                    latest=None if late[group] else told(when.latest[group]),
                    slope_per_day=told(found.slope[group] * 86_400),
                    fit=told(found.fit[group]),
                )
                for group in order.tolist()[:MOST_LINES]
            ]
        )

    def _made(self, metric: str, where: str | None, take: str, by: list[str], limits: Mapping[str, object]) -> Watched:
        read_filter(where, "where")
        if self._metrics.metric(metric) is None:
            raise Refused(404, f"No metric {metric!r} has arrived yet.")
        measure = {"metric": metric, "where": where, "take": take, "each": by, "over": "1h"}
        body = RuleBody.model_validate({"about": metric, "measure": measure, "limits": limits})
        return self._rehearsals.made(body, lambda _rule, _host: None)


def _named(rule: Watched, group: int) -> dict[str, str]:
    one = rule.groups[group]
    return {**({"host": one.host_name} if "host" in rule.groups.each else {}), **one.attributes}
