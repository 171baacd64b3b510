"""`balise host table`, `tree`, `processes`, `sessions` and `requests`: from the fleet down to the one."""

from __future__ import annotations

import argparse
import re
from typing import Any, get_args

from balise.api.processes import RequestOf, SessionOf
from balise.api.table import HostTableQuery
from balise.cli.build import filters, span, verb
from balise.cli.connect import console, model
from balise.cli.errors import CommandError
from balise.cli.output import Column, local_time, show
from balise.client.connection import quoted
from balise.core.quantities import in_words

_COLUMN = re.compile(r"(?:(?P<take>[a-z0-9]+)\()?(?P<what>[^()@]+?)\)?(?:@(?P<over>\w+))?(?:\[(?P<where>.+)\])?")


def add(of: Any) -> None:
    table = verb(of, "table", "hosts with any metric, fact, label or count as columns", _table)
    table.add_argument(
        "--column",
        action="append",
        default=[],
        metavar="COLUMN",
        help="a metric like max(balise.cpu.busy)@1h, or fact:NAME, label:NAME, count:alerts, count:incidents, "
        "count:events; a filter in [] behind it",
    )
    filters(table, "the hosts that pass")
    table.add_argument("--sort", metavar="N", help="by a column, from 1 on; -N for the highest first; name or state")
    table.add_argument("--group-by", metavar="WHAT", help="site, group, application, os, label.NAME, kit.NAME")
    table.add_argument("--limit", type=int, default=50, help="how many (50)")
    tree = verb(of, "tree", "who is worst, and why, level by level", _tree)
    tree.add_argument("--by", default="site", help="site, group, application or label.NAME (site)")
    tree.add_argument("--below", metavar="NODE", help="as the answer above gave it")
    processes = verb(of, "processes", "what processes, programs or users took over a span", _processes)
    processes.add_argument("name")
    span(processes, "-1h")
    processes.add_argument("--by", choices=("cpu", "memory", "io"), default="cpu", help="the busiest by (cpu)")
    processes.add_argument("--of", choices=("process", "program", "user"), default="program", help="of what (program)")
    processes.add_argument("--limit", type=int, default=20, help="how many (20)")
    sessions = verb(of, "sessions", "what sessions of its services did over a span", _sessions)
    sessions.add_argument("name")
    span(sessions, "-1h")
    sessions.add_argument("--of", choices=get_args(SessionOf), default="session", help="of what (session)")
    sessions.add_argument("--limit", type=int, default=20, help="how many (20)")
    requests = verb(of, "requests", "web requests over a span, as access logs tell them", _requests)
    requests.add_argument("name")
    span(requests, "-1h")
    requests.add_argument("--of", choices=get_args(RequestOf), default="path", help="by what (path)")
    requests.add_argument("--limit", type=int, default=20, help="how many (20)")


def _column(text: str) -> dict[str, Any]:
    for kind in ("fact", "label"):
        if text.startswith(f"{kind}:"):
            return {kind: text.removeprefix(f"{kind}:")}
    found = _COLUMN.fullmatch(text)
    if found is None:
        raise CommandError(f"--column {text!r}: write a metric like max(balise.cpu.busy)@1h, fact:NAME or count:alerts")
    said = {key: found[key] for key in ("take", "over", "where") if found[key]}
    what = found["what"]
    return {"count": what.removeprefix("count:"), **said} if what.startswith("count:") else {"metric": what, **said}


def _order(text: str) -> dict[str, Any]:
    bare = text.lstrip("-")
    if bare in ("name", "state"):
        return {"by": bare, "descending": text.startswith("-")}
    if not bare.isdecimal() or not int(bare):
        raise CommandError(f"--sort {text!r}: write the number of a column, from 1 on, or name or state")
    return {"column": int(bare) - 1, "descending": text.startswith("-")}


def _table(a: argparse.Namespace) -> int:
    query = model(
        HostTableQuery,
        columns=[_column(text) for text in a.column],
        where=a.where,
        filter=a.filter,
        group_by=a.group_by,
        sort=[_order(a.sort)] if a.sort else [],
        limit=a.limit,
    )
    with console() as c:
        answer = c.call("POST", "/hosts/table", query)
    units = [column["unit"] for column in answer["columns"]]
    # Of a metric that stands there twice the heading says how it is taken.
    names = a.column
    if a.group_by:
        columns: list[Column] = [
            ("state", lambda g: g["state"]),
            (a.group_by, lambda g: g["name"] or "(none)"),
            ("hosts", lambda g: g["hosts"]),
        ]
        for number, name in enumerate(names):
            columns += [_group_column(number, f"{name} {key}", key, units[number]) for key in ("mean", "most")]
        show(answer if a.format == "json" else {"items": answer["groups"]}, columns, a.format)
        return 0
    columns = [("state", lambda h: h["state"]), ("host", lambda h: h["host"])]
    raw = a.format == "csv"
    columns += [_host_column(number, name, units[number], raw=raw) for number, name in enumerate(names)]
    show(answer, columns, a.format, empty="No host passes.")
    return 0


