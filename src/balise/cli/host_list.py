"""`balise host add`: lists of hosts, tested side by side."""

from __future__ import annotations

import argparse
import csv
import sys
import time
from pathlib import Path
from typing import Any

from balise.api.remote import MOST_ENTRIES, ListAnswer, NewEnrolment, ReadList
from balise.cli.build import verb
from balise.cli.connect import console, model
from balise.cli.errors import CommandError
from balise.cli.output import Column, printable, show
from balise.core.hostlist import read_list

GOOD = ("added", "already-enrolled")


def add(of: Any) -> None:
    add = verb(of, "add", "test a list of hosts side by side and add those that answer", _add)
    add.add_argument(
        "--from", dest="from_", metavar="FILE", help="a list, a CSV or ranges of addresses; - for standard input"
    )
    add.add_argument("--credential", help="for lines that name none")
    add.add_argument("--protocol", choices=("ssh", "snmp"), default="ssh", help="for lines that name none (ssh)")
    add.add_argument("--group", help="the group they join")
    add.add_argument("--site", help="the site whose relays try and read them")
    add.add_argument("--time-limit", default="5s", metavar="DURATION", help="for each host (5s)")
    add.add_argument("--resume", type=int, metavar="ID", help="go on watching a list that was begun before")
    add.add_argument(
        "--left", type=Path, metavar="FILE", help="write the lines that were not good here, with the reason"
    )


def _add(a: argparse.Namespace) -> int:
    with console() as c:
        number, unread = (a.resume, 0) if a.resume is not None else _start(c, a)
        try:
            answer = _watch(c, number)
        except KeyboardInterrupt:
            print(f"\nthe console goes on testing; see how with: balise host add --resume {number}", file=sys.stderr)
            return 130
    columns: list[Column] = [
        ("result", lambda e: e["result"]),
        ("host", lambda e: e["name"]),
        ("address", lambda e: f"{e['address']} port {e['port']}"),
        ("message", lambda e: e["message"]),
    ]
    answer["items"] = sorted(answer["entries"], key=lambda e: (e["result"] in GOOD, e["position"]))
    shown = answer if a.format == "json" else {"items": answer["items"]}
    if a.format == "json":
        del answer["items"]
    show(shown, columns, a.format)
    bad = [e for e in answer["entries"] if e["result"] not in GOOD]
    if a.left and bad:
        _write_left(a.left, bad)
    counts = ", ".join(f"{count} {result}" for result, count in sorted(answer["results"].items()))
    print(f"{answer['total']} hosts: {counts}", file=sys.stderr)
    if unread:
        print(f"{unread} lines could not be read, and were not tested: they are said above", file=sys.stderr)
    return 1 if bad or unread else 0


def _start(c: Any, a: argparse.Namespace) -> tuple[int, int]:
    """Has the lines tested that can be read; answers the list's number, and how many lines cannot be."""
    if a.from_ is None:
        raise CommandError("which hosts? Name a file with --from, or - for standard input")
    try:
        text = sys.stdin.read() if a.from_ == "-" else Path(a.from_).read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise CommandError(f"{a.from_} cannot be read: {error}") from None
    wanted = model(ReadList, text=text, protocol=a.protocol, credential=a.credential, group=a.group, site=a.site)
    found = read_list(wanted)
    for problem in found.problems:
        where = f"line {problem.line}: " if problem.lines == 1 else ""
        print(f"balise: {where}{printable(problem.problem)}", file=sys.stderr)
    if a.left and found.problems:
        _write_unread(a.left, found)
    if not found.entries:
        raise CommandError("no line can be read" if found.problems else f"{a.from_} names no host")
    body = model(NewEnrolment, entries=found.entries[:MOST_ENTRIES], time_limit=a.time_limit)
    return int(c.call("POST", "/enrolments", body)["id"]), sum(problem.lines for problem in found.problems)


def _write_unread(left: Path, found: ListAnswer) -> None:
    """The lines that could not be read, as they were, each with what is wrong above it."""
    path = left.with_name(f"{left.name}.unread")
    parts = [found.heading] if found.heading else []
    parts += [f"# {problem.problem}\n{problem.text}" for problem in found.problems]
    path.write_text("\n".join(parts) + "\n", "utf-8")
    print(f"lines that could not be read are in {path}: put them right and give it", file=sys.stderr)


def _watch(c: Any, number: int) -> Any:
    while True:
        answer = c.call("GET", f"/enrolments/{number}")
        if sys.stderr.isatty():
            print(f"\rtested {answer['tested']} of {answer['total']}", end="", file=sys.stderr, flush=True)
        if answer["state"] == "done":
            if sys.stderr.isatty():
                print(file=sys.stderr)
            return answer
        time.sleep(0.5)


def _write_left(path: Path, bad: list[Any]) -> None:
    """A CSV that can be put right and given again: the reason stands before each line."""
    with path.open("w", encoding="utf-8", newline="") as file:
        writer = csv.writer(file)
        writer.writerow(["name", "address", "port", "protocol", "credential", "labels", "group", "site"])
        for e in bad:
            file.write(f"# {e['result']}: {printable(e['message'])}\n")
            labels = ";".join(f"{k}={v}" for k, v in e["labels"].items())
            name = "" if e["name"] == e["address"] else e["name"]
            writer.writerow(
                [
                    name,
                    e["address"],
                    e["port"],
                    e["protocol"],
                    e["credential"],
                    labels,
                    e["group"] or "",
                    e["site"] or "",
                ]
            )
    print(f"{len(bad)} lines that were not good are in {path}: put them right and give it again", file=sys.stderr)
