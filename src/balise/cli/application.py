"""`balise application`: what people outside know by name, and what it needs."""

from __future__ import annotations

import argparse
import sys
from pathlib import Path

import yaml

from balise.api.applications import ApplicationBody
from balise.cli.build import verb, verbs
from balise.cli.connect import console, model
from balise.cli.errors import CommandError
from balise.cli.output import Column, show
from balise.client.connection import quoted


def add(noun: argparse.ArgumentParser) -> None:
    application = verbs(noun)
    verb(application, "list", "all applications, the worst first", _list)
    verb(application, "show", "one application, from its users to its storage", _show).add_argument("name")
    apply = verb(application, "apply", "keep an application from a file (YAML or JSON)", _apply, form_=False)
    apply.add_argument("name")
    apply.add_argument("file")
    verb(application, "connections", "who was seen talking to whose port", _connections)
    verb(application, "delete", "take an application away; its parts stay", _delete, form_=False).add_argument("name")


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/applications")
    order = ("critical", "warning", "silent", "ok", "paused")
    answer["items"].sort(key=lambda i: order.index(i["state"]))
    columns: list[Column] = [
        ("state", lambda i: i["state"]),
        ("application", lambda i: i["name"]),
        ("parts", lambda i: len(i["parts"])),
        ("not well", lambda i: i["because"]),
        ("about", lambda i: i["about"]),
    ]
    show(answer, columns, a.format, empty="No applications. Keep one: balise application apply NAME FILE")
    return 0


def _show(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", f"/applications/{quoted(a.name)}")
    if a.format == "table":
        print(f"{answer['name']}: {answer['state']}\n")
    needs: dict[str, list[str]] = {}
    for need in answer["needs"]:
        least = f" (at least {need['at_least']})" if need.get("at_least") else ""
        needs.setdefault(need["from"], []).append(", ".join(need["to"]) + least)
    columns: list[Column] = [
        ("from the users", lambda p: p["rank"]),
        ("state", lambda p: p["state"]),
        ("its own", lambda p: p["own"]),
        ("part", lambda p: p["name"]),
        ("needs", lambda p: "; ".join(needs.get(p["name"], []))),
        ("held up by", lambda p: p["because"]),
    ]
    parts = sorted(answer["parts"], key=lambda p: (p["rank"], p["name"]))
    show({"items": parts} if a.format != "json" else answer, columns, a.format, empty="Nothing is drawn yet.")
    return 0


def _apply(a: argparse.Namespace) -> int:
    try:
        held = yaml.safe_load(sys.stdin.read() if a.file == "-" else Path(a.file).read_text("utf-8"))
    except (OSError, yaml.YAMLError) as error:
        raise CommandError(f"{a.file}: {error}") from None
    if not isinstance(held, dict):
        raise CommandError(f"{a.file}: an application is a list of keys and values: about, parts, needs")
    body = model(ApplicationBody, **held)
    with console() as c:
        sent = body.model_dump(mode="json", by_alias=True)
        answer = c.call("PUT", f"/applications/{quoted(a.name)}", sent)
    print(f"the application {answer['name']} has {len(answer['parts'])} parts and is {answer['state']}")
    return 0


def _connections(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/applications/connections")
    columns: list[Column] = [
        ("from", lambda t: t["from_host"]),
        ("to", lambda t: t["to_host"]),
        ("port", lambda t: t["port"]),
        ("what listens", lambda t: t["to_service"] or t["process"]),
        ("seen", lambda t: t["seen"]),
        ("drawn", lambda t: t["known"]),
    ]
    show(answer, columns, a.format, empty="No connection between enrolled hosts was seen yet.")
    return 0


def _delete(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.call("DELETE", f"/applications/{quoted(a.name)}")["detail"])
    return 0
