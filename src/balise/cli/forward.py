"""`balise forward`: events and points sent on to other systems."""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

from balise.api.forwards import ForwardBody
from balise.cli.build import filters, verb, verbs
from balise.cli.connect import console, model
from balise.cli.output import Column, local_time, show


def add(noun: argparse.ArgumentParser) -> None:
    forwards = verbs(noun)
    verb(forwards, "list", "all forwards, with how they go", _list)
    syslog = verb(forwards, "syslog", "send events on as syslog, or change which and where to", _syslog, form_=False)
    syslog.add_argument("name")
    syslog.add_argument("address", metavar="ADDR:PORT")
    syslog.add_argument("--transport", choices=("udp", "tcp", "tls"), default="tls", help="(tls)")
    syslog.add_argument("--ca", metavar="FILE", help="certificates, PEM, that the other side's is signed by")
    otlp = verb(forwards, "otlp", "send events or points on over OTLP, or change what and where to", _otlp, form_=False)
    otlp.add_argument("name")
    otlp.add_argument("url", help="such as https://otlp.skerry.example/v1/logs, or …/v1/metrics for points")
    otlp.add_argument("--points", action="store_true", help="send points of metrics on instead of events")
    otlp.add_argument("--metric", metavar="NAME", action="append", help="of points: of this one, * for any characters")
    otlp.add_argument("--credential", metavar="NAME", help="a name and password (balise credential list)")
    for one in (syslog, otlp):
        filters(one)
    verb(forwards, "delete", "send nothing on any more", _delete, form_=False).add_argument("name")


COLUMNS: list[Column] = [
    ("forward", lambda x: x["name"]),
    ("state", lambda x: x["state"]),
    ("to", lambda x: x["to"].get("address") or x["to"]["url"]),
    ("over", lambda x: " ".join(filter(None, (x["to"]["protocol"], x["to"].get("transport"))))),
    ("what", lambda x: x["what"]),
    ("which", lambda x: " ".join(filter(None, (*x["metrics"], x["filter"] or x["where"]))) or "all"),
    ("waiting", lambda x: x["waiting"]),
    ("sent", lambda x: x["sent"]),
    ("last sent", lambda x: local_time(x["last_sent_at"])),
    ("", lambda x: x["problem"]),
]


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/forwards")
    show(answer, COLUMNS, a.format, empty="Nothing is sent on yet: balise forward syslog NAME ADDR:PORT")
    return 0


def _syslog(a: argparse.Namespace) -> int:
    ca = Path(a.ca).read_text("utf-8") if a.ca else None
    return _set(a, {"protocol": "syslog", "transport": a.transport, "address": a.address, "ca": ca})


def _otlp(a: argparse.Namespace) -> int:
    what = {"what": "points" if a.points else "lines", "metrics": a.metric or []}
    return _set(a, {"protocol": "otlp", "url": a.url, "credential": a.credential}, **what)


def _set(a: argparse.Namespace, to: dict[str, Any], **what: Any) -> int:
    with console() as c:
        kept = c.forwards.set(a.name, model(ForwardBody, where=a.where, filter=a.filter, to=to, **what))
    print(f"forward {kept.name}: {kept.state}")
    return 0


def _delete(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.forwards.delete(a.name))
    return 0
