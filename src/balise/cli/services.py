"""Commands of services on hosts."""

from __future__ import annotations

import argparse
import json
from typing import Any
from urllib.parse import quote

from balise.api.services import PortTarget, ServiceBody
from balise.cli.asking import console, model, verb, verbs
from balise.cli.output import Column, show

COLUMNS: list[Column] = [
    ("id", lambda s: s["id"]),
    ("state", lambda s: s["state"]),
    ("host", lambda s: s["host"]),
    ("service", lambda s: s["name"]),
    ("port", lambda s: s["target"]["port"]),
    ("mode", lambda s: s["collection"]["mode"]),
    ("read by", lambda s: s["collection"]["by"]),
    ("problem", lambda s: s["collection"]["problem"]),
]


def add_commands(nouns: Any) -> None:
    service = verbs(nouns, "service", "services on hosts, and who reads them")
    listing = verb(service, "list", "all services", _list)
    listing.add_argument("--host")
    found = verb(service, "found", "what listens on a host and is not read yet", _found)
    found.add_argument("host")
    add = verb(service, "add", "read a service from now on", _put)
    add.add_argument("host")
    add.add_argument("port", type=int)
    change = verb(service, "change", "let another one read it; identity and history stay", _put)
    change.add_argument("id", type=int)
    for made in (add, change):
        made.add_argument("--mode", choices=("resident", "split", "remote"), required=made is change)
        made.add_argument("--name")
        made.add_argument("--address", help="where it listens, if not at the host's own address")
        made.add_argument("--every", metavar="DURATION")
        made.add_argument("--site", help="the site whose relays read it")
    verb(service, "delete", "read a service no more", _delete, form_=False).add_argument("id", type=int)


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/services", host=a.host)
    show(answer, COLUMNS, a.format, empty="No services. See what listens on a host: balise service found HOST")
    return 0


def _found(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", f"/hosts/{quote(a.host, safe='')}/services")
    columns: list[Column] = [
        ("port", lambda f: f["port"]),
        ("process", lambda f: f["process"]),
        ("listens at", lambda f: f["address"]),
    ]
    empty = "Nothing that its agent saw, or it has no agent."
    show({"items": answer["found"]} if a.format != "json" else answer, columns, a.format, empty=empty)
    return 0


def _put(a: argparse.Namespace) -> int:
    with console() as c:
        number = getattr(a, "id", None)
        held = c.call("GET", f"/services/{number}") if number is not None else {}
        target = held.get("target", {"port": getattr(a, "port", None), "address": None})
        body = model(
            ServiceBody,
            host=held.get("host") or a.host,
            mode=a.mode or "resident",
            target=model(PortTarget, port=target["port"], address=a.address or target["address"]),
            name=a.name or held.get("name"),
            every=a.every or held.get("every"),
            site=a.site if a.site is not None or a.mode == "resident" else held.get("site"),
        )
        path = "/services" if number is None else f"/services/{number}"
        answer = c.call("POST" if number is None else "PUT", path, body)
    if a.format == "json":
        print(json.dumps(answer, indent=2))
    else:
        show({"items": [answer]}, COLUMNS, a.format)
    return 0


def _delete(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.call("DELETE", f"/services/{a.id}")["detail"])
    return 0
