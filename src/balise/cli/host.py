"""`balise host`: servers, and what is known of them."""

from __future__ import annotations

import argparse
import csv
import json
import sys
from typing import Any

from balise.api.hosts import HostChange, HostsChange
from balise.api.remote import RemoteBody
from balise.api.spans import rfc3339
from balise.cli import host_drill, host_list
from balise.cli.build import filters, verb, verbs
from balise.cli.connect import console, model
from balise.cli.errors import CommandError
from balise.cli.output import Column, ago, local_time, print_table, printable, show, text_of
from balise.cli.words import said
from balise.client.connection import quoted
from balise.core.cells import safe_cell
from balise.core.quantities import in_words


def add(noun: argparse.ArgumentParser) -> None:
    of = verbs(noun)
    listing = verb(of, "list", "all hosts, the worst state first", _list)
    listing.add_argument("--retired", action="store_true", help="those that have left, instead of those that are here")
    filters(listing, """like 'label.site eq "northquay"'""")
    one = verb(of, "show", "one host", _show)
    one.add_argument("name")
    label = verb(of, "label", "set labels of a host; a label without a value goes", _label)
    label.add_argument("name")
    label.add_argument("labels", nargs="+", metavar="KEY=VALUE")
    host_list.add(of)
    host_drill.add(of)
    remote = verb(of, "remote", "collect a host over the network, or show how it is reached", _remote)
    remote.add_argument("name")
    for option in ("--protocol", "--address", "--credential", "--every", "--time-limit", "--site"):
        remote.add_argument(option)
    remote.add_argument("--port", type=int)
    remote.add_argument("--accept-host-key", action="store_true", help="pin the key that the host shows next")
    compare = verb(of, "compare", "facts of hosts side by side; * where they differ", _compare)
    compare.add_argument("names", nargs="+")
    runs = verb(of, "runs-on", "say which machine a host runs on", _runs_on, form_=False)
    runs.add_argument("name")
    machine = runs.add_mutually_exclusive_group(required=True)
    machine.add_argument("machine", nargs="?", metavar="MACHINE", help="the host that it runs on")
    machine.add_argument("--none", action="store_true", help="it says none; a plan may")
    change = verb(of, "change", "label and group many hosts at once", _change, form_=False)
    change.add_argument("names", nargs="*")
    filters(change, "the hosts that pass, instead of names")
    change.add_argument("--label", action="append", default=[], metavar="KEY=VALUE", help="set; without VALUE it goes")
    change.add_argument("--join", action="append", default=[], metavar="GROUP")
    change.add_argument("--leave", action="append", default=[], metavar="GROUP")
    verb(of, "retire", "a host leaves; its history stays", _retire, form_=False).add_argument("name")
    erase = verb(of, "erase", "remove a host with all its history, for good", _erase, form_=False)
    erase.add_argument("name")
    erase.add_argument("--yes", action="store_true", help="do not ask")
    revoke = verb(of, "revoke-agent", "the agent of a host may not deliver any more", _revoke, form_=False)
    revoke.add_argument("name")
    verb(of, "plan", "what holds for a host, each setting with its plan", _plan).add_argument("name")


HOST_COLUMNS: list[Column] = [
    ("state", lambda h: h["state"]),
    ("host", lambda h: h["name"]),
    ("groups", lambda h: h["groups"]),
    ("labels", lambda h: h["labels"]),
    ("system", lambda h: h["os"]),
    ("collected", lambda h: h["collection"]["mode"]),
    ("alerts", lambda h: h["open_alerts"] or ""),
    ("last heard", lambda h: ago(h["last_seen"])),
]


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call(
            "GET", "/hosts", where=a.where, filter=a.filter, sort="state", limit=10_000, retired=a.retired or None
        )
    show(answer, HOST_COLUMNS, a.format, empty="No hosts. Make an enrolment key with: balise key create LABEL")
    return 0


