"""`balise candidate`: machines that wait to be let in."""

from __future__ import annotations

import argparse

from balise.cli.build import verb, verbs
from balise.cli.connect import console, model
from balise.cli.output import Column, local_time, show


def add(noun: argparse.ArgumentParser) -> None:
    waiting = verbs(noun)
    verb(waiting, "list", "who waits", _list)
    approve = verb(waiting, "approve", "let a machine in", _approve, form_=False)
    approve.add_argument("id", type=int)
    approve.add_argument("--name", help="under another name than its own")
    verb(waiting, "refuse", "turn a machine away", _refuse, form_=False).add_argument("id", type=int)


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/candidates")
    columns: list[Column] = [
        ("id", lambda x: x["id"]),
        ("name", lambda x: x["name"]),
        ("from", lambda x: x["origin"]),
        ("system", lambda x: x["facts"]["os"]),
        ("addresses", lambda x: x["facts"]["addresses"]),
        ("key", lambda x: x["key"]),
        ("asked", lambda x: local_time(x["asked_at"])),
    ]
    show(answer, columns, a.format, empty="No machine waits to be let in.")
    return 0


def _approve(a: argparse.Namespace) -> int:
    from balise.api.agents import Approval

    with console() as c:
        print(c.call("POST", f"/candidates/{a.id}/approve", model(Approval, name=a.name))["detail"])
    return 0


def _refuse(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.call("DELETE", f"/candidates/{a.id}")["detail"])
    return 0