def _host_column(number: int, name: str, unit: str, *, raw: bool) -> Column:
    def cell(row: dict[str, Any]) -> Any:
        value = row["values"][number]
        if raw or not isinstance(value, float | int):
            return value
        return f"{in_words(float(value), unit)}{' !' if row['unusual'][number] else ''}"

    return name, cell


def _group_column(number: int, name: str, key: str, unit: str) -> Column:
    def cell(group: dict[str, Any]) -> str:
        value = group["values"][number]
        return in_words(value[key], unit) if value is not None else ""

    return name, cell


def _tree(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/tree", by=a.by, below=a.below)
    columns: list[Column] = [
        ("state", lambda n: n["state"]),
        ("name", lambda n: n["name"]),
        ("hosts", lambda n: n["hosts"]),
        ("layers", lambda n: [f for f, s in n["facets"].items() if s in ("critical", "warning")]),
        ("why", lambda n: n["why"]),
        ("node", lambda n: n["node"]),
    ]
    show(answer, columns, a.format, empty="No hosts.")
    return 0


def _processes(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call(
            "GET", f"/hosts/{quoted(a.name)}/processes", from_=a.from_, to=a.to, by=a.by, of=a.of, limit=a.limit
        )
    columns: list[Column] = [
        *([("pid", lambda p: p["pid"])] if a.of == "process" else []),
        *([("program", lambda p: p["program"])] if a.of != "user" else []),
        ("user", lambda p: p["user"]),
        ("cpu", lambda p: in_words(p["cpu_seconds"], "s")),
        ("at most", lambda p: f"{p['cpu_peak']:.2f} cores"),
        ("memory", lambda p: in_words(p["memory_peak"], "By")),
        ("read and written", lambda p: in_words(p["io_bytes"], "By") if p["io_bytes"] is not None else ""),
        *([("service", lambda p: p["service"] or "")] if a.of != "user" else []),
        *([("started", lambda p: local_time(p["started_at"])), ("ended", lambda p: local_time(p["ended_at"]))]
          if a.of == "process" else []),
        *([("command", lambda p: p["command"])] if a.of != "user" else []),
    ]  # fmt: skip
    empty = "Nothing is known of processes in this span: the part processes tells of them (balise plan)."
    show(answer, columns, a.format, empty=empty)
    return 0


def _sessions(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", f"/hosts/{quoted(a.name)}/sessions", from_=a.from_, to=a.to, of=a.of, limit=a.limit)
    shown = [name for name in ("user", "application", "client") if any(one[name] for one in answer["items"])]
    columns: list[Column] = [
        ("service", lambda s: s["service"]),
        ("session", lambda s: s["session"] or f"{s['sessions']} of them"),
        *[(name, lambda s, name=name: s[name]) for name in shown],
        ("at work", lambda s: in_words(s["seconds"], "s")),
        ("waited", lambda s: in_words(s["waited_seconds"], "s") if s["waited_seconds"] else ""),
        ("held others", lambda s: in_words(s["held_seconds"], "s") if s["held_seconds"] else ""),
        ("first seen", lambda s: local_time(s["first_at"])),
        ("last seen", lambda s: local_time(s["last_at"])),
        ("statement", lambda s: " ".join(s["statement"].split())[:100]),
    ]
    show(answer, columns, a.format, empty="No session at work was kept in this span.")
    return 0


def _requests(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", f"/hosts/{quoted(a.name)}/requests", from_=a.from_, to=a.to, of=a.of, limit=a.limit)
    columns: list[Column] = [
        (a.of, lambda r: r["of"]),
        ("requests", lambda r: r["requests"]),
        ("refused", lambda r: r["refused"] or ""),
        ("failed", lambda r: r["failed"] or ""),
        ("time", lambda r: in_words(r["seconds"], "s") if r["seconds"] is not None else ""),
        ("longest", lambda r: in_words(r["longest_seconds"], "s") if r["longest_seconds"] is not None else ""),
        ("clients", lambda r: r["clients"]),
        ("last", lambda r: local_time(r["last_at"])),
    ]
    show(answer, columns, a.format, empty="No access log told of a request in this span.")
    if answer["left_out"] and a.format == "table":
        print(f"\nOf the newest {answer['looked']:,} lines alone: take a shorter span for all.")
    return 0
