"""`balise sign-in`: which console later commands ask; and who signed in to hosts, or tried to."""

from __future__ import annotations

import argparse
import getpass
import json
import os
import sys

from balise.cli.build import filters, span, verb, verbs
from balise.cli.connect import console, signed_in_file
from balise.cli.errors import CommandError
from balise.cli.output import Column, local_time, show
from balise.client import Balise


def add(noun: argparse.ArgumentParser) -> None:
    sign_ins = verbs(noun)
    to = verb(sign_ins, "to", "keep a console's address and a token for later commands", _sign_in, form_=False)
    to.add_argument("url")
    to.add_argument("--token-stdin", action="store_true", help="read the token from standard input")
    tries = verb(sign_ins, "list", "by account, address or both; what should be looked at first", _list)
    changes = verb(sign_ins, "changes", "accounts made, removed, locked, or put into groups", _changes)
    for one in (tries, changes):
        filters(one)
        span(one, "-24h")
    tries.add_argument("--by", choices=("account", "address", "pair"), default="address", help="(address)")
    tries.add_argument("--sweep", type=int, default=5, help="from how many accounts on an address sweeps (5)")
    tries.add_argument("--limit", type=int, default=50)


COLUMNS: list[Column] = [
    ("kind", lambda x: x["kind"].replace("-", " ")),
    ("account", lambda x: x["account"]),
    ("address", lambda x: x["address"] or "on the host"),
    ("failed", lambda x: x["failed"]),
    ("succeeded", lambda x: x["succeeded"]),
    ("accounts", lambda x: x["accounts"]),
    ("host", lambda x: x["host"] + (f" and {x['hosts'] - 1} more" if x["hosts"] > 1 else "")),
    ("first", lambda x: local_time(x["first"])),
    ("last", lambda x: local_time(x["last"])),
]
CHANGES: list[Column] = [
    ("time", lambda x: local_time(x["time"])),
    ("host", lambda x: x["host"]),
    ("account", lambda x: x["account"]),
    ("what", lambda x: x["what"].replace("-", " ")),
    ("", lambda x: x["detail"]),
]


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        spans = {"from_": a.from_, "to": a.to, "where": a.where, "filter": a.filter}
        answer = c.call("GET", "/sign-ins", by=a.by, sweep=a.sweep, limit=a.limit, **spans)
    show(answer, COLUMNS, a.format, empty="Nobody signed in or tried to in this span.")
    if a.format == "table":
        if len(answer["items"]) < answer["total"]:
            print(f"There are {answer['total']}: --limit {a.limit * 4}, or a narrower filter.", file=sys.stderr)
        if answer["changes"]:
            print("Accounts changed too: balise sign-in changes", file=sys.stderr)
    return 0


def _changes(a: argparse.Namespace) -> int:
    with console() as c:
        spans = {"from_": a.from_, "to": a.to, "where": a.where, "filter": a.filter}
        answer = c.call("GET", "/sign-ins", limit=1, **spans)
    show({"items": answer["changes"]}, CHANGES, a.format, empty="No account was changed in this span.")
    return 0


def _sign_in(a: argparse.Namespace) -> int:
    token = sys.stdin.readline().strip() if a.token_stdin else getpass.getpass("Token: ").strip()
    with Balise(a.url, token) as c:
        me = c.me()
    if me.name is None:
        raise CommandError("the console does not know this token")
    path = signed_in_file()
    path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
    with os.fdopen(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "w") as file:
        json.dump({"url": a.url, "token": token}, file)
    print(f"signed in to {a.url} as {me.name} ({me.role})")
    return 0
