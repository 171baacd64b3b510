"""`balise trail`: the likely causes, with what speaks for each."""

from __future__ import annotations

import argparse
import json
import shutil
import textwrap
from datetime import datetime
from typing import Any

from balise.api.trail import TrailQuery
from balise.cli.connect import console, model
from balise.cli.errors import CommandError
from balise.cli.output import Column, local_time, printable, show

MOST_WIDE = 110
MOST_DEPARTED, MOST_BECAUSE = 40, 4
NOTHING_SAID = "Nothing moves the odds yet: say causes with balise incident cause."


def add(noun: argparse.ArgumentParser) -> None:
    noun.add_argument("incident", type=int, nargs="?", metavar="INCIDENT")
    noun.add_argument("--host", help="what is felt at a host, whether there is an incident or not")
    noun.add_argument("--service", help="at a service, by its name; with --host the one there")
    noun.add_argument("--application", help="at an application")
    noun.add_argument("--alert", type=int, metavar="ID", help="at an alert")
    noun.add_argument("--from", dest="from_", metavar="TIME", help="like -40m, or RFC 3339 (-40m)")
    noun.add_argument("--to", metavar="TIME", help="(now)")
    noun.add_argument("--record", action="store_true", help="how often which rank was right, as people said")
    noun.add_argument("--days", type=int, help="of so many days (all)")
    noun.add_argument("--all", action="store_true", help="everything that departed, and all evidence")
    noun.add_argument("--format", choices=("table", "json"), default="table", help="table, unless given")
    noun.set_defaults(run=_run)


def _run(a: argparse.Namespace) -> int:
    if a.record:
        return _record(a)
    with console() as c:
        found = c.call("GET", f"/incidents/{a.incident}/trail") if a.incident is not None else c.call(
            "POST", "/trail", _query(a)
        )  # fmt: skip
    if a.format == "json":
        print(json.dumps(found, indent=2, ensure_ascii=False))
    else:
        width = min(MOST_WIDE, shutil.get_terminal_size((100, 30)).columns)
        print("\n".join(lines_of(found, whole=a.all, width=width)))
    return 0


def _query(a: argparse.Namespace) -> TrailQuery:
    if not (a.host or a.service or a.application or a.alert):
        raise CommandError("say an incident, or --host, --service, --application or --alert")
    query: TrailQuery = model(
        TrailQuery, host=a.host, service=a.service, application=a.application, alert=a.alert, from_=a.from_, to=a.to
    )
    return query


def lines_of(found: dict[str, Any], *, whole: bool, width: int) -> list[str]:
    """A trail in text: the sentence, the suspects, and what departed in its order."""
    out = _wrapped(found["sentence"], width, "")
    if found["cause"]:
        out += _wrapped(f"{found['cause']['who']} said: the cause was {found['cause']['text']}", width, "")
    for before in found["before"]:
        said = f"before, incident {before['incident']} ({local_time(before['at'])}): {before['text']}"
        out += _wrapped(said, width, "")
    for one in found["suspects"]:
        out += ["", *_suspect(one, whole, width)]
    departed = found["departed"] if whole else _first(found["departed"])
    if departed:
        out += ["", "departed from their usual, in this order"]
        out += [_departure(one, width) for one in departed]
        more = found["departed_count"] - len(departed)
        out += [f"  and {more} more (--all)"] if more else []
    looked = found["looked_at"]
    left = f"; {looked['left_out']:,} left out" if looked["left_out"] else ""
    counts = f"{looked['hosts']:,} hosts, {looked['series']:,} series and {looked['events']:,} events"
    return [*out, "", f"looked at {counts} in {looked['seconds']:.1f} s{left}"]


def _suspect(one: dict[str, Any], whole: bool, width: int) -> list[str]:
    since = f"since {local_time(one['since'])} (± {one['uncertainty_seconds']:.0f} s)"
    out = _wrapped(f"{one['title']}, {since}", width, " " * 10)
    out[0] = f"{one['rank']:>2}  {one['sure']:4.0%}  {out[0][10:]}"
    out += _wrapped(one["what"], width, " " * 10)
    if one["less"]:
        out += _wrapped(f"less likely: {one['less']}", width, " " * 10)
    told = [
        reason for reason in one["because"] if reason["text"] not in (one["what"], f"{one['title']}: {one['what']}")
    ]
    for reason in told[: None if whole else MOST_BECAUSE]:
        at = f"{_clock(reason['at'])}  " if reason["at"] else ""
        against = reason["text"].startswith("although ")
        out += _wrapped(f"{'' if against else 'because '}{at}{reason['text']}", width, " " * 10)
    if one["rank"] == 1:
        out += _wrapped(f"do: {one['advice']}", width, " " * 10)
    return out


def _first(departed: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """Those that are shown of many: the farthest, in their order."""
    weight = sorted((-abs(one["deviation"] or 5.0), i) for i, one in enumerate(departed))[:MOST_DEPARTED]
    return [departed[i] for i in sorted(i for _, i in weight)]


def _departure(one: dict[str, Any], width: int) -> str:
    deviation = f"{one['deviation']:+5.0f} ×" if one["deviation"] is not None else "       "
    rank = f"[{one['of']}]" if one["of"] else ""
    off = f"± {one['uncertainty_seconds']:.0f} s"
    line = f"  {_clock(one['at'])} {off:>8} {deviation} {rank:>4} {one['host'] or ''}: {one['text']}"
    return printable(line if len(line) <= width else line[: width - 1] + "…")


def _clock(text: str) -> str:
    return datetime.fromisoformat(text).astimezone().strftime("%H:%M:%S")


def _wrapped(text: str, width: int, indent: str) -> list[str]:
    return textwrap.wrap(printable(text), width, initial_indent=indent, subsequent_indent=indent) or [""]


def _record(a: argparse.Namespace) -> int:
    with console() as c:
        found = c.call("GET", "/trail/record", days=a.days)
    if a.format == "json":
        print(json.dumps(found, indent=2, ensure_ascii=False))
        return 0
    said = found["said"]
    print(f"of {said} incidents whose cause somebody named:")
    for name in ("first", "second", "third", "later", "other"):
        share = f" ({found[name] / said:.0%})" if said else ""
        print(f"  {name if name != 'other' else 'none of those named':20} {found[name]:4}{share}")
    columns: list[Column] = [
        ("kind of thing", lambda k: k["kind"]),
        ("expected", lambda k: f"{k['expected']:.1f}"),
        ("right", lambda k: k["right"]),
        ("moves the odds by", lambda k: f"{k['leaning']:+.2f}"),
    ]
    print()
    show(
        {"items": found["kinds"]},
        columns,
        "table",
        empty=NOTHING_SAID,
    )
    return 0
