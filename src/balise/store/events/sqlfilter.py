"""Translating the filter language into SQL over the event table.

What an event's own columns say is asked of SQLite; what its attributes say is asked of the very function that live
streams ask, called by SQLite for the rows that have an attribute of that name.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from functools import lru_cache
from typing import Any

from balise.api.events import SEVERITIES
from balise.core.filters import (
    Both,
    Compare,
    Either,
    Filter,
    FilterError,
    Negated,
    Present,
    by_name,
    fold_name,
    is_present,
    passes,
    text_of,
)

COLUMNS = {"host": "host", "source": "source", "body": "event.body"}
_ORDER = {"eq": "=", "gt": ">", "ge": ">=", "lt": "<", "le": "<="}
_SEVERER = {"eq": "=", "gt": "<", "ge": "<=", "lt": ">", "le": ">="}

HostsMatching = Callable[[Compare | Present], list[str]]
"""The names of the hosts that pass one term on `label.…` or `group`."""


def to_sql(node: Filter, hosts: HostsMatching) -> tuple[str, list[Any]]:
    """A condition and its parameters; the connection has to have `FUNCTIONS`.

    Severities are stored as their numerical code, of which a lower one is more severe.
    """
    if isinstance(node, Both | Either):
        left, one = to_sql(node.left, hosts)
        right, two = to_sql(node.right, hosts)
        return f"({left} {'AND' if isinstance(node, Both) else 'OR'} {right})", one + two
    if isinstance(node, Negated):
        inner, parameters = to_sql(node.inner, hosts)
        return f"(NOT {inner})", parameters
    if isinstance(node, Compare) and node.comparison == "ne":
        return to_sql(Negated(Compare(node.attribute, "eq", node.value)), hosts)
    if isinstance(node, Compare) and node.value is None:
        return to_sql(Negated(Present(node.attribute)), hosts) if node.comparison == "eq" else ("0", [])
    return _term(node, fold_name(node.attribute), hosts)


def _term(node: Compare | Present, name: str, hosts: HostsMatching) -> tuple[str, list[Any]]:
    if name.startswith("label.") or name == "group":
        return "(host IN (SELECT value FROM json_each(?)))", [json.dumps(hosts(node))]
    if name == "severity":
        return ("1", []) if isinstance(node, Present) else _severity(node)
    if name in COLUMNS:
        column = COLUMNS[name]
        return (f"({column} <> '')", []) if isinstance(node, Present) else _of_column(node, name, column)
    if '"' in name:
        raise FilterError(f"{node.attribute!r} is no attribute name")
    asked = json.dumps([name, "pr", None] if isinstance(node, Present) else [name, node.comparison, node.value])
    # Only rows whose attributes have the name are worth a call.
    return "(coalesce(instr(lower(attributes), ?), 0) > 0 AND balise_passes(?, attributes))", [f'"{name}"', asked]


def _severity(node: Compare) -> tuple[str, list[Any]]:
    code = SEVERITIES.index(node.value)
    return f"(severity {_SEVERER[node.comparison]} ?)", [code]


def _of_column(node: Compare, name: str, column: str) -> tuple[str, list[Any]]:
    wanted, comparison = node.value, node.comparison
    if comparison in ("co", "sw", "ew"):
        return _of_text(column, comparison, wanted)
    if isinstance(wanted, str):
        return f"({column} {_ORDER[comparison]} ?)", [wanted]
    return f"balise_holds(?, {column})", [json.dumps([name, comparison, wanted])]


def _of_text(column: str, comparison: str, wanted: Any) -> tuple[str, list[Any]]:
    """Text without regard to case: SQLite folds ASCII by itself, and asks for help with what is more."""
    word = text_of(wanted).casefold()
    if not word:
        return "1", []
    plain = f"length({column}) = length(CAST({column} AS BLOB))"
    folded = f"CASE WHEN {plain} THEN lower({column}) ELSE balise_folded({column}) END"
    if comparison == "co":
        return f"(instr({folded}, ?) > 0)", [word]
    if comparison == "sw":
        return f"(substr({folded}, 1, ?) = ?)", [len(word), word]
    return f"(substr({folded}, -?) = ?)", [len(word), word]


def required_hosts(node: Filter | None) -> list[str] | None:
    """The hosts outside which nothing can match, or None when any may."""
    if isinstance(node, Compare) and fold_name(node.attribute) == "host" and node.comparison == "eq":
        return [node.value] if isinstance(node.value, str) else None
    if isinstance(node, Both):
        left, right = required_hosts(node.left), required_hosts(node.right)
        return left if right is None else right
    if isinstance(node, Either):
        left, right = required_hosts(node.left), required_hosts(node.right)
        return None if left is None or right is None else left + right
    return None


@lru_cache(maxsize=1024)
def _asked(spec: str) -> tuple[str, str, Any]:
    name, comparison, wanted = json.loads(spec)
    return name, comparison, wanted


@lru_cache(maxsize=256)
def _held(attributes: str) -> dict[str, Any]:
    """Several terms ask the same row one after the other."""
    try:
        found = json.loads(attributes)
    except ValueError:
        return {}
    return by_name(found.items()) if isinstance(found, dict) else {}


def _passes(spec: str, attributes: str | None) -> bool:
    name, comparison, wanted = _asked(spec)
    found = _held(attributes).get(name) if attributes else None
    return is_present(found) if comparison == "pr" else passes(name, comparison, wanted, found)


def _holds(spec: str, found: Any) -> bool:
    name, comparison, wanted = _asked(spec)
    return passes(name, comparison, wanted, found)


def _folded(text: str | None) -> str | None:
    return None if text is None else text.casefold()


FUNCTIONS: Mapping[str, tuple[int, Callable[..., Any]]] = {
    "balise_passes": (2, _passes),
    "balise_holds": (2, _holds),
    "balise_folded": (1, _folded),
}
"""What SQLite has to be given for the conditions, by name: how many arguments, and the function."""
