"""`balise service`: services on hosts, who reads them, and what was read."""

from __future__ import annotations

import argparse
import json

from balise.api.services import AcceptProposals, ServiceBody
from balise.cli.build import targets, verb, verbs
from balise.cli.connect import console, model
from balise.cli.output import Column, ago, local_time, show
from balise.client.connection import quoted


def add(noun: argparse.ArgumentParser) -> None:
    service = verbs(noun)
    listing = verb(service, "list", "all services", _list)
    listing.add_argument("--host")
    listing.add_argument("--kit")
    verb(service, "show", "one service: its parts, what it collects, what happened to it", _show).add_argument(
        "id", type=int
    )
    found = verb(service, "found", "what listens on a host and is not read yet", _found)
    found.add_argument("host")
    propose = verb(service, "proposals", "what was found and could be read, with the kit that fits", _proposals)
    propose.add_argument("--accept", action="store_true", help="read them from now on")
    propose.add_argument("--host", action="append", default=[], help="only of this host; more than once for several")
    propose.add_argument("--kit", action="append", default=[], help="only with this kit")
    propose.add_argument("--credential", metavar="NAME", help="for those that need one")
    add = verb(service, "add", "read a service from now on", _put)
    add.add_argument("host")
    add.add_argument("port", type=int, nargs="?", help="its port, the same as --target port=…")
    add.add_argument("--kit", help="what kind of service it is (port: something that listens)")
    change = verb(service, "change", "let another one read it; identity and history stay", _put)
    change.add_argument("id", type=int)
    for made in (add, change):
        made.add_argument("--mode", choices=("resident", "split", "remote"), required=made is change)
        made.add_argument("--name")
        made.add_argument("--address", help="where it listens, the same as --target address=…")
        made.add_argument("--target", nargs="+", action="extend", default=[], metavar="KEY=VALUE")
        made.add_argument("--credential", metavar="NAME")
        made.add_argument("--every", metavar="DURATION")
        made.add_argument("--site", help="the site whose relays read it")
    sessions = verb(service, "sessions", "who is at work in a service, and who blocks whom", _sessions)
    tables = verb(service, "tables", "the tables its kit keeps: dearest statements and the like", _tables)
    for made in (sessions, tables):
        made.add_argument("id", type=int)
        made.add_argument("--at", metavar="TIME", help="an earlier moment, like -15m or RFC 3339")
    verb(service, "delete", "read a service no more", _delete, form_=False).add_argument("id", type=int)


COLUMNS: list[Column] = [
    ("id", lambda s: s["id"]),
    ("state", lambda s: s["state"]),
    ("host", lambda s: s["host"]),
    ("service", lambda s: s["name"]),
    ("kit", lambda s: f"{s['kit']} {s['kit_version']}"),
    ("at", lambda s: s["target"].get("port") or s["target"].get("url") or s["target"].get("socket")),
    ("version", lambda s: s["version"]),
    ("mode", lambda s: s["collection"]["mode"]),
    ("read by", lambda s: s["collection"]["by"]),
    ("problem", lambda s: s["collection"]["problem"]),
]


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/services", host=a.host, kit=a.kit)
    show(answer, COLUMNS, a.format, empty="No services. See what was found: balise service proposals")
    return 0


def _show(a: argparse.Namespace) -> int:
    with console() as c:
        service = c.call("GET", f"/services/{a.id}")
        steps = c.call("GET", f"/services/{a.id}/steps")
    if a.format != "table":
        show({"items": [service]} if a.format == "csv" else service, COLUMNS, a.format)
        return 0
    where = ", ".join(f"{k} {v}" for k, v in service["target"].items())
    held = service["collection"]
    print(f"{service['name']} on {service['host']}: {service['state']}")
    print(f"  kit       {service['kit']} {service['kit_version']}")
    for name, value in service["facts"].items():
        print(f"  {name:<9} {value}")
    print(f"  at        {where or 'as its kit says'}")
    print(f"  read      by {held['by']} ({held['mode']}), every {service['every']}, last {ago(held['at'])} ago")
    if held["problem"]:
        print(f"  problem   {held['problem']}")
    print()
    parts: list[Column] = [
        ("part", lambda p: p["part"]),
        ("seconds", lambda p: f"{p['seconds']:.4f}"),
        ("", lambda p: p["problem"] or (f"left out: {p['note']}" if p["note"] else "")),
    ]
    show({"items": service["parts"]}, parts, "table", empty="Not read yet.")
    print()
    what: list[Column] = [
        ("at", lambda s: local_time(s["at"])),
        ("what", lambda s: s["what"]),
        ("before", lambda s: s["before"]),
        ("after", lambda s: s["after"]),
    ]
    show(steps, what, "table", empty="Nothing happened to it yet.")
    return 0


