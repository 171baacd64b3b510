"""`balise event`: log records from everywhere."""

from __future__ import annotations

import argparse
import contextlib
import sys

from balise.api.events import EventQuery, ExportQuery, HistogramQuery
from balise.cli.build import filters, span, verb, verbs
from balise.cli.connect import console, model
from balise.cli.output import Column, local_time, show, text_of
from balise.client.connection import quoted
from balise.core.quantities import in_words


def add(noun: argparse.ArgumentParser) -> None:
    of = verbs(noun)
    search = verb(of, "search", "events by text, filter and span, newest first", _search)
    search.add_argument(
        "text", nargs="?", help='words that must be there; "in quotes" as a phrase, begin* as a beginning'
    )
    filters(search)
    span(search, "-1h")
    search.add_argument("--limit", type=int, default=50)
    search.add_argument("--ids", action="store_true", help="with the id of each, for balise event around")
    around = verb(of, "around", "the lines before and after an event", _around)
    around.add_argument("id", help="as balise event search --ids says it")
    around.add_argument("--scope", choices=("source", "host"), default="source", help="of its source, or of its host")
    around.add_argument("--lines", type=int, default=10, help="before and after (10)")
    export = verb(of, "export", "all events of a question, as lines of a file", _export, form_=False)
    export.add_argument("text", nargs="?")
    filters(export)
    span(export, "-1h")
    kinds = ("csv", "jsonl", "rfc5424")
    export.add_argument("--as", dest="kind", choices=kinds, default="csv", help="what a line is (csv)")
    export.add_argument("--to-file", metavar="FILE", help="where to, instead of standard output")
    follow = verb(of, "follow", "events as they arrive, until interrupted", _follow)
    follow.add_argument("text", nargs="?")
    filters(follow)


EVENT_COLUMNS: list[Column] = [
    ("time", lambda e: local_time(e["time"])),
    ("severity", lambda e: e["severity"]),
    ("host", lambda e: e["host"]),
    ("source", lambda e: e["source"]),
    ("text", lambda e: e["body"][:300]),
]


def _search(a: argparse.Namespace) -> int:
    query = model(EventQuery, text=a.text, where=a.where, filter=a.filter, from_=a.from_, to=a.to, limit=a.limit)
    with console() as c:
        answer = c.call("POST", "/events/query", query)
    columns = [("id", lambda e: e["id"]), *EVENT_COLUMNS] if a.ids else EVENT_COLUMNS
    show(answer, columns, a.format, empty="No event matches in this span.")
    if answer["next"] and a.format == "table":
        print(f"There are more: --limit {a.limit * 4}, or a narrower filter.", file=sys.stderr)
    return 0


def _around(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", f"/events/{quoted(a.id)}/around", scope=a.scope, lines=a.lines)
    if a.format == "json":
        show(answer, EVENT_COLUMNS, a.format)
        return 0
    marked = [
        {"mark": mark, **one}
        for mark, part in (("", answer["before"]), (">", [answer["event"]]), ("", answer["after"]))
        for one in part
    ]
    show({"items": marked}, [("", lambda e: e["mark"]), *EVENT_COLUMNS], a.format)
    return 0


def _export(a: argparse.Namespace) -> int:
    spans = {"text": a.text, "where": a.where, "filter": a.filter, "from_": a.from_, "to": a.to}
    query = model(ExportQuery, format=a.kind, **spans)
    with console() as c:
        total = c.events.count(model(HistogramQuery, **spans)).total
        with open(a.to_file, "wb") if a.to_file else contextlib.nullcontext(sys.stdout.buffer) as file:
            size = 0
            for part in c.events.export(query):
                file.write(part)
                size += len(part)
                if sys.stderr.isatty():
                    print(f"\r{size / 2**20:.1f} MiB of {total} events", end="", file=sys.stderr, flush=True)
    if a.to_file:
        print(f"{in_words(total, '{event}')}, {in_words(size, 'By')}, in {a.to_file}")
    return 0


def _follow(a: argparse.Namespace) -> int:
    with console() as c:
        for event in c.events.follow(a.where, a.text, filter=a.filter):
            if a.format == "json":
                print(event.model_dump_json(), flush=True)
            else:
                row = [text_of(get(event.model_dump())) for _, get in EVENT_COLUMNS]
                print("  ".join(row), flush=True)
    return 0
