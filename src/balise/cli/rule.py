"""`balise rule`: what is watched, and its limits."""

from __future__ import annotations

import argparse
import difflib
import json
import sys
from pathlib import Path
from typing import Any

from balise.api.limits import Limits
from balise.api.measures import Measure
from balise.api.rules import Rehearse, Restore, RuleBody, RuleChange, RuleDocument, Suggest
from balise.api.spans import duration_text, rfc3339
from balise.cli.build import span, verb, verbs
from balise.cli.connect import console, model
from balise.cli.errors import CommandError
from balise.cli.output import Column, local_time, show
from balise.cli.rule_files import file_name, read_rules
from balise.client import Balise
from balise.client.connection import quoted
from balise.core.quantities import in_words
from balise.core.rule_words import limit_in_words, limits_in_words, measure_in_words

DAYS = ("Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")


def add(noun: argparse.ArgumentParser) -> None:
    of = verbs(noun)
    listing = verb(of, "list", "all rules, and how often each opened", _list)
    listing.add_argument("--noisy", action="store_true", help="those that opened most often first")
    span(listing, "-7d")
    verb(of, "show", "one rule as a file", _show).add_argument("name")
    apply = verb(
        of, "apply", "put rules from files or folders into the console: all of them, or none", _apply, form_=False
    )
    apply.add_argument("files", nargs="+", type=Path, metavar="FILE")
    apply.add_argument("--why", default="", help="kept with the version")
    diff = verb(of, "diff", "what applying files or folders would change", _diff, form_=False)
    diff.add_argument("files", nargs="+", type=Path, metavar="FILE")
    export = verb(of, "export", "write every rule to a file of its own", _export, form_=False)
    export.add_argument("folder", type=Path, metavar="DIR")
    watching = verb(of, "watching", "the rules that watch a host, the nearest to breach first", _watching)
    watching.add_argument("host")
    delete = verb(of, "delete", "take a rule away; its open alerts end", _delete, form_=False)
    delete.add_argument("name")
    rehearse = verb(of, "rehearse", "what a rule would have done over stored history", _rehearse)
    rehearse.add_argument("rule", help="a rule's name, or a file")
    span(rehearse, "-24h")
    suggest = verb(of, "suggest", "limits that would have opened seldom enough", _suggest)
    suggest.add_argument("rule", help="a rule's name, or a file")
    suggest.add_argument("--at-most", type=float, default=2, metavar="A_WEEK", help="so many alerts a week (2)")
    span(suggest, "-14d")
    verb(of, "versions", "every form that a rule had: who, when, why", _versions).add_argument("name")
    restore = verb(of, "restore", "put a rule to work as it was in a version", _restore, form_=False)
    restore.add_argument("name")
    restore.add_argument("version", type=int)
    verb(of, "schema", "the JSON Schema of a rule, for editors", _schema, form_=False)


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/rules", from_=a.from_, to=a.to)
    if a.noisy:
        answer["items"].sort(key=lambda r: (-r["opened"], -r["untaken"], r["name"]))

    def limit(rule: Any, severity: str) -> str:
        return limit_in_words(getattr(Limits.model_validate(rule["limits"]), severity), rule["unit"])

    columns: list[Column] = [
        ("rule", lambda r: r["name"]),
        ("about", lambda r: r["about"]),
        ("measures", lambda r: measure_in_words(Measure.model_validate(r["measure"]))),
        ("warning", lambda r: limit(r, "warning")),
        ("critical", lambda r: limit(r, "critical")),
        ("on", lambda r: r["enabled"]),
        ("open", lambda r: r["open_alerts"] or ""),
        ("opened", lambda r: r["opened"] or ""),
        ("nobody took", lambda r: r["untaken"] or ""),
        ("note", lambda r: r["problem"] or "; ".join(r["warnings"]) or r["learning"]),
    ]
    show(answer, columns, a.format)
    return 0


def _show(a: argparse.Namespace) -> int:
    with console() as c:
        if a.format == "json":
            print(json.dumps(c.call("GET", f"/rules/{quoted(a.name)}"), indent=2, ensure_ascii=False))
            return 0
        rule = c.rules.show(a.name)
    print(_text(rule.name, rule).rstrip())
    for note in (rule.problem, *rule.warnings, rule.learning):
        if note:
            print(f"{a.name}: {note}", file=sys.stderr)
    return 0


def _apply(a: argparse.Namespace) -> int:
    rules = read_rules(a.files)
    with console() as c:
        at_work = {rule.name: rule for rule in c.rules.list()}
        # They are looked at together before the first of them is kept.
        of = {document.rule: path for path, document in rules}
        problems = c.rules.check([document for _, document in rules])
        if problems:
            raise CommandError("\n".join(f"{of.get(p.rule, '')}: {p.rule}: {p.field}: {p.detail}" for p in problems))
        for _, document in rules:
            held = at_work.get(document.rule or "")
            if held is not None and held.alone() == document.alone():
                continue
            said = RuleChange.model_validate({**document.model_dump(exclude={"rule"}), "why": a.why})
            kept = c.rules.apply(document.rule or "", said)
            print(f"rule {kept.name} is at work" if kept.enabled else f"rule {kept.name} is kept, and off")
            for warning in kept.warnings:
                print(f"rule {kept.name}: {warning}", file=sys.stderr)
    return 0


