"""Translating the filter language into SQL over the event table.

What an event's own columns say is asked of SQLite; what its attributes say is asked of the very function that live
streams ask, called by SQLite for the sets that have an attribute of that name.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass
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
    is_of_host,
    is_present,
    passes,
    text_of,
)

NAMED = ("host", "source")
"""Columns whose names are in tables of their own."""
MOST_TAGS = 200
_ORDER = {"eq": "=", "gt": ">", "ge": ">=", "lt": "<", "le": "<="}
_SEVERER = {"eq": "=", "gt": "<", "ge": "<=", "lt": ">", "le": ">="}

HostsMatching = Callable[[Compare | Present], list[str]]
"""The names of the hosts that pass one term on something of the host."""


@dataclass(frozen=True)
class Lookups:
    """What a filter asks of others: `family` gives a pattern with all those whose place it took, `said_by` the patterns
    of a source, or of all, with a severity code from the worst to the mildest."""

    hosts: HostsMatching
    family: Callable[[int], set[int]]
    said_by: Callable[[str | None, int, int], set[int]]


def to_sql(node: Filter, lookups: Lookups) -> tuple[str, list[Any]]:
    """A condition and its parameters; the connection has to have `FUNCTIONS`.

    Severities are stored as their numerical code, of which a lower one is more severe.
    """
    if isinstance(node, Both | Either):
        left, one = to_sql(node.left, lookups)
        right, two = to_sql(node.right, lookups)
        return f"({left} {'AND' if isinstance(node, Both) else 'OR'} {right})", one + two
    if isinstance(node, Negated):
        inner, parameters = to_sql(node.inner, lookups)
        return f"(NOT {inner})", parameters
    if isinstance(node, Compare) and node.comparison == "ne":
        return to_sql(Negated(Compare(node.attribute, "eq", node.value)), lookups)
    if isinstance(node, Compare) and node.value is None:
        return to_sql(Negated(Present(node.attribute)), lookups) if node.comparison == "eq" else ("0", [])
    return _term(node, fold_name(node.attribute), lookups)


def _term(node: Compare | Present, name: str, lookups: Lookups) -> tuple[str, list[Any]]:
    if is_of_host(name):
        named = "SELECT id FROM host WHERE name IN (SELECT value FROM json_each(?))"
        return f"(host IN ({named}))", [json.dumps(lookups.hosts(node))]
    if name == "severity":
        return ("1", []) if isinstance(node, Present) else _severity(node)
    if name == "pattern":
        if isinstance(node, Present):
            return "(pattern <> 0)", []
        return "(pattern IN (SELECT value FROM json_each(?)))", [json.dumps(sorted(patterns_of(node, lookups)))]
    if name in NAMED:
        found, parameters = ("name <> ''", []) if isinstance(node, Present) else _of_column(node, name, "name")
        return f"({name} IN (SELECT id FROM {name} WHERE {found}))", parameters
    if name == "body":
        return ("(event.body <> '')", []) if isinstance(node, Present) else _of_column(node, name, "event.body")
    if '"' in name:
        raise FilterError(f"{node.attribute!r} is no attribute name")
    asked = json.dumps([name, "pr", None] if isinstance(node, Present) else [name, node.comparison, node.value])
    return _of_attributes(name, asked)


def _of_attributes(name: str, asked: str) -> tuple[str, list[Any]]:
    """Attributes are with the event, or the number of a set that is kept once and so is asked once."""

    def passing(column: str) -> str:
        # Only sets that have the name are worth a call.
        return f"(coalesce(instr(lower({column}), ?), 0) > 0 AND balise_passes(?, {column}))"

    sql = (
        "(CASE typeof(event.attributes) "
        f"WHEN 'integer' THEN event.attributes IN (SELECT id FROM kept WHERE {passing('kept.attributes')}) "
        f"WHEN 'text' THEN {passing('event.attributes')} ELSE 0 END)"
    )
    return sql, [f'"{name}"', asked] * 2


def patterns_of(node: Compare, lookups: Lookups) -> set[int]:
    """The numbers of the patterns a term asks for.

    Raises:
        FilterError: patterns are the same or not, and nothing else.
    """
    if node.comparison != "eq":
        raise FilterError("a pattern can be compared with eq and ne")
    text = text_of(node.value)
    if not text.isdecimal() or len(text) > 9:
        return set()
    return lookups.family(int(text)) | {int(text)}


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


Tag = tuple[str, Any]
"""The letter of a tag in the index, and what it stands for: `h` a host's name, `p` the number of a pattern."""


def required_tags(node: Filter | None, lookups: Lookups) -> list[list[Tag]]:
    """Groups of tags of which each event that matches has one: none when there is nothing that it has to have."""
    if isinstance(node, Compare) and node.comparison in ("eq", "gt", "ge"):
        tags = _tags_of(node, lookups)
        return [] if tags is None or len(tags) > MOST_TAGS else [tags]
    if isinstance(node, Both):
        return required_tags(node.left, lookups) + required_tags(node.right, lookups)
    if isinstance(node, Either):
        left, right = required_tags(node.left, lookups), required_tags(node.right, lookups)
        if left and right:
            either = min(left, key=len) + min(right, key=len)
            return [either] if len(either) <= MOST_TAGS else []
    return []


def _tags_of(node: Compare, lookups: Lookups) -> list[Tag] | None:
    name = fold_name(node.attribute)
    if name == "host" and node.comparison == "eq" and isinstance(node.value, str):
        return [("h", node.value)]
    if name == "pattern" and node.comparison == "eq":
        return [("p", number) for number in sorted(patterns_of(node, lookups))]
    if name == "source" and node.comparison == "eq" and isinstance(node.value, str):
        found = lookups.said_by(node.value, 0, len(SEVERITIES))
    elif name == "severity":
        mildest = SEVERITIES.index(node.value)
        worst = mildest if node.comparison == "eq" else 0
        found = lookups.said_by(None, worst, mildest - (node.comparison == "gt"))
    else:
        return None
    # What is like no others may be of any source and severity.
    return [("p", number) for number in sorted({*found, 0})]


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
