"""What a rule measures: a metric, a sum of several, events, or alerts."""

from __future__ import annotations

from typing import Annotated, Literal, get_args

from pydantic import Field, model_validator

from balise.api.arithmetic import names_in
from balise.api.metrics import FilterText, MetricName, Take, Value, Values
from balise.api.spans import Duration
from balise.api.strict import Strict

MeasureKind = Literal["metric", "values", "events", "alerts"]
MEASURE_KINDS: tuple[MeasureKind, ...] = get_args(MeasureKind)
Attribute = Annotated[str, Field(min_length=1, max_length=255)]


class Measure(Strict):
    """One of `metric`, `values`, `events` and `alerts`.

    `values` are metrics by name, which `compute` puts together: numbers, `+ - * /` and parentheses. `events` is a
    filter, of whose events there are counted all, or with `of` the different values of an attribute; with `pattern`
    only those whose pattern is new, or comes much more often than before. `alerts` is a filter on open alerts.
    """

    metric: MetricName | None = None
    values: Values | None = None
    compute: Annotated[str, Field(min_length=1, max_length=500)] | None = None
    events: FilterText | None = None
    text: Annotated[str, Field(max_length=500)] | None = None
    pattern: Literal["new", "more"] | None = None
    alerts: FilterText | None = None
    where: FilterText | None = None
    each: Annotated[list[Attribute], Field(min_length=1, max_length=8)] = ["host"]
    take: Take | Literal["distinct"] | None = None
    of: Attribute | None = None
    over: Duration | None = None

    @property
    def kind(self) -> MeasureKind:
        return next(kind for kind in MEASURE_KINDS if getattr(self, kind) is not None)

    @property
    def taken(self) -> Take | Literal["distinct"]:
        """How the points or events of a window become one number."""
        return self.take or ("last" if self.kind == "metric" else "count")

    @property
    def parts(self) -> dict[str, Value]:
        """The metrics that are measured by name; a lone one has the name `value`."""
        if self.metric is not None:
            return {"value": Value(metric=self.metric, where=self.where, take=self.taken)}  # type: ignore[arg-type]
        return self.values or {}

    @model_validator(mode="after")
    def _measures_one_thing(self) -> Measure:
        said = [kind for kind in MEASURE_KINDS if getattr(self, kind) is not None]
        if len(said) != 1:
            raise ValueError(f"a measure is of one thing: write exactly one of {', '.join(MEASURE_KINDS)}")
        getattr(self, f"_check_{said[0]}")()
        self._check_words(said[0])
        if self.take is None and said[0] != "values":
            self.take = self.taken
        return self

    def _check_words(self, kind: MeasureKind) -> None:
        """What belongs to one kind of measure alone."""
        for key, kinds in _ONLY_FOR.items():
            if getattr(self, key) is not None and kind not in kinds:
                raise ValueError(f"{key} goes with {' and '.join(kinds)}, not with {kind}")

    def _check_metric(self) -> None:
        if self.take == "distinct":
            raise ValueError("take: distinct is of events; of a metric count says how many points there are")

    def _check_values(self) -> None:
        if self.compute is None:
            raise ValueError("say how the values become one: compute: 100 * bad / all")
        if self.take is not None:
            raise ValueError("each of the values has its own take")
        unknown = names_in(self.compute) - set(self.values or {})
        if unknown:
            raise ValueError(f"compute: there is no value {sorted(unknown)[0]!r} among values")

    def _check_events(self) -> None:
        if self.take not in (None, "count", "distinct"):
            raise ValueError("take of events is count or distinct")
        if (self.taken == "distinct") != (self.of is not None):
            raise ValueError("take: distinct and of: ATTRIBUTE go together")
        if self.pattern is not None and self.take == "distinct":
            raise ValueError("pattern counts events: leave take out")

    def _check_alerts(self) -> None:
        if self.take not in (None, "count"):
            raise ValueError("take of alerts is count")


_ONLY_FOR: dict[str, tuple[MeasureKind, ...]] = {
    "compute": ("values",),
    "text": ("events",),
    "pattern": ("events",),
    "of": ("events",),
    "where": ("metric",),
}