def _text(name: str, rule: RuleBody) -> str:
    from balise.core.rule_text import rule_text

    return rule_text(name, rule)


def _diff(a: argparse.Namespace) -> int:
    rules = read_rules(a.files)
    changed = 0
    with console() as c:
        at_work = {rule.name: rule for rule in c.rules.list()}
    for path, document in rules:
        held = at_work.get(document.rule or "")
        before = _text(held.name, held).splitlines() if held is not None else []
        after = _text(document.rule or "", document).splitlines()
        lines = list(difflib.unified_diff(before, after, "at work", str(path), lineterm=""))
        changed += bool(lines)
        print("\n".join(lines), end="\n" if lines else "")
    print(f"{changed} of {len(rules)} rules would change", file=sys.stderr)
    return 0


def _export(a: argparse.Namespace) -> int:
    with console() as c:
        rules = c.rules.list()
    try:
        a.folder.mkdir(parents=True, exist_ok=True)
        for rule in rules:
            (a.folder / file_name(rule.name)).write_text(_text(rule.name, rule), "utf-8")
    except OSError as error:
        raise CommandError(f"{a.folder}: {error}") from None
    print(f"{len(rules)} rules are in {a.folder}")
    return 0


def _delete(a: argparse.Namespace) -> int:
    with console() as c:
        c.rules.delete(a.name)
    print(f"rule {a.name} deleted; its open alerts are ended")
    return 0


def _asked(c: Balise, name: str) -> RuleDocument:
    """A rule from a file, or the one at work of a name."""
    if Path(name).exists():
        return read_rules([Path(name)])[0][1]
    return RuleDocument.model_validate({**c.rules.show(name).alone().model_dump(), "rule": name})


def _rehearse(a: argparse.Namespace) -> int:
    with console() as c:
        result = c.call("POST", "/rules/rehearse", model(Rehearse, rule=_asked(c, a.rule), from_=a.from_, to=a.to))
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
        _tell_rehearsed(result)
    return 0


def _tell_rehearsed(result: Any) -> None:
    asked = duration_text(result["step_seconds"])
    told = [f"{result['opened']} alerts on {result['groups']} things, {result['a_day']:.2g} a day, asked each {asked}"]
    compared = result["compared"]
    if compared is not None:
        told.append(f"the version in force would have opened {compared['opened']} times")
    worst = sorted(range(168), key=lambda hour: -result["by_hour"][hour])[:3]
    hours = [f"{DAYS[h // 24]} {h % 24:02d}:00 ({result['by_hour'][h]})" for h in worst if result["by_hour"][h]]
    if hours and result["opened"] > 3:
        told.append(f"most often {', '.join(hours)}")
    print("\n".join([*told, *result["notes"]]), file=sys.stderr)


def _suggest(a: argparse.Namespace) -> int:
    with console() as c:
        asked = model(Suggest, rule=_asked(c, a.rule), from_=a.from_, to=a.to, at_most_a_week=a.at_most)
        result = c.call("POST", "/rules/suggest", asked)
    if a.format == "json":
        print(json.dumps(result, indent=2, ensure_ascii=False))
        return 0
    unit = result["unit"]
    limits = Limits.model_validate({k: result[k] for k in ("warning", "critical")})
    print(limits_in_words(limits, unit))
    print(f"would have opened {result['would_open']} times; what opens it stands {_clearly(result['separates'])}")
    print(", ".join(f"{name} {in_words(value, unit)}" for name, value in result["values"].items()))
    return 0


def _clearly(separates: float) -> str:
    if separates > 0.5:
        return "clearly above the rest"
    return "a little above the rest" if separates > 0.1 else "hardly above the rest: these limits are a matter of luck"


def _versions(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", f"/rules/{quoted(a.name)}/versions")
    columns: list[Column] = [
        ("version", lambda v: v["version"]),
        ("when", lambda v: local_time(v["at"])),
        ("who", lambda v: v["who"]),
        ("what", lambda v: v["what"]),
        ("why", lambda v: v["why"]),
        ("changes", lambda v: "; ".join(v["changes"])),
    ]
    show(answer, columns, a.format)
    return 0


def _restore(a: argparse.Namespace) -> int:
    with console() as c:
        kept = c.rules.restore(a.name, model(Restore, version=a.version))
    print(f"rule {kept.name} is at work as in version {a.version}; that is version {kept.version} now")
    return 0


def _watching(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", f"/hosts/{quoted(a.host)}/rules")
    columns: list[Column] = [
        ("rule", lambda r: r["rule"]),
        ("which", lambda r: " ".join(r["attributes"].values())),
        ("limits", lambda r: limits_in_words(Limits.model_validate(r["limits"]), r["unit"])),
        ("value", lambda r: in_words(r["value"], r["unit"])),
        ("from breach", lambda r: "" if r["distance"] is None else f"{max(r['distance'], -9.99) * 100:.0f} %"),
        ("from", lambda r: r["from"]),
        ("note", lambda r: r["note"]),
    ]
    show(answer, columns, a.format, empty="No rule watches this host.")
    return 0


def _schema(_a: argparse.Namespace) -> int:
    print(json.dumps(RuleDocument.model_json_schema(by_alias=True), indent=2))
    return 0
