"""`balise group`: sets of hosts, listed or chosen by a filter; sites too."""

from __future__ import annotations

import argparse
import json
import sys
from functools import partial
from typing import Any

from balise.api.hosts import GroupBody, GroupPreview
from balise.cli.build import filters, verb, verbs
from balise.cli.connect import console, model
from balise.cli.output import Column, show
from balise.client.connection import quoted


def add(noun: argparse.ArgumentParser) -> None:
    group = verbs(noun)
    verb(group, "list", "all groups and the states of their hosts", _list)
    put = verb(group, "set", "make or change a group", _set, form_=False)
    put.add_argument("name")
    filters(put, "the hosts that pass belong to it, now and later")
    put.add_argument("--host", action="append", metavar="NAME", help="the hosts listed; repeatable")
    put.add_argument("--parent", metavar="GROUP")
    put.add_argument("--site", action="store_true", help="it is a site")
    put.add_argument("--about")
    preview = verb(group, "preview", "what a filter would choose", _preview)
    preview.add_argument("where", metavar="FILTER")
    verb(group, "delete", "take a group away; its hosts stay", _delete, form_=False).add_argument("name")


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/groups")
    columns: list[Column] = [
        ("state", lambda g: g["state"]),
        ("group", lambda g: g["name"]),
        ("kind", lambda g: g["kind"]),
        ("in", lambda g: g["parent"]),
        ("hosts", lambda g: g["hosts"]),
    ]
    columns += [(state, partial(_in_state, state)) for state in ("critical", "warning", "silent", "ok")]
    columns.append(("chosen by", lambda g: g["where"]))
    show(answer, columns, a.format, empty="No groups. Make one with: balise group set NAME --where FILTER")
    return 0


def _in_state(state: str, group: Any) -> Any:
    return group["states"].get(state, "")


def _set(a: argparse.Namespace) -> int:
    fields: dict[str, Any] = {"kind": "site"} if a.site else {}
    said = {"where": a.where, "filter": a.filter, "parent": a.parent, "about": a.about, "hosts": a.host}
    fields |= {key: value for key, value in said.items() if value is not None}
    with console() as c:
        # What was not said stays as it is, so only what was said is sent.
        body = model(GroupBody, **fields).model_dump(exclude_unset=True)
        answer = c.call("PUT", f"/groups/{quoted(a.name)}", body)
    print(f"{answer['kind']} {a.name}: {answer['hosts']} hosts")
    return 0


def _preview(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("POST", "/groups/preview", model(GroupPreview, where=a.where))
    if a.format == "json":
        print(json.dumps(answer, indent=2))
        return 0
    show({"items": answer["hosts"]}, [("host", lambda h: h)], a.format, empty="It chooses no host.")
    print(f"{answer['count']} hosts", file=sys.stderr)
    return 0


def _delete(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.call("DELETE", f"/groups/{quoted(a.name)}")["detail"])
    return 0
