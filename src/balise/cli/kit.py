"""`balise kit`: what Balise knows of kinds of services."""

from __future__ import annotations

import argparse
import getpass
import json
import sys
import time
from pathlib import Path
from typing import Any

from balise.api.kit_documents import KitDocument, KitText
from balise.api.kits import KitTrial
from balise.api.secrets import Secret
from balise.cli.build import targets, verb, verbs
from balise.cli.connect import console, model
from balise.cli.errors import CommandError
from balise.cli.output import Column, print_table, show
from balise.client.connection import quoted

_METRIC_COLUMNS: list[Column] = [
    ("metric", lambda m: m["name"]),
    ("unit", lambda m: m["unit"]),
    ("kind", lambda m: m["kind"]),
    ("part", lambda m: m["part"]),
    ("meaning", lambda m: m["about"]),
]
_TRIED_COLUMNS: list[Column] = [
    ("metric", lambda m: m["name"]),
    ("attributes", lambda m: m["attributes"]),
    ("value", lambda m: m["value"]),
    ("unit", lambda m: m["unit"]),
]


def add(noun: argparse.ArgumentParser) -> None:
    kit = verbs(noun)
    verb(kit, "list", "all kits", _list)
    shown = verb(kit, "show", "one kit: what it needs, what it collects, and what has to be granted", _show)
    shown.add_argument("name")
    check = verb(kit, "check", "whether kits are good; without names, those that come with Balise", _check, form_=False)
    check.add_argument("paths", nargs="*", metavar="DIR", help="a kit's folder, or its kit.yaml")
    trial = verb(kit, "try", "read a target once and print what came of it, and how long each part took", _try)
    trial.add_argument("name", help="a kit's name, or the folder of one that is being made")
    trial.add_argument("--target", nargs="+", action="extend", default=[], metavar="KEY=VALUE")
    trial.add_argument("--credential", metavar="NAME", help="one that the console has")
    trial.add_argument("--here", action="store_true", help="read it from this machine, without a console")
    trial.add_argument("--user", help="with --here: the user to sign in as; the password is asked for")
    trial.add_argument("--password-stdin", action="store_true", help="with --user: read the password from stdin")
    trial.add_argument("--time-limit", metavar="DURATION", help="for each question (10s)")
    keep = verb(kit, "apply", "keep a kit in the console, a new one or a new version", _apply, form_=False)
    keep.add_argument("path", metavar="DIR", help="its folder, or its kit.yaml")
    diff = verb(kit, "diff", "what choosing another version would change", _diff)
    choose = verb(kit, "choose", "read services with another version, a newer or an older one", _choose, form_=False)
    for made in (diff, choose):
        made.add_argument("name")
        made.add_argument("version")
    verb(kit, "schema", "the JSON Schema of a kit", _schema, form_=False)


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/kits")
    columns: list[Column] = [
        ("kit", lambda k: k["name"]),
        ("version", lambda k: k["version"]),
        ("metrics", lambda k: len({m["name"] for m in k["collects"]})),
        ("rules", lambda k: len(k["rules"])),
        ("logs", lambda k: len(k["logs"])),
        ("services", lambda k: k["services"]),
        ("needs", lambda k: f"credential ({k['credential']['kind']})" if (k["credential"] or {}).get("needed") else ""),
        ("from", lambda k: "Balise" if k["shipped"] else "you"),
        ("of", lambda k: k["title"]),
    ]
    show(answer, columns, a.format)
    return 0


