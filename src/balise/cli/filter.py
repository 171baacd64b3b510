"""`balise filter`: filters that have a name, and what a filter means."""

from __future__ import annotations

import argparse
import sys
from typing import Any

from balise.api.filters import FilterBody, FilterExplained, FilterQuestion
from balise.cli.build import verb, verbs
from balise.cli.connect import console, model
from balise.cli.output import Column, show


def add(noun: argparse.ArgumentParser) -> None:
    filters = verbs(noun)
    verb(filters, "list", "all filters that have a name", _list)
    put = verb(filters, "set", "keep a filter under a name, new or changed", _set, form_=False)
    put.add_argument("name")
    put.add_argument("where", metavar="FILTER")
    put.add_argument("--about", default="", help="what it is for")
    told = verb(filters, "explain", "what a filter means, or where its slip is", _explain)
    told.add_argument("where", metavar="FILTER")
    verb(filters, "delete", "take a filter away", _delete, form_=False).add_argument("name")


COLUMNS: list[Column] = [
    ("filter", lambda x: x["name"]),
    ("says", lambda x: x["sentence"]),
    ("about", lambda x: x["about"]),
    ("owner", lambda x: x["owner"]),
]


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/filters")
    show(answer, COLUMNS, a.format, empty="No filter has a name yet: balise filter set NAME FILTER")
    return 0


def _set(a: argparse.Namespace) -> int:
    with console() as c:
        kept = c.filters.set(a.name, model(FilterBody, where=a.where, about=a.about))
    print(f"filter {kept.name} kept: {kept.sentence}")
    return 0


def _explain(a: argparse.Namespace) -> int:
    with console() as c:
        told = c.filters.explain(model(FilterQuestion, where=a.where).where)
    if a.format == "json":
        print(told.model_dump_json(indent=2))
    elif told.problem is not None:
        print("\n".join(_slip(told)), file=sys.stderr)
    else:
        print("\n".join(_drawn(told.tree or {}, "")))
    return 1 if told.problem is not None else 0


def _slip(told: FilterExplained) -> list[str]:
    """The filter with a mark under the place of its slip."""
    problem = told.problem
    if problem is None:
        return []
    lines = [told.where, " " * (problem.at - 1) + "^", problem.message]
    return [*lines, f"what could stand there: {'  '.join(problem.expected)}"] if problem.expected else lines


_JOINED = {"all": "all of", "any": "any of", "not": "none of"}


def _drawn(node: dict[str, Any], indent: str) -> list[str]:
    for kind, words in _JOINED.items():
        if kind in node:
            return [indent + words, *(line for part in node[kind] for line in _drawn(part, indent + "  "))]
    return [indent + node["sentence"]]


def _delete(a: argparse.Namespace) -> int:
    with console() as c:
        c.filters.delete(a.name)
    print(f"filter {a.name} deleted")
    return 0
