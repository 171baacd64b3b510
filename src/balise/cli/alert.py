"""`balise alert`: breaches of limits."""

from __future__ import annotations

import argparse
import json
from typing import Any

from balise.api.alerts import Acknowledge
from balise.cli.build import filters, verb, verbs
from balise.cli.connect import console
from balise.cli.output import Column, local_time, printable, show
from balise.core.quantities import in_words


def add(noun: argparse.ArgumentParser) -> None:
    of = verbs(noun)
    listing = verb(of, "list", "alerts, open ones first", _list)
    filters(listing, """like 'severity eq "critical"'""")
    listing.add_argument("--state", choices=("open", "recovered"))
    listing.add_argument("--from", dest="from_", default="-24h", metavar="TIME")
    verb(of, "show", "one alert with its evidence", _show).add_argument("id", type=int)
    acknowledge = verb(of, "acknowledge", "say that you have it", _acknowledge, form_=False)
    acknowledge.add_argument("id", type=int)
    acknowledge.add_argument("--note", default="")


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/alerts", where=a.where, filter=a.filter, state=a.state, from_=a.from_, limit=1000)
    answer["items"].sort(key=lambda x: (x["state"] != "open", x["severity"] != "critical"))
    columns: list[Column] = [
        ("id", lambda x: x["id"]),
        ("state", lambda x: x["state"]),
        ("severity", lambda x: x["severity"]),
        ("since", lambda x: local_time(x["opened_at"])),
        ("host", lambda x: x["host"]),
        ("what", lambda x: x["about"]),
        ("which", lambda x: " ".join(x["attributes"].values())),
        ("value", lambda x: in_words(x["value"], x["unit"])),
        ("who has it", lambda x: x["acknowledged_by"] or ("nobody" if x["state"] == "open" else "")),
    ]
    show(answer, columns, a.format, empty="No alerts in this span.")
    return 0


def _show(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", f"/alerts/{a.id}")
    if a.format == "json":
        print(json.dumps(answer, indent=2, ensure_ascii=False))
        return 0
    unit = answer["unit"]
    print(f"{answer['severity']}, {answer['state']}: {answer['about']}")
    where = " ".join([answer["host"], *answer["attributes"].values()])
    print(f"{where}: {answer['metric']} is {in_words(answer['value'], unit)}, limit {in_words(answer['limit'], unit)}")
    for step in answer["story"]:
        print(f"  {local_time(step['at'])}  {step['what']}  {step['who']} {step['note']}".rstrip())
    if answer["clue"]:
        print(f"\nClue: {printable(answer['clue'])}")
    _print_evidence(answer["evidence"])
    print(f"\nWhat to do:\n{answer['advice']}")
    return 0


def _print_evidence(evidence: Any) -> None:
    for session in [s for s in evidence.get("sessions", []) if s["root"]][:6]:
        mark = "  " * session["depth"] + ("holds" if session["depth"] == 0 else "waits")
        print(f"  {mark}  {printable(session['application'])}  {printable(session['statement'])[:80]}")
    for change in evidence.get("changes", [])[:5]:
        print(f"  changed {local_time(change['time'])}  {printable(change['body'])[:110]}")
    for line in evidence.get("lines", [])[:5]:
        print(f"  {line['count']:5d} x {line['severity']}: {printable(line['example'])[:110]}")
    for process in evidence.get("processes", [])[:5]:
        name = printable(process["name"])
        print(f"  {name:30.30}  {process['cpu'] * 100:6.1f} % of a core  {in_words(process['memory'], 'By')}")


def _acknowledge(a: argparse.Namespace) -> int:
    with console() as c:
        c.call("POST", f"/alerts/{a.id}/acknowledge", Acknowledge(note=a.note))
    print(f"alert {a.id} is yours")
    return 0