def _show(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", f"/kits/{quoted(a.name)}")
    if a.format == "json":
        print(json.dumps(answer, indent=2, ensure_ascii=False))
        return 0
    if a.format == "csv":
        show({"items": answer["collects"]}, _METRIC_COLUMNS, "csv")
        return 0
    print(f"{answer['title']} (kit {answer['name']} {answer['version']})\n{answer['about']}\n")
    known = [f"{k}: {', '.join(map(str, v))}" for k, v in answer["recognises"].items() if v]
    print("Recognised by", "; ".join(known) or "nothing: it is named by hand")
    if answer["target"]:
        print("\nTarget")
        rows = [[n, "" if f["default"] is None else str(f["default"]), f["about"]] for n, f in answer["target"].items()]
        print_table(["field", "unless given", "is"], rows, sys.stdout)
    if answer["credential"]:
        needed = "needed" if answer["credential"]["needed"] else "if the service wants one"
        print(f"\nCredential: of kind {answer['credential']['kind']}, {needed}")
    if answer["grant"]:
        print(f"\nTo be granted: {answer['grant']['about']}\n")
        print("\n".join(f"    {line}" for line in answer["grant"]["statements"].rstrip().splitlines()))
    print("\nCollects")
    show({"items": answer["collects"]}, _METRIC_COLUMNS, "table")
    for heading, held in (("Logs", answer["logs"]), ("Rules", answer["rules"])):
        if held:
            print(f"\n{heading}: {'; '.join(held)}")
    return 0


def _check(a: argparse.Namespace) -> int:
    from balise.collect.kits.folder import SHIPPED, kit_text
    from balise.core.kits.documents import check_kit

    paths = [Path(p) for p in a.paths] or sorted(p for p in SHIPPED.iterdir() if (p / "kit.yaml").exists())
    bad = 0
    for path in paths:
        try:
            check = check_kit(path.name, kit_text(path))
        except OSError as error:
            raise CommandError(f"{path}: {error.strerror or error}") from None
        if check.good:
            print(f"{check.kit} {check.version} is good")
            continue
        bad += 1
        for problem in check.problems:
            print(f"{path}, line {problem.line}, column {problem.column}: {problem.detail}", file=sys.stderr)
    return 1 if bad else 0


def _try(a: argparse.Namespace) -> int:
    target = targets(a.target)
    local = a.here or Path(a.name).exists()
    if local:
        answer = _try_here(a, target)
    else:
        body = model(KitTrial, target=target, credential=a.credential, time_limit=a.time_limit)
        with console() as c:
            answer = c.call("POST", f"/kits/{quoted(a.name)}/try", body)
    if a.format == "json":
        print(json.dumps(answer, indent=2, ensure_ascii=False))
    elif a.format == "csv":
        show({"items": answer["metrics"]}, _TRIED_COLUMNS, "csv")
    else:
        _print_trial(answer)
    read_nothing = not answer["metrics"] and not answer["facts"] and not answer["tables"]
    return 1 if read_nothing and answer["problems"] else 0


def _try_here(a: argparse.Namespace, target: dict[str, Any]) -> Any:
    from balise.api.credentials import LoginCredential
    from balise.api.spans import seconds
    from balise.collect.kits.folder import kit_text, shipped_kits
    from balise.collect.kits.reader import once, tried
    from balise.core.documents import DocumentError
    from balise.core.kits.documents import TargetError, read_kit, whole_target

    if a.credential:
        raise CommandError("--credential names one of the console's: here, say --user")
    try:
        kit: KitDocument
        if Path(a.name).exists():
            kit = read_kit(kit_text(Path(a.name)))
        elif a.name in shipped_kits():
            kit = shipped_kits()[a.name].kit
        else:
            raise CommandError(f"there is no kit {a.name!r} with Balise, and no such folder")
        whole = whole_target(kit, target, here=True)
    except (DocumentError, TargetError, OSError) as error:
        raise CommandError(str(error)) from None
    login = None
    if a.user:
        password = sys.stdin.readline().rstrip("\n") if a.password_stdin else getpass.getpass("Password: ")
        login = LoginCredential(kind="login", user=a.user, password=Secret(password))
    read = once(kit, whole, login, seconds(a.time_limit or "10s"), kit.kit, time.time())
    return tried(kit, whole, read).model_dump(mode="json")


def _print_trial(answer: Any) -> None:
    facts = "".join(f", {k} {v}" for k, v in answer["facts"].items())
    print(f"{answer['kit']} {answer['version']}{facts}: {answer['seconds']:.3f} s\n")
    parts: list[Column] = [
        ("part", lambda p: p["part"]),
        ("seconds", lambda p: f"{p['seconds']:.4f}"),
        ("rows", lambda p: p["rows"]),
        ("values", lambda p: p["values"]),
        ("", lambda p: p["problem"] or (f"left out: {p['note']}" if p["note"] else "")),
    ]
    show({"items": answer["parts"]}, parts, "table")
    if answer["metrics"]:
        print()
        show({"items": answer["metrics"]}, _TRIED_COLUMNS, "table")
    for name, rows in answer["tables"].items():
        if rows:
            print(f"\n{name}")
            show({"items": rows[:10]}, [(c, lambda r, c=c: _one_line(r[c])) for c in rows[0]], "table")  # type: ignore[misc]
    for problem in answer["problems"]:
        print(f"balise: {problem}", file=sys.stderr)


def _one_line(held: Any) -> Any:
    return " ".join(held.split())[:70] if isinstance(held, str) else held


def _apply(a: argparse.Namespace) -> int:
    from balise.collect.kits.folder import kit_text

    try:
        text = kit_text(Path(a.path))
    except OSError as error:
        raise CommandError(f"{a.path}: {error.strerror or error}") from None
    with console() as c:
        kept = c.call("PUT", "/kits", KitText(text=text))
    print(f"kit {kept['name']} {kept['version']} is kept and read with; versions: {', '.join(kept['versions'])}")
    return 0


def _diff(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", f"/kits/{quoted(a.name)}/changes", to=a.version)
    columns: list[Column] = [
        ("what", lambda d: d["what"]),
        ("as it is", lambda d: d["before"]),
        ("as it would be", lambda d: d["after"]),
    ]
    show(answer, columns, a.format, empty="Nothing would change.")
    return 0


def _choose(a: argparse.Namespace) -> int:
    with console() as c:
        kept = c.call("PUT", f"/kits/{quoted(a.name)}/version", to=a.version)
    print(f"services are read with {kept['name']} {kept['version']} now")
    return 0


def _schema(_a: argparse.Namespace) -> int:
    print(json.dumps(KitDocument.model_json_schema(by_alias=True), indent=2))
    return 0
