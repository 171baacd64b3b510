"""Rows as values: what a kit's part says its columns mean."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from balise.api.kits import KitFree, KitMetric, KitPart, KitReading, KitTable, Scalar
from balise.api.trail import SignKind

Row = Mapping[str, Any]
MOST_VALUES = 5000
"""Values of one part in one reading: what is beyond is left out, and said."""
MOST_ATTRIBUTE = 200
MOST_CELL = 1000


class Value(NamedTuple):
    """One value of one metric."""

    metric: str
    value: float
    attributes: dict[str, str]


class MetricMeaning(NamedTuple):
    unit: str
    kind: str
    about: str
    tells: SignKind | None = None
    """What it tells of work, where its name does not say it."""


def metrics_of(part: KitPart) -> Iterator[tuple[str, KitMetric]]:
    """Every metric a part describes; one name may be described several times, for different attributes."""
    for name, described in part.metrics.items():
        for one in described:
            yield name, one


def meanings_of(kit: KitReading) -> dict[str, MetricMeaning]:
    """Unit, kind and meaning of all that a kit collects."""
    found: dict[str, MetricMeaning] = {}
    for part in kit.read:
        for name, metric in metrics_of(part):
            found.setdefault(name, MetricMeaning(metric.unit, metric.kind, metric.about, metric.tells))
        if part.free is not None:
            found.setdefault(part.free.metric, MetricMeaning(part.free.unit, "gauge", part.free.about))
    for log in kit.logs:
        for name, metric in log.metrics.items():
            found.setdefault(name, MetricMeaning(metric.unit, metric.kind, metric.about, metric.tells))
    return found


def wanted(part: KitPart, rows: Iterable[Row]) -> list[Row]:
    """The rows a part is about."""
    if not part.where:
        return list(rows)
    return [row for row in rows if all(text_of(row.get(column)) in held for column, held in part.where.items())]


def values_of(part: KitPart, rows: Sequence[Row]) -> Iterator[Value]:
    """The values of a part's rows. A row without the column, or with no number in it, gives none."""
    left = MOST_VALUES
    for row in rows:
        named = {attribute: text_of(row.get(column)) for attribute, column in part.attributes.items()}
        for value in _of_row(part, row, {k: v for k, v in named.items() if v}):
            if not left:
                return
            left -= 1
            yield value


def _of_row(part: KitPart, row: Row, named: dict[str, str]) -> Iterator[Value]:
    if part.samples:
        yield from _sample(row, named)
    for name, metric in metrics_of(part):
        for attributes, column in _columns(metric):
            number = number_of(row.get(column), metric.states)
            if number is not None and (metric.least is None or number >= metric.least):
                yield Value(name, number * metric.scale, {**named, **metric.attributes, **attributes})
    if part.free is not None:
        yield from _free(part.free, row, named)


def _columns(metric: KitMetric) -> Iterator[tuple[dict[str, str], str]]:
    if metric.column is not None:
        yield {}, metric.column
    elif metric.split is not None:
        for value, column in metric.split.columns.items():
            yield {metric.split.attribute: value}, column


def _free(free: KitFree, row: Row, named: dict[str, str]) -> Iterator[Value]:
    words = {k[:MOST_ATTRIBUTE]: text_of(v) for k, v in row.items() if isinstance(v, str) and number_of(v) is None}
    for column, held in row.items():
        number = number_of(held)
        if number is not None:
            yield Value(free.metric, number, {**named, **words, free.attribute: column[:MOST_ATTRIBUTE]})


def _sample(row: Row, named: dict[str, str]) -> Iterator[Value]:
    number = number_of(row.get("value"))
    if number is not None:
        labels = row.get("labels") or {}
        yield Value(str(row["name"]), number, {**named, **{k: text_of(v) for k, v in labels.items()}})


def number_of(held: Any, states: Mapping[str, float] | None = None) -> float | None:
    """A cell as a number; None for what is none, and for what is not finite."""
    if states:
        return states.get(text_of(held), states.get("*"))
    if held is None:
        return None
    try:
        number = float(held)
    except (TypeError, ValueError):
        return None
    return number if number - number == 0 else None


def text_of(held: Any) -> str:
    """A cell as an attribute's value; empty for none."""
    if held is None:
        return ""
    if isinstance(held, bool):
        return "true" if held else "false"
    return str(held)[:MOST_ATTRIBUTE]


def table_of(table: KitTable, rows: Sequence[Row]) -> list[dict[str, Scalar]]:
    """Rows as they are kept to be looked at, their texts cut to what a person reads."""
    columns = list(table.columns) or list(rows[0] if rows else ())
    return [{c: cell_of(row.get(c)) for c in columns} for row in rows[: table.most]]


def cell_of(held: Any) -> Scalar:
    if held is None or isinstance(held, bool | int):
        return held
    number = number_of(held) if not isinstance(held, str) else None
    if number is not None:
        return round(number, 6)
    text = str(held)
    return text if len(text) <= MOST_CELL else text[: MOST_CELL - 1] + "…"


def facts_of(part: KitPart, rows: Sequence[Row]) -> dict[str, str]:
    """Version, identity and role, from the first row."""
    if not rows:
        return {}
    return {name: text for name, column in part.facts.items() if (text := text_of(rows[0].get(column)))}
