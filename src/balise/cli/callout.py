"""`balise callout`: who is told of what."""

from __future__ import annotations

import argparse

from balise.api.notify import CalloutBody
from balise.cli.build import verb, verbs
from balise.cli.connect import console, model
from balise.cli.output import Column, show

USUAL = 'severity ge "warning"'


def add(noun: argparse.ArgumentParser) -> None:
    callouts = verbs(noun)
    verb(callouts, "list", "all callouts", _list)
    put = verb(callouts, "set", "add or change a callout", _set, form_=False)
    put.add_argument("name")
    put.add_argument("--when", metavar="FILTER", help=f"({USUAL}, unless --filter says it)")
    put.add_argument("--filter", metavar="NAME", help="a filter that has a name (balise filter list)")
    put.add_argument("--tell", required=True, nargs="+", metavar="CHANNEL")
    verb(callouts, "delete", "take a callout away", _delete, form_=False).add_argument("name")


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/callouts")
    columns: list[Column] = [
        ("callout", lambda x: x["name"]),
        ("when", lambda x: x["when"]),
        ("tell", lambda x: x["tell"]),
    ]
    show(answer, columns, a.format, empty="No callouts: nobody is told of anything yet.")
    return 0


def _set(a: argparse.Namespace) -> int:
    with console() as c:
        when = a.when if a.when is not None else "" if a.filter else USUAL
        c.callouts.set(a.name, model(CalloutBody, when=when, filter=a.filter, tell=a.tell))
    print(f"callout {a.name} kept")
    return 0


def _delete(a: argparse.Namespace) -> int:
    with console() as c:
        c.callouts.delete(a.name)
    print(f"callout {a.name} deleted")
    return 0
