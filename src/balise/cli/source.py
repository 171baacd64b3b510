"""`balise source`: every place that lines come from, and how it goes there."""

from __future__ import annotations

import argparse
import sys

from balise.api.parsers import Mask, Parser, ParserQuestion
from balise.api.sources import PathQuestion
from balise.cli.build import verb, verbs
from balise.cli.connect import console, model
from balise.cli.output import Column, local_time, printable, show
from balise.client.connection import quoted
from balise.core.quantities import in_words


def add(noun: argparse.ArgumentParser) -> None:
    sources = verbs(noun)
    every = verb(sources, "list", "sources of a host or of all; what somebody has to look at comes first", _list)
    every.add_argument("--host", metavar="NAME")
    states = ("following", "empty", "nothing-matches", "unreadable", "directory", "binary", "held-back", "stopped")
    every.add_argument("--state", choices=states)
    attempt = verb(sources, "try", "what is at a path on a host: its last lines, or why there are none", _try)
    attempt.add_argument("host")
    attempt.add_argument("path", help="may have *, ?, [ ], and ** for folders of any depth")
    parse = verb(sources, "parse", "lines of standard input as the events that a parser makes of them", _parse)
    forms = ("auto", "plain", "json", "key-value", "access", "postgresql-csv", "postgresql-json", "syslog", "pattern")
    parse.add_argument("--form", choices=forms, help="(auto, or pattern with --pattern)")
    parse.add_argument("--pattern", metavar="REGEX", help="its named groups are the fields")
    parse.add_argument("--mask", action="append", default=[], metavar="REGEX", help="made unreadable; may be repeated")


COLUMNS: list[Column] = [
    ("host", lambda x: x["host"]),
    ("kind", lambda x: x["kind"]),
    ("source", lambda x: x["name"]),
    ("state", lambda x: x["state"].replace("-", " ")),
    ("lines", lambda x: x["lines"]),
    ("a minute", lambda x: "" if x["lines_per_minute"] is None else f"{x['lines_per_minute']:.0f}"),
    ("last line", lambda x: local_time(x["last_line_at"])),
    ("dropped", lambda x: x["dropped"] or ""),
    ("", lambda x: x["message"]),
]


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/sources", host=a.host, state=a.state)
    show(
        answer, COLUMNS, a.format, empty="No lines come from anywhere yet: follow a file in a plan, or make a receiver."
    )
    return 0


def _try(a: argparse.Namespace) -> int:
    with console() as c:
        found = c.call("POST", f"/hosts/{quoted(a.host)}/paths/try", model(PathQuestion, path=a.path))
    if a.format != "table":
        lines = [{"line": line} for line in found["lines"]]
        show(found if a.format == "json" else {"items": lines}, [("line", lambda x: x["line"])], a.format)
        return 0
    for line in found["lines"]:
        print(printable(line))
    print(f"{found['state'].replace('-', ' ')}: {found['message']}", file=sys.stderr)
    if found["near"]:
        print("near: " + ", ".join(found["near"]), file=sys.stderr)
    return 0 if found["state"] in ("following", "empty") else 1


def _parse(a: argparse.Namespace) -> int:
    parser = model(Parser, form=a.form or ("pattern" if a.pattern else "auto"), pattern=a.pattern)
    masks = [model(Mask, pattern=one) for one in a.mask]
    lines = [line.rstrip("\n") for line in sys.stdin][:200]
    with console() as c:
        answer = c.call("POST", "/parsers/try", model(ParserQuestion, parser=parser, mask=masks, lines=lines))
    if a.format != "table":
        show(answer, [("line", lambda x: x["line"]), ("problem", lambda x: x["problem"])], a.format)
        return 0
    for one in answer["items"]:
        print(printable(one["line"]))
        event = one["event"]
        if event is None:
            print(f"    does not fit: {one['problem']}")
            continue
        print(f"    {local_time(event['time']) or 'no time'}  {event['severity']}  {printable(event['body'])}")
        for name, value in event["attributes"].items():
            print(f"    {name} = {printable(value)}")
    fitting = sum(one["event"] is not None for one in answer["items"])
    print(f"{fitting} of {in_words(len(lines), '{line}')} fit", file=sys.stderr)
    return 0