def _show(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", f"/hosts/{quoted(a.name)}")
    if a.format == "json":
        print(json.dumps(answer, indent=2, ensure_ascii=False))
        return 0
    facts = answer.pop("facts") or {}
    agent = answer.pop("agent") or {}
    collection = answer.pop("collection")
    words = said if a.format == "table" else lambda _name, value: value
    flat = [(k, words(k, v)) for k, v in {**answer, **facts}.items() if v not in (None, "", [], {})]
    flat += [(f"collection {k}", v) for k, v in collection.items() if v is not None]
    flat += [(f"agent {k}", words(k, v)) for k, v in agent.items() if not isinstance(v, list) and v not in ("", None)]
    flat += [
        (f"follows {f['path']}", f"{f['status']}: {f['detail']}, {f['lines']} lines") for f in agent.get("follow", [])
    ]
    show({"items": flat}, [("what", lambda i: i[0]), ("value", lambda i: i[1])], a.format)
    return 0


def _runs_on(a: argparse.Namespace) -> int:
    with console() as c:
        changed = c.hosts.change(a.name, model(HostChange, runs_on="" if a.none else a.machine))
    said = f"runs on {changed.runs_on}, as {changed.runs_on_by} says" if changed.runs_on else "runs on no other host"
    print(f"{changed.name} {said}")
    return 0


def _label(a: argparse.Namespace) -> int:
    with console() as c:
        labels = dict(c.hosts.show(a.name).labels)
        for pair in a.labels:
            key, sign, value = pair.partition("=")
            if not sign or not value:
                labels.pop(key, None)
            else:
                labels[key] = value
        changed = c.hosts.change(a.name, model(HostChange, labels=labels))
    print(f"{changed.name}: {text_of(changed.labels) or 'no labels'}")
    return 0


def _remote(a: argparse.Namespace) -> int:
    fields = {
        key: getattr(a, key)
        for key in ("protocol", "address", "credential", "every", "time_limit", "site", "port")
        if getattr(a, key) is not None
    }
    if a.accept_host_key:
        fields["accept_host_key"] = True
    with console() as c:
        if fields:
            body = model(RemoteBody, **fields)
            answer = c.call("PUT", f"/hosts/{quoted(a.name)}/remote", body)
        else:
            answer = c.call("GET", f"/hosts/{quoted(a.name)}/remote")
    if a.format == "json":
        print(json.dumps(answer, indent=2))
        return 0
    items = [(k, v) for k, v in answer.items() if v not in (None, "")]
    show({"items": items}, [("what", lambda i: i[0]), ("value", lambda i: i[1])], a.format)
    return 0


OWN_FACTS = ("host_name", "machine_id", "boot_time", "addresses")
"""Facts in which every host differs from every other."""


def _compare(a: argparse.Namespace) -> int:
    with console() as c:
        hosts = [c.call("GET", f"/hosts/{quoted(name)}") for name in a.names]
    rows = []
    for key in dict.fromkeys(k for h in hosts for k in ["state", *(h["facts"] or {}), "groups", "labels"]):
        cells = [_fact_text(key, h[key] if key in h else (h["facts"] or {}).get(key)) for h in hosts]
        rows.append(["*" if len(set(cells)) > 1 and key not in OWN_FACTS else "", key, *cells])
    headings = ["", "fact", *a.names]
    if a.format == "json":
        print(json.dumps([dict(zip(headings, row, strict=True)) for row in rows], indent=2, ensure_ascii=False))
    elif a.format == "csv":
        csv.writer(sys.stdout).writerows([[safe_cell(cell) for cell in row] for row in [headings, *rows]])
    else:
        print_table(headings, rows, sys.stdout)
    return 0


def _fact_text(key: str, value: Any) -> str:
    """A fact with its unit, a time as people read it."""
    if key == "memory" and value:
        return in_words(float(value), "By")
    if key == "boot_time" and value:
        return local_time(rfc3339(float(value)))
    return text_of(value)


def _change(a: argparse.Namespace) -> int:
    pairs = [label.partition("=") for label in a.label]
    body = model(
        HostsChange,
        hosts=a.names or None,
        where=a.where,
        filter=a.filter,
        set_labels={key: value for key, _, value in pairs if value},
        remove_labels=[key for key, _, value in pairs if not value],
        join=a.join,
        leave=a.leave,
    )
    with console() as c:
        print(f"{c.call('POST', '/hosts/change', body)['changed']} hosts changed")
    return 0


def _retire(a: argparse.Namespace) -> int:
    with console() as c:
        c.call("POST", f"/hosts/{quoted(a.name)}/retire")
    print(f"{a.name} is retired; its history stays until it is forgotten")
    return 0


def _erase(a: argparse.Namespace) -> int:
    if not a.yes and input(f"Erase {a.name} with all its history, for good? Write its name: ").strip() != a.name:
        raise CommandError("nothing was erased")
    with console() as c:
        print(c.call("DELETE", f"/hosts/{quoted(a.name)}")["detail"])
    return 0


def _revoke(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.call("DELETE", f"/hosts/{quoted(a.name)}/agent")["detail"])
    return 0


def _plan(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", f"/hosts/{quoted(a.name)}/plan")
    if a.format == "json":
        print(json.dumps(answer, indent=2, ensure_ascii=False))
        return 0
    columns: list[Column] = [
        ("setting", lambda s: s["setting"]),
        ("value", lambda s: s["value"]),
        ("from plan", lambda s: s["plan"]),
    ]
    show({"items": answer["settings"]}, columns, a.format)
    for problem in answer["problems"]:
        print(f"not done: {printable(problem)}", file=sys.stderr)
    if answer["applied"] == "not yet":
        print("the agent has not taken this up yet", file=sys.stderr)
    return 0
