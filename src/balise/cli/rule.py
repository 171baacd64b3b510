"""`balise rule`: what is watched, and its limits."""

from __future__ import annotations

import argparse
import json
import sys
from pathlib import Path
from typing import Any

from balise.api.rules import Rehearse, RuleBody, RuleDocument
from balise.cli.build import span, verb, verbs
from balise.cli.connect import console, model, problems_in
from balise.cli.errors import CommandError
from balise.cli.output import Column, local_time, show
from balise.client.connection import quoted
from balise.core.quantities import in_words


def add(noun: argparse.ArgumentParser) -> None:
    of = verbs(noun)
    verb(of, "list", "all rules", _list)
    verb(of, "show", "one rule as a file", _show).add_argument("name")
    apply = verb(of, "apply", "put rules from files into the console", _apply, form_=False)
    apply.add_argument("files", nargs="+", type=Path, metavar="FILE")
    delete = verb(of, "delete", "take a rule away; its open alerts end", _delete, form_=False)
    delete.add_argument("name")
    rehearse = verb(of, "rehearse", "when a rule would have opened over stored history", _rehearse)
    rehearse.add_argument("rule", help="a rule's name, or a file")
    span(rehearse, "-24h")


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/rules")

    def limit(rule: Any, severity: str) -> str:
        one = rule["limits"].get(severity)
        if not one:
            return ""
        word = "above" if one.get("above") is not None else "below"
        return f"{word} {in_words(one[word], rule['unit'])}"

    columns: list[Column] = [
        ("rule", lambda r: r["name"]),
        ("about", lambda r: r["about"]),
        ("metric", lambda r: r["measure"]["metric"]),
        ("warning", lambda r: limit(r, "warning")),
        ("critical", lambda r: limit(r, "critical")),
        ("on", lambda r: r["enabled"]),
        ("open", lambda r: r["open_alerts"] or ""),
    ]
    show(answer, columns, a.format)
    return 0


def _show(a: argparse.Namespace) -> int:
    import yaml

    with console() as c:
        answer = c.call("GET", f"/rules/{quoted(a.name)}")
    if a.format == "json":
        print(json.dumps(answer, indent=2, ensure_ascii=False))
        return 0
    body = RuleBody.model_validate({k: v for k, v in answer.items() if k in RuleBody.model_fields})
    document = {"rule": answer["name"], **body.model_dump(exclude_none=True)}
    print(yaml.safe_dump(document, sort_keys=False, allow_unicode=True).rstrip())
    return 0


def read_rules(path: Path) -> list[RuleDocument]:
    """The rules of a YAML file: one document, several, or a list."""
    import yaml

    try:
        text = path.read_text("utf-8")
        documents = [d for d in yaml.safe_load_all(text) if d is not None]
    except (OSError, UnicodeDecodeError) as error:
        raise CommandError(f"{path}: {error}") from None
    except yaml.YAMLError as error:
        raise CommandError(f"{path} is no YAML: {error}") from None
    flat = [one for document in documents for one in (document if isinstance(document, list) else [document])]
    found = []
    for number, one in enumerate(flat, 1):
        try:
            found.append(RuleDocument.model_validate(one))
        except ValueError as error:
            raise CommandError(f"{path}, rule {number}: " + "; ".join(problems_in(error)[:5])) from None
    return found


def _apply(a: argparse.Namespace) -> int:
    rules = [(path, rule) for path in a.files for rule in read_rules(path)]
    for path, rule in rules:
        if not rule.rule:
            raise CommandError(f"{path}: a rule in a file needs its name: rule: NAME")
    with console() as c:
        for _, rule in rules:
            body = RuleBody.model_validate(rule.model_dump(exclude={"rule"}))
            kept = c.rules.apply(rule.rule or "", body)
            print(f"rule {kept.name} is at work")
    return 0


def _delete(a: argparse.Namespace) -> int:
    with console() as c:
        c.rules.delete(a.name)
    print(f"rule {a.name} deleted; its open alerts are ended")
    return 0


def _rehearse(a: argparse.Namespace) -> int:
    with console() as c:
        if Path(a.rule).exists():
            document = read_rules(Path(a.rule))[0]
        else:
            answer = c.call("GET", f"/rules/{quoted(a.rule)}")
            held = {k: v for k, v in answer.items() if k in RuleBody.model_fields}
            document = RuleDocument.model_validate({**held, "rule": a.rule})
        result = c.call("POST", "/rules/rehearse", model(Rehearse, rule=document, from_=a.from_, to=a.to))
    from balise.api.spans import rfc3339

    unit = result["unit"]
    columns: list[Column] = [
        ("opened", lambda i: local_time(rfc3339(i["opened_at"]))),
        ("recovered", lambda i: local_time(rfc3339(i["recovered_at"])) if i["recovered_at"] else "still open"),
        ("severity", lambda i: i["severity"]),
        ("host", lambda i: i["host"]),
        ("which", lambda i: i["attributes"]),
        ("worst", lambda i: in_words(i["worst_value"], unit)),
    ]
    show(result, columns, a.format, empty="It would not have opened.")
    if a.format == "table":
        count = len(result["items"]) + result["left_out"]
        print(f"{count} alerts on {result['groups']} things, asked each {result['step_seconds']:g} s", file=sys.stderr)
    return 0
