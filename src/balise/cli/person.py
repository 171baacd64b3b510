"""`balise person`: people who can be told."""

from __future__ import annotations

import argparse
from typing import Any

from balise.api.hours import DAYS
from balise.api.persons import PersonBody
from balise.cli.build import verb, verbs
from balise.cli.connect import console, model
from balise.cli.errors import CommandError
from balise.cli.output import Column, show


def add(noun: argparse.ArgumentParser) -> None:
    of = verbs(noun)
    verb(of, "list", "everybody who can be told", _list)
    put = verb(of, "set", "add or change somebody", _set, form_=False)
    put.add_argument("name")
    put.add_argument("--channel", required=True, nargs="+", metavar="CHANNEL", help="balise channel list")
    hours(put, "--quiet", "when they are not to be told, like 22:00-07:00")
    verb(of, "delete", "take somebody away", _delete, form_=False).add_argument("name")


def hours(parser: argparse.ArgumentParser, option: str, about: str) -> None:
    """Hours of the week: from when to when, on which days, by which clock."""
    parser.add_argument(option, metavar="HH:MM-HH:MM", help=about)
    parser.add_argument("--days", nargs="+", choices=DAYS, help="on these days (all)")
    parser.add_argument("--zone", default="UTC", help="by the clocks of this time zone, like Europe/Oslo (UTC)")


def hours_of(text: str | None, a: argparse.Namespace, option: str) -> dict[str, Any] | None:
    if text is None:
        return None
    begin, there, end = text.partition("-")
    if not there:
        raise CommandError(f"{option} {text!r}: write it as 22:00-07:00")
    days = {"days": a.days} if a.days else {}
    return {"from": begin, "to": end, "zone": a.zone, **days}


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/people")
    columns: list[Column] = [
        ("person", lambda x: x["name"]),
        ("channels", lambda x: x["channels"]),
        ("quiet", lambda x: hours_text(x["quiet"])),
    ]
    show(answer, columns, a.format, empty="Nobody yet: balise person set NAME --channel CHANNEL")
    return 0


def hours_text(hours: dict[str, Any] | None) -> str:
    """`18:00-08:00 Europe/Oslo, mon tue`."""
    if hours is None:
        return ""
    days = "" if len(hours["days"]) == len(DAYS) else ", " + " ".join(hours["days"])
    return f"{hours['from']}-{hours['to']} {hours['zone']}{days}"


def _set(a: argparse.Namespace) -> int:
    with console() as c:
        c.persons.set(a.name, model(PersonBody, channels=a.channel, quiet=hours_of(a.quiet, a, "--quiet")))
    print(f"person {a.name} kept")
    return 0


def _delete(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.persons.delete(a.name))
    return 0
