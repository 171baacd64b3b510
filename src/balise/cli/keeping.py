"""`balise keeping`: how long things are kept."""

from __future__ import annotations

import argparse
import sys

from balise.api.keeping import DAY, EventKeep, Keeping, RetentionAnswer
from balise.api.spans import seconds
from balise.cli.build import filters, verb, verbs
from balise.cli.connect import console, model
from balise.cli.errors import CommandError
from balise.cli.output import Column, show
from balise.client import Balise
from balise.core.quantities import in_words


def add(noun: argparse.ArgumentParser) -> None:
    keeping = verbs(noun)
    verb(keeping, "show", "how long things are kept, what they take, and when the disk is full", _show)
    change = verb(keeping, "set", "keep things so many days from now on; what is older is forgotten for good", _set)
    for name, about in _ABOUT.items():
        change.add_argument(f"--{name.replace('_', '-')}", type=float, metavar="DAYS", help=about)
    change.add_argument(
        "--most", type=float, metavar="GIB", help="the oldest days of events go beyond so much; 0: none"
    )
    change.add_argument(
        "--set-aside",
        choices=("on", "off"),
        help="copy days of events out before they are forgotten (balise event days)",
    )
    by = verb(keeping, "by", "keep events that pass a filter so many days instead; the first that fits decides", _by)
    by.add_argument("days", type=float, metavar="DAYS")
    filters(by)
    verb(keeping, "as-others", "keep events that pass a filter as long as all others again", _as_others).add_argument(
        "where", metavar="FILTER", help="as balise keeping show says it"
    )


_ABOUT = {
    "raw": "points as they came",
    "five_minutes": "points summed up in steps of five minutes",
    "hour": "points summed up in steps of an hour",
    "events": "events, and the evidence that was kept with them",
    "alerts": "alerts that are over, states of hosts, and who was told",
    "audit": "who did what",
}


def _show(a: argparse.Namespace) -> int:
    with console() as c:
        _tell(c, a.format)
    return 0


def _set(a: argparse.Namespace) -> int:
    changed = {name: getattr(a, name) for name in _ABOUT if getattr(a, name) is not None}
    if a.most is not None:
        changed["most_event_bytes"] = int(a.most * (1 << 30)) or None
    if a.set_aside is not None:
        changed["set_aside"] = a.set_aside == "on"
    if not changed:
        raise CommandError("say what to keep for how many days, like --events 7")
    with console() as c:
        _change(c, **changed)
        _tell(c, a.format)
    return 0


def _by(a: argparse.Namespace) -> int:
    if not a.where and not a.filter:
        raise CommandError("say which events: --where FILTER, or --filter NAME")
    with console() as c:
        where = c.filters.get(a.filter).where if a.filter else None
        both = f"({a.where}) and ({where})" if a.where and where else a.where or where
        others = [entry for entry in c.keeping.show().events_by if entry.where != both]
        keep = f"{a.days:g}d" if a.days == int(a.days) else f"{a.days * DAY:.0f}s"
        _change(c, events_by=[*others, model(EventKeep, where=both, keep=keep)])
        _tell(c, a.format)
    return 0


def _as_others(a: argparse.Namespace) -> int:
    with console() as c:
        before = c.keeping.show().events_by
        left = [entry for entry in before if entry.where != a.where]
        if len(left) == len(before):
            raise CommandError(f"nothing is kept by the filter {a.where!r}: balise keeping show says which there are")
        _change(c, events_by=left)
        _tell(c, a.format)
    return 0


def _change(c: Balise, **changed: object) -> None:
    c.keeping.set(Keeping.model_validate({**c.keeping.show().model_dump(), **changed}))


def _tell(c: Balise, form: str) -> None:
    keeping, now = c.keeping.show(), c.keeping.retention()
    takes = {"raw": f"{in_words(now.point_bytes, 'By')}, with what is summed up"}
    takes["events"] = f"{in_words(now.event_bytes, 'By')}, of {in_words(now.event_days, '{day}')}"
    rows = [{"what": _ABOUT[name], "days": getattr(keeping, name), "takes": takes.get(name, "")} for name in _ABOUT]
    at = [row["what"] for row in rows].index(_ABOUT["events"])
    rows[at:at] = [
        {"what": f"events that pass: {entry.where}", "days": seconds(entry.keep) / DAY, "takes": ""}
        for entry in keeping.events_by
    ]
    columns: list[Column] = [
        ("what", lambda d: d["what"]),
        ("kept, days", lambda d: f"{d['days']:g}"),
        ("takes now", lambda d: d["takes"]),
    ]
    if form == "json":
        show(keeping.model_dump(), [], form)
        return
    show({"items": rows}, columns, form)
    if form == "table":
        for line in _said(keeping, now):
            print(line, file=sys.stderr)


def _said(keeping: Keeping, now: RetentionAnswer) -> list[str]:
    """What there is to say beside the table."""
    found = []
    if keeping.most_event_bytes is not None:
        found.append(
            f"Beyond {in_words(keeping.most_event_bytes, 'By')} the oldest days of events go before their time."
        )
    if keeping.set_aside:
        found.append("Days of events are set aside before they go.")
    if now.growth_bytes_per_day is None:
        pace = "how it grows is known half an hour after the start"
    else:
        pace = (
            f"full in {now.full_in_days:.0f} days at the pace of now"
            if now.full_in_days is not None
            else "and nothing grows"
        )
    found.append(f"{in_words(now.free_bytes, 'By')} are free, {pace}.")
    return found
