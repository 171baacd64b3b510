"""`balise metric`: measured values."""

from __future__ import annotations

import argparse
import json
import sys
from datetime import datetime
from operator import itemgetter

from balise.api.metrics import MetricQuery
from balise.cli.build import filters, span, verb, verbs
from balise.cli.connect import console, model
from balise.cli.output import Column, print_table, show, text_of
from balise.core.quantities import in_words


def add(noun: argparse.ArgumentParser) -> None:
    of = verbs(noun)
    listing = verb(of, "list", "the metrics there are", _list)
    listing.add_argument("text", nargs="?", help="only names that contain this")
    read = verb(of, "read", "values of a metric over time", _read)
    read.add_argument("metric")
    filters(read)
    span(read, "-1h")
    read.add_argument("--step", metavar="DURATION", help="like 5m; chosen to fit, unless given")
    read.add_argument("--points", type=int, default=20, help="about how many steps (20)")
    read.add_argument("--take", default="avg", help="avg min max sum count last rate p50 p90 p95 p99 (avg)")
    read.add_argument("--by", default="host", help="attributes to tell apart, with commas between (host)")
    read.add_argument("--top", type=int, help="only so many series, the highest")


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/metrics")
    if a.text:
        answer["items"] = [m for m in answer["items"] if a.text.lower() in m["name"].lower()]
    columns: list[Column] = [
        ("metric", lambda m: m["name"]),
        ("unit", lambda m: m["unit"]),
        ("kind", lambda m: m["kind"]),
        ("series", lambda m: m["series"]),
        ("meaning", lambda m: m["description"]),
    ]
    show(answer, columns, a.format, empty="No metric of that name has arrived yet.")
    return 0


def _read(a: argparse.Namespace) -> int:
    query = model(
        MetricQuery,
        metric=a.metric,
        where=a.where,
        filter=a.filter,
        from_=a.from_,
        to=a.to,
        step=a.step,
        points=None if a.step else a.points,
        take=a.take,
        by=[b for b in a.by.split(",") if b],
        top=a.top,
    )
    with console() as c:
        answer = c.call("POST", "/metrics/query", query)
    if a.format == "json":
        print(json.dumps(answer, indent=2, ensure_ascii=False))
        return 0
    names = [" ".join(v for v in s["attributes"].values() if v) or answer["metric"] for s in answer["series"]]
    if not names:
        print("No series matches. See which attributes there are: balise metric list", file=sys.stderr)
        return 0
    raw = a.format == "csv"
    rows = [
        [
            datetime.fromtimestamp(t).astimezone().isoformat(" ", "seconds")[:19],
            *(text_of(s["values"][i]) if raw else in_words(s["values"][i], answer["unit"]) for s in answer["series"]),
        ]
        for i, t in enumerate(answer["times"])
    ]
    if raw:
        items = [dict(enumerate(row)) for row in rows]
        show({"items": items}, [(h, itemgetter(i)) for i, h in enumerate(["time", *names])], "csv")
    else:
        print_table(["time", *names], rows, sys.stdout)
        print(f"{a.take} of {answer['metric']} each {answer['step_seconds']:g} s, from {answer['tier']} points")
        if answer["note"]:
            print(answer["note"])
    return 0
