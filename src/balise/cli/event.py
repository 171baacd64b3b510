"""`balise event`: log records from everywhere."""

from __future__ import annotations

import argparse
import contextlib
import sys
import time
from datetime import UTC, datetime

from balise.api.event_days import EventDay
from balise.api.events import EventQuery, ExportQuery, FieldsQuery, HistogramQuery, PatternQuery
from balise.api.spans import instant
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
    patterns = verb(
        of, "patterns", "what the log says: lines that say the same with other values, new ones first", _patterns
    )
    patterns.add_argument("text", nargs="?", help="words that must be there")
    filters(patterns)
    span(patterns, "-1h")
    patterns.add_argument("--order", choices=("new", "count"), default="new", help="new ones first, or by count")
    patterns.add_argument("--limit", type=int, default=50)
    fields = verb(of, "fields", "the top values of attributes, counted", _fields)
    fields.add_argument("attribute", nargs="*", help="of these; of all that there are, unless named")
    fields.add_argument("--text", help="words that must be there")
    filters(fields)
    span(fields, "-1h")
    fields.add_argument("--limit", type=int, default=10, help="values of each (10)")
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
    verb(of, "days", "the days of which there are events, here or set aside", _days)
    for name, about in _DAYS.items():
        verb(of, name, about, _day).add_argument("day", metavar="YYYY-MM-DD", help="in UTC")
    follow = verb(of, "follow", "events as they arrive, until interrupted", _follow)
    follow.add_argument("text", nargs="?")
    filters(follow)


_DAYS = {
    "set-aside": "copy a day that is over out of here, and read the copy back; the day itself stays",
    "let-go": "remove a day from here of which there is a copy that reads back",
    "bring-back": "put a copy among the days again, to be searched like all others",
}
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
        aside = _set_aside(c.days.list(), a.from_, a.to) if not answer["next"] and a.format == "table" else []
    columns = [("id", lambda e: e["id"]), *EVENT_COLUMNS] if a.ids else EVENT_COLUMNS
    show(answer, columns, a.format, empty="No event matches in this span.")
    if answer["next"] and a.format == "table":
        print(f"There are more: --limit {a.limit * 4}, or a narrower filter.", file=sys.stderr)
    for day in aside:
        print(f"{day} is set aside: balise event bring-back {day} puts it here again.", file=sys.stderr)
    return 0


def _set_aside(days: list[EventDay], from_: str, to: str) -> list[str]:
    """The days of a span that are not here, at most ten."""
    now = time.time()
    first, last = (datetime.fromtimestamp(instant(at, now), UTC).date().isoformat() for at in (from_, to))
    return [one.day for one in days if not one.here and first <= one.day <= last][:10]


PATTERN_COLUMNS: list[Column] = [
    ("change", lambda p: p["change"]),
    ("count", lambda p: p["count"]),
    ("share", lambda p: f"{p['share']:.1%}"),
    ("yesterday", lambda p: p["yesterday"]),
    ("last week", lambda p: p["last_week"]),
    ("severity", lambda p: p["severity"]),
    ("source", lambda p: p["source"]),
    ("hosts", lambda p: _names(p["hosts"], p["host_count"])),
    ("first seen", lambda p: local_time(p["first_seen"])),
    ("id", lambda p: p["id"]),
    ("pattern", lambda p: p["pattern"][:200]),
]


def _names(names: list[str], count: int) -> str:
    """The first two, and how many more there are."""
    more = f" and {count - 2} more" if count > 2 else ""
    return ", ".join(names[:2]) + more


def _patterns(a: argparse.Namespace) -> int:
    spans = {"text": a.text, "where": a.where, "filter": a.filter, "from_": a.from_, "to": a.to}
    with console() as c:
        answer = c.call("POST", "/events/patterns", model(PatternQuery, order=a.order, limit=a.limit, **spans))
    show(answer, PATTERN_COLUMNS, a.format, empty="No event matches in this span.")
    if len(answer["items"]) < answer["total"] and a.format == "table":
        print(f"There are {answer['total']}: --limit {a.limit * 4}, or a narrower filter.", file=sys.stderr)
    return 0


def _fields(a: argparse.Namespace) -> int:
    spans = {"text": a.text, "where": a.where, "filter": a.filter, "from_": a.from_, "to": a.to}
    with console() as c:
        answer = c.call(
            "POST", "/events/fields", model(FieldsQuery, attributes=a.attribute or None, limit=a.limit, **spans)
        )
    if a.format == "json":
        show(answer, [], a.format)
        return 0
    rows = [
        {"attribute": one["attribute"], **value}
        for one in answer["items"]
        for value in [*one["values"], *([{"value": "(others)", "count": one["others"]}] if one["others"] else [])]
    ]
    columns: list[Column] = [
        ("attribute", lambda v: v["attribute"]),
        ("value", lambda v: v["value"]),
        ("events", lambda v: v["count"]),
    ]
    show({"items": rows}, columns, a.format, empty="No event matches in this span.")
    if answer["left_out"] and a.format == "table":
        print(f"{in_words(answer['left_out'], '{event}')} were too many to be looked at.", file=sys.stderr)
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


DAY_COLUMNS: list[Column] = [
    ("day, UTC", lambda d: d["day"]),
    ("here", lambda d: "brought back" if d["brought_back"] else "yes" if d["here"] else "no"),
    ("events", lambda d: d["events"]),
    ("takes", lambda d: in_words(d["bytes"], "By") if d["here"] else ""),
    ("set aside", lambda d: local_time(d["copy"]["written_at"]) if d["copy"] else "no"),
    ("copy takes", lambda d: in_words(d["copy"]["packed_bytes"], "By") if d["copy"] else ""),
]


def _days(a: argparse.Namespace) -> int:
    with console() as c:
        show(c.call("GET", "/event-days"), DAY_COLUMNS, a.format, empty="There are no events yet.")
    return 0


def _day(a: argparse.Namespace) -> int:
    work = {"set-aside": "set_aside", "let-go": "let_go", "bring-back": "bring_back"}[a.verb]
    with console() as c:
        done = getattr(c.days, work)(a.day)
    show({"items": [done.model_dump(by_alias=True)]}, DAY_COLUMNS, a.format)
    return 0
