"""`balise delivery`: the record of what was told to whom."""

from __future__ import annotations

import argparse

from balise.cli.build import verb, verbs
from balise.cli.connect import console
from balise.cli.output import Column, local_time, show


def add(noun: argparse.ArgumentParser) -> None:
    deliveries = verbs(noun)
    verb(deliveries, "list", "the newest deliveries", _list)


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/deliveries")
    columns: list[Column] = [
        ("at", lambda x: local_time(x["sent_at"] or x["created_at"])),
        ("channel", lambda x: x["channel"]),
        ("what", lambda x: x["kind"]),
        ("alert", lambda x: x["alert"]),
        ("result", lambda x: x["state"]),
        ("tries", lambda x: x["attempts"]),
        ("problem", lambda x: x["problem"]),
    ]
    show(answer, columns, a.format, empty="Nothing has been told to anybody yet.")
    return 0