def _found(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", f"/hosts/{quoted(a.host)}/services")
    columns: list[Column] = [
        ("port", lambda f: f["port"]),
        ("process", lambda f: f["process"]),
        ("listens at", lambda f: f["address"]),
        ("kit", lambda f: f["kit"]),
    ]
    empty = "Nothing that its agent saw, or it has no agent."
    show({"items": answer["found"]} if a.format != "json" else answer, columns, a.format, empty=empty)
    return 0


def _proposals(a: argparse.Namespace) -> int:
    with console() as c:
        if a.accept:
            body = model(AcceptProposals, hosts=a.host, kits=a.kit, credential=a.credential)
            answer = c.call("POST", "/services/proposals", body)
            if a.format == "json":
                print(json.dumps(answer, indent=2, ensure_ascii=False))
            else:
                show({"items": answer["added"]}, COLUMNS, a.format, empty="None was taken up.")
                for where, why in answer["failed"].items():
                    print(f"{where}: {why}")
            return 1 if answer["failed"] else 0
        answer = c.call("GET", "/services/proposals")
    answer["items"] = [
        p for p in answer["items"] if (not a.host or p["host"] in a.host) and (not a.kit or p["kit"] in a.kit)
    ]
    columns: list[Column] = [
        ("host", lambda p: p["host"]),
        ("kit", lambda p: p["kit"]),
        ("found", lambda p: p["found"]),
        ("needs", lambda p: "nothing" if p["free"] else f"a credential ({p['credential']})" if p["credential"]
            else "a grant (balise kit show)"),
    ]  # fmt: skip
    show(answer, columns, a.format, empty="Nothing was found that is not read already.")
    return 0


def _put(a: argparse.Namespace) -> int:
    with console() as c:
        number = getattr(a, "id", None)
        held = c.call("GET", f"/services/{number}") if number is not None else {}
        target = dict(held.get("target", {})) | targets(a.target)
        if getattr(a, "port", None):
            target["port"] = a.port
        if a.address:
            target["address"] = a.address
        body = model(
            ServiceBody,
            host=held.get("host") or a.host,
            kit=held.get("kit") or a.kit,
            mode=a.mode or "resident",
            target=target,
            credential=a.credential or held.get("credential"),
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


def _sessions(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", f"/services/{a.id}/sessions", at=a.at)
    columns: list[Column] = [
        ("session", lambda s: "  " * s["depth"] + s["id"]),
        ("user", lambda s: s["user"]),
        ("application", lambda s: s["application"]),
        ("client", lambda s: s["client"]),
        ("for, s", lambda s: f"{s['seconds']:.1f}"),
        ("state", lambda s: s["state"] if s["depth"] or not s["root"] else f"HOLDS: {s['state']}"),
        ("waits for", lambda s: s["blocked_by"]),
        ("statement", lambda s: " ".join(s["statement"].split())[:120]),
    ]
    if a.format == "table" and answer["at"]:
        print(f"as of {local_time(answer['at'])}\n")
    show(answer, columns, a.format, empty="No session at work was kept for this moment.")
    return 0


def _tables(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", f"/services/{a.id}/tables", at=a.at)
    if a.format == "json":
        print(json.dumps(answer, indent=2, ensure_ascii=False))
        return 0
    for table in answer["items"]:
        if a.format == "table":
            print(f"{table['about']}, as of {local_time(table['at']) or 'never read'}")
        columns: list[Column] = [(h, lambda r, c=c: r.get(c)) for c, h in table["columns"].items()]  # type: ignore[misc]
        show({"items": table["rows"]}, columns, a.format, empty="None.")
        print()
    return 0


def _delete(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.call("DELETE", f"/services/{a.id}")["detail"])
    return 0
