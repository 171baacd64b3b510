"""`balise candidate`: machines that wait to be let in, and who speaks to receivers and is no host."""

from __future__ import annotations

import argparse

from balise.cli.build import verb, verbs
from balise.cli.connect import console, model
from balise.cli.output import Column, local_time, show


def add(noun: argparse.ArgumentParser) -> None:
    waiting = verbs(noun)
    verb(waiting, "list", "who waits", _list)
    approve = verb(waiting, "approve", "let a machine in", _approve, form_=False)
    approve.add_argument("id", type=_which, metavar="ID", help="as balise candidate list says it: 3, or s3 of a sender")
    approve.add_argument("--name", help="under another name than its own")
    refuse = verb(waiting, "refuse", "turn a machine away, or keep nothing more of a sender", _refuse, form_=False)
    refuse.add_argument("id", type=_which, metavar="ID", help="as balise candidate list says it: 3, or s3 of a sender")


def _which(text: str) -> tuple[str, int]:
    """`_which("s3") == ("sender", 3)`."""
    if not text.removeprefix("s").isdecimal():
        raise argparse.ArgumentTypeError(f"{text!r} is no id: write one as balise candidate list says it")
    return "sender" if text.startswith("s") else "agent", int(text.removeprefix("s"))


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/candidates")
    columns: list[Column] = [
        ("id", lambda x: f"s{x['id']}" if x["kind"] == "sender" else x["id"]),
        ("name", lambda x: x["name"]),
        ("from", lambda x: x["origin"]),
        ("system", lambda x: x["facts"]["os"]),
        ("key or receiver", lambda x: x["key"] or x["receiver"]),
        ("named by", lambda x: x["named_by"]),
        ("events", lambda x: x["events"] if x["kind"] == "sender" else ""),
        ("since", lambda x: local_time(x["asked_at"])),
        ("last", lambda x: local_time(x["last_at"]) if x["last_at"] else ""),
        ("", lambda x: "refused" if x["refused"] else ""),
    ]
    show(answer, columns, a.format, empty="No machine waits to be let in.")
    return 0


def _approve(a: argparse.Namespace) -> int:
    from balise.api.agents import Approval

    kind, number = a.id
    with console() as c:
        answer = c.call("POST", f"/candidates/{number}/approve", model(Approval, name=a.name), kind=kind)
        print(answer["detail"])
    return 0


def _refuse(a: argparse.Namespace) -> int:
    kind, number = a.id
    with console() as c:
        print(c.call("DELETE", f"/candidates/{number}", kind=kind)["detail"])
    return 0
