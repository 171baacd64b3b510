"""`balise dashboard`: pinned charts, values, tables, lists."""

from __future__ import annotations

import argparse
import json
import sys
from collections.abc import Iterator
from pathlib import Path
from typing import Any

from balise.api.dashboards import DashboardAsked, DashboardBody, DashboardDocument
from balise.cli.build import span, verb, verbs
from balise.cli.callout import read_files
from balise.cli.connect import console, model
from balise.cli.errors import CommandError
from balise.cli.output import Column, local_time, printable, show
from balise.client.connection import quoted
from balise.core.dashboards import slips_in
from balise.core.documents import written
from balise.core.quantities import in_words

MOST_LINES = 5


def add(noun: argparse.ArgumentParser) -> None:
    of = verbs(noun)
    verb(of, "list", "your own, those that are shared, and those that kits bring", _list)
    one = verb(of, "show", "what a dashboard shows now", _show)
    one.add_argument("name")
    span(one, "-3h")
    one.add_argument(
        "--set", action="append", default=[], metavar="VARIABLE=VALUE", help="choose; again for more values"
    )
    apply = verb(of, "apply", "keep dashboards from files, JSON or YAML", _apply, form_=False)
    apply.add_argument("files", nargs="+", type=Path, metavar="FILE")
    apply.add_argument("--dry-run", action="store_true", help="say what is wrong, and keep nothing")
    export = verb(of, "export", "a dashboard as a file has it", _export, form_=False)
    export.add_argument("name")
    export.add_argument("--yaml", action="store_true", help="YAML instead of JSON")
    versions = verb(of, "versions", "every form that a dashboard had", _versions)
    versions.add_argument("name")
    restore = verb(of, "restore", "a dashboard as it was in an earlier version", _restore, form_=False)
    restore.add_argument("name")
    restore.add_argument("version", type=int)
    verb(of, "delete", "take a dashboard away", _delete, form_=False).add_argument("name")


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/dashboards")
    columns: list[Column] = [
        ("dashboard", lambda d: d["name"]),
        ("panels", lambda d: d["panels"]),
        ("whose", lambda d: d["from"] or (f"{d['owner']}, shared" if d["shared"] else d["owner"])),
        ("version", lambda d: d["version"]),
        ("changed", lambda d: local_time(d["updated_at"])),
        ("about", lambda d: d["about"]),
    ]
    show(answer, columns, a.format, empty="No dashboards: pin something in the console, or balise dashboard apply FILE")
    return 0


def _show(a: argparse.Namespace) -> int:
    chosen: dict[str, list[str]] = {}
    for word in a.set:
        name, sign, value = word.partition("=")
        if not sign:
            raise CommandError(f"--set {word!r}: write it as VARIABLE=VALUE")
        chosen.setdefault(name, []).append(value)
    asked = model(DashboardAsked, from_=a.from_, to=a.to, points=60, variables=chosen)
    with console() as c:
        answer = c.call("POST", f"/dashboards/{quoted(a.name)}/answers", asked)
    if a.format == "json":
        print(json.dumps(answer, indent=2, ensure_ascii=False))
        return 0
    for variable in answer["variables"]:
        print(printable(f"{variable['name']}: {', '.join(variable['chosen']) or 'all'}"))
    for panel in answer["panels"]:
        print()
        print(printable(panel["title"] or panel["kind"]))
        for line in _told(panel):
            print(printable(f"  {line}"))
    return 0


def _told(panel: dict[str, Any]) -> Iterator[str]:
    """What a panel shows, in a few lines."""
    if panel["problem"]:
        yield panel["problem"]
    for chart in panel["chart"] or ():
        yield from _lines(chart)
    if panel["value"] is not None:
        yield from _lines(panel["value"])
    if panel["table"] is not None:
        for row in panel["table"]["items"][:MOST_LINES]:
            columns = zip(panel["table"]["columns"], row["values"], strict=True)
            cells = [in_words(v, col["unit"]) if isinstance(v, float) else str(v or "") for col, v in columns]
            yield f"{row['state']:<9} {row['host']:<20} {'  '.join(cells)}"
    for node in (panel["states"] or {"items": []})["items"][:MOST_LINES]:
        yield f"{node['state']:<9} {node['name']:<20} {node['why']}"
    for event in (panel["events"] or ())[:MOST_LINES]:
        yield f"{local_time(event['time'])} {event['host']} {event['severity']}: {event['body'][:120]}"
    for pattern in (panel["patterns"] or {"items": []})["items"][:MOST_LINES]:
        yield f"{pattern['count']:>8} × {pattern['change']:<5} {pattern['pattern'][:120]}"
    for incident in (panel["incidents"] or ())[:MOST_LINES]:
        yield f"{incident['severity']:<9} {incident['id']} {incident['title']}"
    for alert in (panel["alerts"] or ())[:MOST_LINES]:
        yield f"{alert['severity']:<9} {alert['host']}: {alert['about']} {in_words(alert['value'], alert['unit'])}"
    if panel["text"]:
        yield from panel["text"].splitlines()


def _lines(chart: dict[str, Any]) -> Iterator[str]:
    if chart["problem"]:
        yield chart["problem"]
    for one in chart["series"][:MOST_LINES]:
        newest = next((v for v in reversed(one["values"]) if v is not None), None)
        name = " ".join(v for v in one["attributes"].values() if v) or chart["metric"]
        yield f"{name:<40} {in_words(newest, chart['unit'])}"
    left = len(chart["series"]) + chart["left_out"] - MOST_LINES
    if left > 0:
        yield f"and {left} more"


def _apply(a: argparse.Namespace) -> int:
    documents = read_files(a.files, DashboardDocument)
    slips = [
        f"{document.dashboard}: {field}: {detail}" for document in documents for field, detail in slips_in(document)
    ]
    if slips:
        raise CommandError("\n".join(slips))
    if a.dry_run:
        print(f"{len(documents)} dashboards hold together; nothing is kept")
        return 0
    with console() as c:
        for document in documents:
            body = DashboardBody.model_validate(document.model_dump(exclude={"dashboard"}, by_alias=True))
            kept = c.dashboards.set(document.dashboard, body)
            print(f"dashboard {kept.name} kept, version {kept.version}")
    return 0


def _export(a: argparse.Namespace) -> int:
    with console() as c:
        found = c.dashboards.show(a.name)
    said = found.model_dump(
        mode="json", by_alias=True, exclude_none=True, exclude_defaults=True, include=set(DashboardBody.model_fields)
    )
    whole = {"dashboard": a.name, **said}
    print(written(whole) if a.yaml else json.dumps(whole, indent=2, ensure_ascii=False), end="" if a.yaml else "\n")
    return 0


def _versions(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", f"/dashboards/{quoted(a.name)}/versions")
    columns: list[Column] = [
        ("version", lambda v: v["version"]),
        ("at", lambda v: local_time(v["at"])),
        ("who", lambda v: v["who"]),
        ("panels", lambda v: v["panels"]),
    ]
    show(answer, columns, a.format)
    return 0


def _restore(a: argparse.Namespace) -> int:
    with console() as c:
        kept = c.dashboards.restore(a.name, a.version)
    print(f"dashboard {kept.name} is as it was in version {a.version}; that is version {kept.version} now")
    return 0


def _delete(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.dashboards.delete(a.name), file=sys.stderr)
    return 0
