"""`balise availability`: how much of a span things were there."""

from __future__ import annotations

import argparse
import json
import sys
from typing import Any

from balise.api.availability import OF, AvailabilityTarget
from balise.cli.build import filters, span, verb, verbs
from balise.cli.connect import console, model
from balise.cli.errors import CommandError
from balise.cli.output import Column, local_time, printable, show
from balise.core.quantities import in_words


def add(noun: argparse.ArgumentParser) -> None:
    of = verbs(noun)
    for kind in OF:
        one = verb(of, kind, f"of one {kind}, or of all", _of)
        one.add_argument("name", nargs="?", help="HOST/SERVICE" if kind == "service" else None)
        one.set_defaults(of=kind)
        span(one, "-30d")
        if kind in ("host", "service"):
            filters(one, "of all: the hosts that pass")
    target = verb(of, "target", "what share of a period something is to be up, or - for none", _target, form_=False)
    target.add_argument("of", choices=OF)
    target.add_argument("name")
    target.add_argument("share", help="like 99.9%%; - takes it away")
    target.add_argument("--per", choices=("week", "month", "quarter", "year"), default="month", help="(month)")


def percent(share: float) -> str:
    """As many digits as tell it from whole: `percent(0.99987) == "99.987 %"`."""
    if share in (0.0, 1.0):
        return f"{share:.0%}".replace("%", " %")
    missing = min(share, 1 - share)
    digits = 1 if missing >= 0.001 else 2 if missing >= 0.0005 else 3
    return f"{share * 100:.{digits}f} %"


def _of(a: argparse.Namespace) -> int:
    return _one(a) if a.name else _all(a)


def _one(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/availability", of=a.of, name=a.name, from_=a.from_, to=a.to)
    if a.format == "json":
        print(json.dumps(answer, indent=2, ensure_ascii=False))
        return 0
    columns: list[Column] = [
        ("from", lambda o: local_time(o["from"])),
        ("to", lambda o: local_time(o["to"]) or "goes on"),
        ("lasted", lambda o: in_words(o["seconds"], "s")),
        ("incident", lambda o: o["incident"] or ""),
        ("cause", lambda o: o["cause"]),
    ]
    if a.format == "table":
        print(printable(f"{a.of} {a.name}"))
        for what in ("up", "down", "maintenance", "unknown"):
            if answer[what] or what in ("up", "down"):
                print(f"  {what:<12} {percent(answer[what]):>10}")
        _print_means(answer)
        print()
    show({"items": answer["outages"]}, columns, a.format, empty="No outage.")
    return 0


def _print_means(answer: dict[str, Any]) -> None:
    if answer["between_seconds"] is not None:
        print(f"  an outage each {in_words(answer['between_seconds'], 's')} of time up")
    if answer["repair_seconds"] is not None:
        print(f"  mended after {in_words(answer['repair_seconds'], 's')} on average")
    if answer["target"]:
        left, seconds = answer["left"], answer["left_seconds"]
        said = f"{in_words(seconds, 's')} left, {left:.0%}" if left >= 0 else f"missed by {in_words(-seconds, 's')}"
        print(f"  target {percent(answer['target']['share'])} a {answer['target']['per']}: {said}")


def _all(a: argparse.Namespace) -> int:
    where = {key: getattr(a, key, None) for key in ("where", "filter")}
    with console() as c:
        answer = c.call("GET", "/availability/list", of=a.of, from_=a.from_, to=a.to, **where)
    columns: list[Column] = [
        (a.of, lambda o: o["name"]),
        ("up", lambda o: percent(o["up"])),
        ("down", lambda o: percent(o["down"])),
        ("unknown", lambda o: percent(o["unknown"])),
        ("maintenance", lambda o: percent(o["maintenance"])),
        ("outages", lambda o: o["outage_count"]),
        ("in all", lambda o: in_words(o["down_seconds"], "s") if o["down_seconds"] else ""),
    ]
    show(answer, columns, a.format, empty=f"There is no {a.of}.")
    if a.format == "table" and answer["left_out"]:
        print(f"and {answer['left_out']} more", file=sys.stderr)
    return 0


def _target(a: argparse.Namespace) -> int:
    with console() as c:
        if a.share == "-":
            print(c.call("DELETE", "/availability/target", of=a.of, name=a.name)["detail"])
            return 0
        try:
            share = float(a.share.rstrip("% ")) / 100
        except ValueError:
            raise CommandError(f"{a.share!r}: write a percentage like 99.9%, or - to take it away") from None
        body = model(AvailabilityTarget, share=share, per=a.per)
        print(c.call("PUT", "/availability/target", body, of=a.of, name=a.name)["detail"])
    return 0
