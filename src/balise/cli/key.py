"""`balise key`: enrolment keys."""

from __future__ import annotations

import argparse
import json
import sys

from balise.api.access import NewEnrolmentKey
from balise.cli.build import verb, verbs
from balise.cli.connect import console, model
from balise.cli.output import Column, local_time, show


def add(noun: argparse.ArgumentParser) -> None:
    of = verbs(noun)
    create = verb(of, "create", "make a key and print the command that uses it", _create)
    create.add_argument("label")
    create.add_argument("--uses", type=int, default=1)
    create.add_argument("--expires-in", default="24h", metavar="DURATION")
    create.add_argument("--group")
    create.add_argument(
        "--label", dest="labels", action="append", default=[], metavar="KEY=VALUE", help="for its hosts"
    )
    create.add_argument("--site", help="for relays: the site whose hosts they serve and read")
    create.add_argument("--approval", choices=("automatic", "manual"), default="automatic")
    verb(of, "list", "all keys and what they enrolled", _list)
    revoke = verb(of, "revoke", "make a key useless", _revoke, form_=False)
    revoke.add_argument("id", type=int)
    revoke.add_argument("--agents", action="store_true", help="revoke what it enrolled, too")


def _create(a: argparse.Namespace) -> int:
    body = model(
        NewEnrolmentKey,
        label=a.label,
        uses=a.uses,
        expires_in=a.expires_in,
        group=a.group,
        site=a.site,
        labels=dict(pair.partition("=")[::2] for pair in a.labels),
        approval=a.approval,
    )
    with console() as c:
        answer = c.call("POST", "/enrolment-keys", body)
    if a.format == "json":
        print(json.dumps(answer, indent=2))
    else:
        print(answer["command"])
        print(
            f"good for {answer['uses_left']} hosts until {local_time(answer['expires_at'])}; shown only now",
            file=sys.stderr,
        )
    return 0


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/enrolment-keys")
    columns: list[Column] = [
        ("id", lambda x: x["id"]),
        ("label", lambda x: x["label"]),
        ("group", lambda x: x["group"]),
        ("uses left", lambda x: x["uses_left"]),
        ("expires", lambda x: "revoked" if x["revoked_at"] else local_time(x["expires_at"])),
        ("approval", lambda x: x["approval"]),
        ("waiting", lambda x: x["waiting"] or ""),
        ("enrolled", lambda x: x["enrolled"]),
    ]
    show(answer, columns, a.format, empty="No enrolment keys. Make one with: balise key create LABEL")
    return 0


def _revoke(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.keys.revoke(a.id, agents=a.agents))
    return 0
