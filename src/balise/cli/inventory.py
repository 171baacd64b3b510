"""`balise inventory`: what is on hosts, and what changed."""

from __future__ import annotations

import argparse
import sys

from balise.api.inventory import KINDS
from balise.cli.build import verb, verbs
from balise.cli.connect import console
from balise.cli.output import Column, local_time, show
from balise.client.connection import quoted


def add(noun: argparse.ArgumentParser) -> None:
    inventory = verbs(noun)
    one = verb(inventory, "show", "what is on a host", _show)
    one.add_argument("host")
    one.add_argument("kind", nargs="?", choices=KINDS, help="one kind; without it, how much there is of each")
    one.add_argument("--at", metavar="TIME", help="an earlier moment")
    one.add_argument("--text", help="only names that have this in them")
    compare = verb(inventory, "compare", "a host beside another, its group, or itself at an earlier time", _compare)
    compare.add_argument("host")
    compare.add_argument("--kind", choices=KINDS)
    compare.add_argument("--with", dest="other", metavar="HOST")
    compare.add_argument("--group", metavar="GROUP", help="beside what is most common in it")
    compare.add_argument("--at", metavar="TIME", help="beside itself at this time")
    refresh = verb(inventory, "refresh", "have a host's agent tell its inventory at once", _refresh, form_=False)
    refresh.add_argument("host")


def _show(a: argparse.Namespace) -> int:
    path = f"/hosts/{quoted(a.host)}/inventory"
    with console() as c:
        if a.kind is None and a.text is None:
            counts = c.call("GET", f"{path}/kinds")
            columns: list[Column] = [
                ("kind", lambda k: k["kind"]),
                ("items", lambda k: k["items"]),
                ("changed in 7 days", lambda k: k["changed"]),
                ("looked at", lambda k: local_time(k["at"]) or "never"),
                ("problem", lambda k: k["problem"]),
            ]
            show(counts, columns, a.format)
            return 0
        answer = c.call("GET", path, kind=a.kind, at=a.at, text=a.text)
    keys = dict.fromkeys(k for item in answer["items"] for k in item if k not in ("name", "kind", "scope", "since"))
    columns = [("name", lambda i: i["name"]), *((k, lambda i, k=k: i.get(k)) for k in list(keys)[:8])]
    columns.append(("as it is since", lambda i: local_time(i["since"])))
    show(answer, columns, a.format, empty="Nothing of this kind was collected for that moment.")
    if a.format == "table" and answer["total"] > len(answer["items"]):
        print(f"{answer['total'] - len(answer['items'])} more: narrow it with --text", file=sys.stderr)
    return 0


def _compare(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call(
            "GET",
            f"/hosts/{quoted(a.host)}/inventory/compare",
            kind=a.kind,
            host=a.other,
            group=a.group,
            at=a.at,
        )
    columns: list[Column] = [
        ("kind", lambda d: d["kind"]),
        ("name", lambda d: d["name"]),
        (answer["here"], lambda d: "-" if d["here"] is None else d["here"] or "there"),
        (answer["there"], lambda d: "-" if d["there"] is None else d["there"] or "there"),
    ]
    show(answer, columns, a.format, empty="Nothing differs.")
    if a.format == "table":
        print(f"\n{len(answer['items']) + answer['left_out']} differ, {answer['same']} are the same")
    return 0


def _refresh(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.call("POST", f"/hosts/{quoted(a.host)}/inventory/refresh")["detail"])
    return 0
