"""`balise delivery`: the record of what was told to whom."""

from __future__ import annotations

import argparse

from balise.cli.build import verb, verbs
from balise.cli.connect import console
from balise.cli.output import Column, local_time, show


def add(noun: argparse.ArgumentParser) -> None:
    deliveries = verbs(noun)
    listing = verb(deliveries, "list", "the newest deliveries", _list)
    listing.add_argument("--incident", type=int, metavar="ID")
    listing.add_argument("--channel")
    listing.add_argument("--state", choices=("waiting", "sent", "given-up"))
    again = verb(deliveries, "resend", "send what was told once more", _resend, form_=False)
    again.add_argument("id", type=int)


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/deliveries", incident=a.incident, channel=a.channel, state=a.state)
    columns: list[Column] = [
        ("at", lambda x: local_time(x["sent_at"] or x["created_at"])),
        ("id", lambda x: x["id"]),
        ("channel", lambda x: x["channel"]),
        ("person", lambda x: x["person"]),
        ("what", lambda x: x["kind"]),
        ("incident", lambda x: x["incident"]),
        ("result", lambda x: x["state"]),
        ("tries", lambda x: x["attempts"]),
        ("problem", lambda x: x["problem"]),
        ("answer", lambda x: x["answer"]),
    ]
    show(answer, columns, a.format, empty="Nothing has been told to anybody yet.")
    return 0


def _resend(a: argparse.Namespace) -> int:
    with console() as c:
        made = c.deliveries.resend(a.id)
    print(f"on its way again, as delivery {made.id}")
    return 0
