"""`balise plan`: what to collect where, how often, and which limits differ."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path

from balise.api.plans import PlanText
from balise.cli.build import verb, verbs
from balise.cli.connect import console, model
from balise.cli.errors import CommandError
from balise.cli.output import Column, local_time, printable, show
from balise.client.connection import quoted


def add(noun: argparse.ArgumentParser) -> None:
    plan = verbs(noun)
    verb(plan, "list", "all plans, from the general to the particular", _list)
    verb(plan, "show", "one plan as it is written", _show, form_=False).add_argument("name")
    for name, help_, run in (
        ("check", "whether files are good plans", _check),
        ("diff", "what keeping a file would change, host by host", _diff),
        ("apply", "keep plans from files", _apply),
    ):
        made = verb(plan, name, help_, run, form_=name == "diff")
        made.add_argument("files", nargs="+" if name != "diff" else 1, type=Path, metavar="FILE")
    verb(plan, "delete", "take a plan away", _delete, form_=False).add_argument("name")
    verb(plan, "parts", "the parts of a system that plans can switch, and what each costs", _parts)
    verb(plan, "schema", "the JSON Schema of a plan", _schema, form_=False)


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/plans")
    columns: list[Column] = [
        ("plan", lambda p: p["name"]),
        ("for", lambda p: p["body"].get("for") or "all hosts"),
        ("hosts", lambda p: p["hosts"]),
        ("version", lambda p: p["version"]),
        ("changed", lambda p: f"{local_time(p['updated_at'])} by {p['updated_by']}"),
        ("about", lambda p: p["body"].get("about", "")),
    ]
    show(answer, columns, a.format, empty="No plans: every host is collected in the same way.")
    return 0


def _parts(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/plans/parts")
    columns: list[Column] = [
        ("part", lambda p: p["part"]),
        ("unless told", lambda p: "off" if not p["on"] else f"every {p['every']}" if p["every"] else "on"),
        ("processor time a reading", lambda p: p["cost"]),
        ("what", lambda p: p["about"]),
    ]
    show(answer, columns, a.format)
    return 0


def _show(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", f"/plans/{quoted(a.name)}")
    print(answer["text"], end="" if answer["text"].endswith("\n") else "\n")
    print(f"# version {answer['version']}, for {answer['hosts']} hosts now", file=sys.stderr)
    return 0


def _text(path: Path) -> PlanText:
    try:
        text: PlanText = model(PlanText, text=path.read_text("utf-8"))
    except (OSError, UnicodeDecodeError) as error:
        raise CommandError(f"{path} cannot be read: {error}") from None
    return text


def _check(a: argparse.Namespace) -> int:
    bad = 0
    with console() as c:
        for path in a.files:
            answer = c.call("POST", "/plans/check", _text(path))
            for p in answer["problems"]:
                print(f"{path}:{p['line']}:{p['column']}: {printable(p['detail'])}")
            bad += not answer["good"]
            if answer["good"]:
                print(f"{path}: plan {answer['name']} is good, for {answer['hosts']} hosts now")
    return 1 if bad else 0


def _diff(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("POST", "/plans/diff", _text(a.files[0]))
    columns: list[Column] = [
        ("host", lambda x: x["host"]),
        ("setting", lambda x: x["setting"]),
        ("now", lambda x: x["before"]),
        ("then", lambda x: x["after"]),
    ]
    show(answer, columns, a.format, empty="It would change nothing.")
    if a.format == "table" and answer["items"]:
        more = f", {answer['left_out']} changes not shown" if answer["left_out"] else ""
        print(f"{answer['hosts']} hosts would change{more}", file=sys.stderr)
    return 0


def _apply(a: argparse.Namespace) -> int:
    with console() as c:
        checks = [(path, c.call("POST", "/plans/check", _text(path))) for path in a.files]
        problems = [f"{path}:{p['line']}:{p['column']}: {p['detail']}" for path, k in checks for p in k["problems"]]
        if problems:
            for problem in problems:
                print(printable(problem), file=sys.stderr)
            raise CommandError("nothing was kept")
        for path, check in checks:
            kept = c.call("PUT", f"/plans/{quoted(check['name'])}", _text(path))
            print(f"plan {kept['name']} version {kept['version']} holds for {kept['hosts']} hosts")
    return 0


def _delete(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.call("DELETE", f"/plans/{quoted(a.name)}")["detail"])
    return 0


def _schema(a: argparse.Namespace) -> int:
    from balise.api.plans import PlanDocument

    del a
    print(json.dumps(PlanDocument.model_json_schema(by_alias=True), indent=2))
    return 0
