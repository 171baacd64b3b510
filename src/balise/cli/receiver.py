"""`balise receiver`: addresses at which syslog is taken in."""

from __future__ import annotations

import argparse
from pathlib import Path

from balise.api.receivers import ReceiverBody
from balise.cli.build import verb, verbs
from balise.cli.connect import console, model
from balise.cli.output import Column, local_time, show


def add(noun: argparse.ArgumentParser) -> None:
    receivers = verbs(noun)
    verb(receivers, "list", "all receivers, with how they go", _list)
    senders = verb(receivers, "show", "one receiver, and who speaks to it", _show)
    senders.add_argument("name")
    put = verb(receivers, "set", "take syslog in at an address, or change how", _set, form_=False)
    put.add_argument("name")
    put.add_argument("--transport", choices=("udp", "tcp", "tls"), required=True)
    put.add_argument("--listen", metavar="ADDR:PORT", required=True)
    put.add_argument("--at", default="console", metavar="WHERE", help="the console, or a relay by its name (console)")
    put.add_argument("--zone", default="UTC", help="of senders who do not say theirs (UTC)")
    put.add_argument("--client-ca", metavar="FILE", help="certificates, PEM: only senders with one signed by these")
    verb(receivers, "delete", "end a receiver; what it took in stays", _delete, form_=False).add_argument("name")


COLUMNS: list[Column] = [
    ("receiver", lambda x: x["name"]),
    ("state", lambda x: x["state"]),
    ("transport", lambda x: x["transport"]),
    ("listens on", lambda x: x["listen"]),
    ("at", lambda x: x["at"]),
    ("received", lambda x: x["received"]),
    ("dropped", lambda x: x["dropped"]),
    ("senders", lambda x: len(x["senders"])),
    ("", lambda x: x["message"]),
]
SENDERS: list[Column] = [
    ("address", lambda x: x["address"]),
    ("received", lambda x: x["received"]),
    ("dropped", lambda x: x["dropped"]),
    ("last", lambda x: local_time(x["last_at"])),
    ("held back", lambda x: local_time(x["held_back_at"])),
]


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/receivers")
    show(answer, COLUMNS, a.format, empty="There is no receiver yet: balise receiver set NAME --transport --listen")
    return 0


def _show(a: argparse.Namespace) -> int:
    with console() as c:
        one = c.receivers.get(a.name).model_dump(mode="json")
    if a.format != "table":
        show(one if a.format == "json" else {"items": one["senders"]}, SENDERS, a.format)
        return 0
    show({"items": [one]}, COLUMNS, a.format)
    print()
    show({"items": one["senders"]}, SENDERS, a.format, empty="Nobody has spoken to it yet.")
    return 0


def _set(a: argparse.Namespace) -> int:
    certificates = Path(a.client_ca).read_text("utf-8") if a.client_ca else None
    how = {"transport": a.transport, "listen": a.listen, "at": a.at, "zone": a.zone, "client_ca": certificates}
    with console() as c:
        kept = c.receivers.set(a.name, model(ReceiverBody, **how))
    print(f"receiver {kept.name}: {kept.state} on {kept.listen}" + (f": {kept.message}" if kept.message else ""))
    return 0


def _delete(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.receivers.delete(a.name))
    return 0
