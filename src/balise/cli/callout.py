"""`balise callout`: who is told of what."""

from __future__ import annotations

import argparse
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any, TypeVar

from pydantic import BaseModel

from balise.api.callouts import CalloutBody, CalloutDocument, WhoAsked, WhoIncident
from balise.api.spans import duration_text
from balise.cli.build import verb, verbs
from balise.cli.connect import console, model
from balise.cli.errors import CommandError
from balise.cli.output import Column, printable, show
from balise.cli.person import hours_text

M = TypeVar("M", bound=BaseModel)
USUAL = 'severity ge "warning"'


def add(noun: argparse.ArgumentParser) -> None:
    callouts = verbs(noun)
    verb(callouts, "list", "all callouts", _list)
    put = verb(callouts, "set", "add or change a callout of one step", _set, form_=False)
    put.add_argument("name")
    put.add_argument("--when", metavar="FILTER", help=f"({USUAL}, unless --filter says it)")
    put.add_argument("--filter", metavar="NAME", help="a filter that has a name (balise filter list)")
    put.add_argument("--tell", required=True, nargs="+", metavar="CHANNEL")
    apply = verb(callouts, "apply", "put a callout from a YAML file: steps, hours, again", _apply, form_=False)
    apply.add_argument("files", nargs="+", type=Path, metavar="FILE")
    who = verb(callouts, "who", "who would be told if this happened", _who)
    who.add_argument("--severity", choices=("warning", "critical"), default="critical", help="(critical)")
    who.add_argument("--host")
    who.add_argument("--application")
    who.add_argument("--rule")
    who.add_argument("--at", default="now", metavar="TIME", help="(now)")
    drill = verb(callouts, "drill", "send a practice incident the real way, and say who got it", _drill, form_=False)
    drill.add_argument("name")
    drill.add_argument("--wait", type=float, default=30.0, metavar="SECONDS", help="for who gets it (30)")
    verb(callouts, "delete", "take a callout away", _delete, form_=False).add_argument("name")


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/callouts")
    columns: list[Column] = [
        ("callout", lambda x: x["name"]),
        ("when", lambda x: x["when"]),
        ("hours", lambda x: hours_text(x["hours"])),
        ("tells", _steps),
        ("again", lambda x: x["again"]),
    ]
    show(answer, columns, a.format, empty="No callouts: nobody is told of anything yet.")
    return 0


def _steps(callout: dict[str, Any]) -> str:
    """`rota:booking; after 10m rota:booking, channel:control-room`."""
    if callout["tell"]:
        return ", ".join(callout["tell"])
    said = []
    for step in callout["steps"]:
        after = "" if step["after"] in ("0s", "0m") else f"after {step['after']} "
        said.append(after + ", ".join(step["tell"]))
    return "; ".join(said)


def _set(a: argparse.Namespace) -> int:
    with console() as c:
        when = a.when if a.when is not None else "" if a.filter else USUAL
        c.callouts.set(a.name, model(CalloutBody, when=when, filter=a.filter, tell=a.tell))
    print(f"callout {a.name} kept")
    return 0


def _apply(a: argparse.Namespace) -> int:
    with console() as c:
        for document in read_files(a.files, CalloutDocument):
            c.callouts.set(document.callout, document.body())
            print(f"callout {document.callout} kept")
    return 0


def read_files(paths: Sequence[Path], model_: type[M]) -> list[M]:
    """The documents of files, all of them before any is used.

    Raises:
        CommandError: with file, line and column of what is wrong.
    """
    from balise.core.documents import DocumentError, read_documents

    found: list[M] = []
    for path in paths:
        try:
            found += read_documents(path.read_text("utf-8"), model_)
        except (OSError, UnicodeError) as error:
            raise CommandError(f"{path}: {error}") from None
        except DocumentError as error:
            said = [f"{path}, line {line}, column {column}: {detail}" for (line, column), _, detail in error.problems]
            raise CommandError("\n".join(said)) from None
    return found


def _who(a: argparse.Namespace) -> int:
    wanted = model(WhoIncident, severity=a.severity, host=a.host, application=a.application, rule=a.rule)
    with console() as c:
        answer = c.call("POST", "/callouts/who", WhoAsked(at=a.at, incident=wanted))
    columns: list[Column] = [
        ("after", lambda x: duration_text(x["after_seconds"]) if x["after_seconds"] else "at once"),
        ("person", lambda x: x["person"]),
        ("channel", lambda x: x["channel"] or "nobody"),
        ("because", lambda x: x["because"]),
        ("callout", lambda x: f"{x['callout']}, step {x['step']}"),
    ]
    show(answer, columns, a.format, empty="NOBODY would be told: no callout is for this.")
    return 0 if answer["items"] else 1


def _drill(a: argparse.Namespace) -> int:
    with console() as c:
        number = c.drills.start(a.name)
        print(f"drill {number} of the callout {a.name}: a practice incident is on its way")
        until, said = time.monotonic() + a.wait, set[tuple[str, str | None]]()
        while time.monotonic() < until:
            drill = c.drills.show(number)
            for told in drill.told:
                if told.seconds is not None and (told.channel, told.person) not in said:
                    said.add((told.channel, told.person))
                    whom = f"{told.person} by {told.channel}" if told.person else told.channel
                    print(printable(f"  {whom}: got it after {told.seconds:.1f} s"), flush=True)
            if drill.answered_by is not None:
                print(printable(f"  answered by {drill.answered_by} after {drill.answered_after:.1f} s"))
                return 0
            time.sleep(0.5)
        for told in drill.told:
            if told.seconds is None:
                print(printable(f"  {told.person or told.channel}: NOT through: {told.problem or 'no answer yet'}"))
    print(f"nobody has answered yet; see later with: balise incident show {drill.incident}")
    return 0 if said else 1


def _delete(a: argparse.Namespace) -> int:
    with console() as c:
        c.callouts.delete(a.name)
    print(f"callout {a.name} deleted")
    return 0
