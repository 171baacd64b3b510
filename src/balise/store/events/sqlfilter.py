"""Translating the filter language into SQL over the event table."""

from __future__ import annotations

import json
from collections.abc import Callable
from typing import Any

from balise.api.events import SEVERITIES
from balise.core.filters import Both, Compare, Either, Filter, FilterError, Negated, Present

COLUMNS = {"host": "host", "severity": "severity", "source": "source", "body": "event.body"}
_ORDER = {"gt": ">", "ge": ">=", "lt": "<", "le": "<="}

HostsMatching = Callable[[Compare | Present], list[str]]
"""The names of the hosts that pass one term on `label.…` or `group`."""


def to_sql(node: Filter, hosts: HostsMatching) -> tuple[str, list[Any]]:
    """A condition and its parameters.

    Severities are stored as their numerical code, of which a lower one is more severe.
    """
    if isinstance(node, Both | Either):
        left, one = to_sql(node.left, hosts)
        right, two = to_sql(node.right, hosts)
        return f"({left} {'AND' if isinstance(node, Both) else 'OR'} {right})", one + two
    if isinstance(node, Negated):
        inner, parameters = to_sql(node.inner, hosts)
        return f"(NOT coalesce({inner}, 0))", parameters
    if node.attribute.startswith("label.") or node.attribute == "group":
        names = hosts(node)
        return "host IN (SELECT value FROM json_each(?))", [json.dumps(names)]
    column, parameters = _column(node.attribute)
    if isinstance(node, Present):
        return f"({column} IS NOT NULL AND {column} <> '')", parameters * 2
    if node.attribute == "severity":
        return _severity(node)
    return _comparison(node, column, parameters)


def _column(attribute: str) -> tuple[str, list[Any]]:
    if attribute in COLUMNS:
        return COLUMNS[attribute], []
    if '"' in attribute:
        raise FilterError(f"{attribute!r} is no attribute name")
    return "json_extract(attributes, ?)", [f'$."{attribute}"']


def _severity(node: Compare) -> tuple[str, list[Any]]:
    code = SEVERITIES.index(node.value)  # type: ignore[arg-type]
    if node.comparison in ("eq", "ne"):
        return f"severity {'=' if node.comparison == 'eq' else '<>'} ?", [code]
    if node.comparison in _ORDER:
        turned = {"gt": "<", "ge": "<=", "lt": ">", "le": ">="}[node.comparison]
        return f"severity {turned} ?", [code]
    raise FilterError(f"severity cannot be compared with {node.comparison}: use eq ne gt ge lt le")


def _comparison(node: Compare, column: str, parameters: list[Any]) -> tuple[str, list[Any]]:
    value: Any = node.value
    if node.comparison in ("eq", "ne"):
        if value is None:
            return f"{column} IS {'NOT ' if node.comparison == 'ne' else ''}NULL", parameters
        same = f"{column} IS ?" if node.comparison == "eq" else f"{column} IS NOT ?"
        if isinstance(value, float):
            same = same.replace(column, f"CAST({column} AS REAL)")
        elif not isinstance(value, bool):
            same = same.replace(column, f"CAST({column} AS TEXT)")
        return same, [*parameters, int(value) if isinstance(value, bool) else value]
    if node.comparison in _ORDER:
        kind = "REAL" if isinstance(value, float) else "TEXT"
        return f"CAST({column} AS {kind}) {_ORDER[node.comparison]} ?", [*parameters, value]
    word = str(value).lower()
    if node.comparison == "co":
        return f"instr(lower({column}), ?) > 0", [*parameters, word]
    if node.comparison == "sw":
        return f"substr(lower({column}), 1, ?) = ?", [*parameters, len(word), word]
    return f"substr(lower({column}), -?) = ?", [*parameters, max(len(word), 1), word]


def required_hosts(node: Filter | None) -> list[str] | None:
    """The hosts outside which nothing can match, or None when any may."""
    if isinstance(node, Compare) and node.attribute == "host" and node.comparison == "eq":
        return [str(node.value)]
    if isinstance(node, Both):
        left, right = required_hosts(node.left), required_hosts(node.right)
        return left if right is None else right
    if isinstance(node, Either):
        left, right = required_hosts(node.left), required_hosts(node.right)
        return None if left is None or right is None else left + right
    return None
