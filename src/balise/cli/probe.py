"""`balise probe`: active checks that judge the answer."""

from __future__ import annotations

import argparse
import json
from pathlib import Path
from typing import Any, get_args

import yaml

from balise.api.probes import ProbeBody, ProbeKind
from balise.cli.build import targets, verb, verbs
from balise.cli.connect import console, model
from balise.cli.errors import CommandError
from balise.cli.output import Column, ago, local_time, show
from balise.client.connection import quoted


def add(noun: argparse.ArgumentParser) -> None:
    probe = verbs(noun)
    listing = verb(probe, "list", "all probes", _list)
    listing.add_argument("--host")
    verb(probe, "show", "one probe: its last answer from every place, phase by phase", _show).add_argument("name")
    put = verb(probe, "set", "keep a probe, new or changed", _set)
    trial = verb(probe, "try", "make a probe once from the console, without keeping it", _try)
    for made in (put, trial):
        made.add_argument("name")
        made.add_argument("--file", metavar="FILE", help="all of it as YAML or JSON, as the API has it")
        made.add_argument("--kind", choices=KIND_WORDS)
        made.add_argument("--target", nargs="+", metavar="URL|ADDRESS:PORT|KEY=VALUE")
        made.add_argument("--every", metavar="DURATION")
        made.add_argument("--time-limit", metavar="DURATION")
        made.add_argument("--attempts", type=int)
        made.add_argument("--from", dest="places", nargs="+", metavar="RELAY")
        made.add_argument("--credential", metavar="NAME")
        made.add_argument("--query", metavar="TEXT")
        made.add_argument("--host", help="the host that it is about")
        made.add_argument("--status", nargs="+", type=int, help="statuses that are good")
        made.add_argument("--text", help="the answer has this in it")
        made.add_argument("--value", help="what the query answers")
    verb(probe, "delete", "make a probe no more", _delete, form_=False).add_argument("name")


KIND_WORDS = get_args(ProbeKind)


_COLUMNS: list[Column] = [
    ("state", lambda p: p["state"]),
    ("probe", lambda p: p["name"]),
    ("kind", lambda p: p["kind"]),
    ("of", lambda p: p["target"] if isinstance(p["target"], str) else p["target"]["address"]),
    ("from", lambda p: len(p["places"])),
    ("took, ms", lambda p: f"{p['last']['seconds'] * 1000:.1f}" if p["last"] else ""),
    ("last", lambda p: local_time(p["last"]["at"]) if p["last"] else "not made yet"),
    ("says", lambda p: p["last"]["message"] if p["last"] else ""),
]


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/probes", host=a.host)
    show(answer, _COLUMNS, a.format, empty="No probes. Make one: balise probe set NAME --kind http --target URL")
    return 0


def _show(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", f"/probes/{quoted(a.name)}")
    if a.format != "table":
        show({"items": [answer]} if a.format == "csv" else answer, _COLUMNS, a.format)
        return 0
    print(f"{answer['name']}: {answer['state']} for {ago(answer['state_since'])}, shown on {answer['on_host']}\n")
    rows = [
        {"place": p["place"], "state": p["state"], **(p["last"] or {}), "phases": (p["last"] or {}).get("phases") or {}}
        for p in answer["places"]
    ]
    columns: list[Column] = [
        ("state", lambda r: r["state"]),
        ("from", lambda r: r["place"]),
        ("at", lambda r: local_time(r.get("at"))),
        ("took, ms", lambda r: f"{r['seconds'] * 1000:.1f}" if "seconds" in r else ""),
        ("phases, ms", lambda r: ", ".join(f"{k} {v * 1000:.1f}" for k, v in r["phases"].items())),
        ("says", lambda r: r.get("message", "")),
    ]
    show({"items": rows}, columns, "table")
    return 0


def _body(a: argparse.Namespace) -> ProbeBody:
    held: dict[str, Any] = {}
    if a.file:
        try:
            held = yaml.safe_load(Path(a.file).read_text("utf-8")) or {}
        except (OSError, yaml.YAMLError) as error:
            raise CommandError(f"{a.file}: {error}") from None
        if not isinstance(held, dict):
            raise CommandError(f"{a.file}: a probe is a list of keys and values")
        held.pop("probe", None)
    words = {"kind": a.kind, "every": a.every, "time_limit": a.time_limit, "attempts": a.attempts, "from": a.places,
             "credential": a.credential, "query": a.query, "host": a.host}  # fmt: skip
    held |= {key: value for key, value in words.items() if value is not None}
    if a.target:
        held["target"] = a.target[0] if len(a.target) == 1 and "=" not in a.target[0] else targets(a.target)
        if a.target[0].startswith(("http://", "https://")):
            held["target"] = a.target[0]
    expect = {"status": a.status, "text": a.text, "value": a.value}
    held.setdefault("expect", {}).update({key: value for key, value in expect.items() if value is not None})
    body: ProbeBody = model(ProbeBody, **held)
    return body


def _set(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("PUT", f"/probes/{quoted(a.name)}", _sent(_body(a)))
    if a.format == "json":
        print(json.dumps(answer, indent=2, ensure_ascii=False))
    else:
        print(f"the probe {answer['name']} is made every {answer['every']}, and shown on {answer['on_host']}")
    return 0


def _sent(body: ProbeBody) -> dict[str, Any]:
    sent: dict[str, Any] = body.model_dump(mode="json", by_alias=True, exclude_none=True)
    return sent


def _try(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("POST", f"/probes/{quoted(a.name)}/try", _sent(_body(a)))
    if a.format == "json":
        print(json.dumps(answer, indent=2, ensure_ascii=False))
    else:
        word = "warning" if answer["warning"] else "good" if answer["good"] else "failed"
        print(f"{word} in {answer['seconds'] * 1000:.1f} ms: {answer['message']}")
        for phase, took in answer["phases"].items():
            print(f"  {took * 1000:9.1f} ms  {phase}")
        for one in answer["certificates"]:
            print(f"  certificate {one['subject']}, from {one['issuer']}: {one['days_left']:.1f} days left")
    return 0 if answer["good"] else 1


def _delete(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.call("DELETE", f"/probes/{quoted(a.name)}")["detail"])
    return 0
