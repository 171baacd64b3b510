"""`balise metric moved` and `chart`: what moved most, and lines drawn."""

from __future__ import annotations

import argparse
import os
import shutil
import sys
from pathlib import Path
from typing import Any

from balise.api.metrics import MetricQuery
from balise.api.moved import MovedQuery
from balise.cli.build import filters, span, verb
from balise.cli.connect import console, model
from balise.cli.drawing import COLOURS, drawn
from balise.cli.errors import CommandError
from balise.cli.output import Column, printable, show
from balise.core.quantities import in_words

MOST_LINES = 6
TAKES = "avg min max sum count last rate change p50 p90 p95 p99 (avg)"


def add(of: Any) -> None:
    moved = verb(of, "moved", "what moved most in a stretch, beside what was before and what is usual", _moved)
    filters(moved, "on hosts, or on attributes of series")
    span(moved, "-15m")
    moved.add_argument("--limit", type=int, default=20, help="how many (20)")
    chart = verb(of, "chart", "a chart, drawn in the terminal or kept as a picture", _chart, form_=False)
    chart.add_argument("metric")
    filters(chart)
    span(chart, "-3h")
    chart.add_argument("--take", default="avg", help=TAKES)
    chart.add_argument("--by", default="host", help="attributes to tell apart, with commas between (host)")
    chart.add_argument("--top", type=int, default=MOST_LINES, help=f"only so many lines, the highest ({MOST_LINES})")
    chart.add_argument("--shift", metavar="TIME", help="like -1d: what was a day before, at these times")
    way = chart.add_mutually_exclusive_group()
    way.add_argument("--draw", action="store_true", help="in the terminal (so it is unless --output is given)")
    way.add_argument("--output", type=Path, metavar="FILE", help="a PNG, drawn by the service")


def _moved(a: argparse.Namespace) -> int:
    query = model(MovedQuery, from_=a.from_, to=a.to, where=a.where, filter=a.filter, limit=a.limit)
    with console() as c:
        answer = c.call("POST", "/metrics/moved", query)
    columns: list[Column] = [
        ("moved", lambda m: f"{m['deviation']:+.0f} ×"),
        ("metric", lambda m: m["metric"]),
        ("host", lambda m: m["host"]),
        ("of", lambda m: " ".join(m["attributes"].values())),
        ("before", lambda m: in_words(m["before"], m["unit"])),
        ("now", lambda m: in_words(m["during"], m["unit"])),
        ("alike", lambda m: m["alike"] or ""),
    ]
    show(answer, columns, a.format, empty=f"Nothing of {answer['looked']} series moved by as much as counts.")
    if a.format == "table":
        known = f"and the same hours of {answer['days']} days" if answer["days"] else "as no days before are known"
        print(f"{answer['looked']} series looked at, beside what was before {known}", file=sys.stderr)
    return 0


def _chart(a: argparse.Namespace) -> int:
    if a.output:
        return _picture(a)
    by = [b for b in a.by.split(",") if b]
    room = shutil.get_terminal_size((100, 30))
    said = {"metric": a.metric, "where": a.where, "filter": a.filter, "take": a.take, "by": by, "top": a.top}
    query = model(MetricQuery, **said, from_=a.from_, to=a.to, shift=a.shift, points=min(600, 2 * room.columns))
    with console() as c:
        answer = c.call("POST", "/metrics/query", query)
    lines = answer["series"]
    if not lines:
        raise CommandError("no series matches: balise metric list shows which attributes there are")
    colour = sys.stdout.isatty() and "NO_COLOR" not in os.environ
    height = max(6, min(20, room.lines - len(lines) - 5))
    values = [one["values"] for one in lines]
    print("\n".join(drawn(answer["times"], values, answer["unit"], width=room.columns, height=height, colour=colour)))
    for number, one in enumerate(lines):
        newest = next((v for v in reversed(one["values"]) if v is not None), None)
        name = printable(" ".join(v for v in one["attributes"].values() if v) or answer["metric"])
        mark = f"\x1b[{COLOURS[number % len(COLOURS)]}m━━\x1b[0m" if colour else "━━"
        print(f"  {mark} {name}  {in_words(newest, answer['unit'])}")
    print(f"{a.take} of {answer['metric']} each {answer['step_seconds']:g} s")
    return 0


def _picture(a: argparse.Namespace) -> int:
    with console() as c:
        picture = c.metrics.picture(
            a.metric, where=a.where, from_=a.from_, to=a.to, take=a.take, by=a.by.split(","), filter=a.filter,
            shift=a.shift, top=a.top,
        )  # fmt: skip
    a.output.write_bytes(picture)
    print(f"kept in {a.output}", file=sys.stderr)
    return 0
