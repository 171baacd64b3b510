"""`balise response`: what is done by itself when an incident opens, or is over."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from balise.api.responses import ResponseDocument
from balise.cli.build import verb, verbs
from balise.cli.callout import read_files
from balise.cli.connect import console
from balise.cli.output import Column, show


def add(noun: argparse.ArgumentParser) -> None:
    of = verbs(noun)
    verb(of, "list", "all responses", _list)
    apply = verb(of, "apply", "put a response from a YAML file", _apply, form_=False)
    apply.add_argument("files", nargs="+", type=Path, metavar="FILE")
    verb(of, "delete", "take a response away", _delete, form_=False).add_argument("name")


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/responses")
    columns: list[Column] = [
        ("response", lambda x: x["name"]),
        ("on", lambda x: x["on"]),
        ("when", lambda x: x["when"]),
        ("steps", lambda x: ", ".join(_step(step) for step in x["steps"])),
        ("at most", lambda x: f"{x['at_most']} in {x['per']}"),
    ]
    show(answer, columns, a.format, empty="No responses: nothing is done by itself.")
    return 0


def _step(step: dict[str, Any]) -> str:
    more = step.get("for") or step.get("probe") or ", ".join(step.get("tell", []))
    return f"{step['do']} {more}".strip()


def _apply(a: argparse.Namespace) -> int:
    with console() as c:
        for document in read_files(a.files, ResponseDocument):
            c.responses.set(document.response, document.body())
            print(f"response {document.response} kept")
    return 0


def _delete(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.responses.delete(a.name))
    return 0
