"""`balise incident`: what a person has to deal with."""

from __future__ import annotations

import argparse
import json
from typing import Any

from balise.api.incidents import Snooze
from balise.api.trail import CauseBody
from balise.cli.build import filters, verb, verbs
from balise.cli.connect import console, model
from balise.cli.output import Column, ago, local_time, printable, show


def add(noun: argparse.ArgumentParser) -> None:
    of = verbs(noun)
    listing = verb(of, "list", "incidents, the worst open ones first", _list)
    filters(listing, """like 'severity eq "critical" and application eq "Booking"'""")
    listing.add_argument("--state", choices=("open", "closed", "all"), default="open", help="(open)")
    _one(verb(of, "show", "one incident with its story", _show))
    acknowledge = _one(verb(of, "acknowledge", "say that you have seen it", _acknowledge, form_=False), many=True)
    acknowledge.add_argument("--note", default="")
    take = _one(verb(of, "take", "say that you have it: nobody else is called", _take, form_=False), many=True)
    take.add_argument("--person", help="who has it (you)")
    take.add_argument("--note", default="")
    hand = _one(verb(of, "hand-over", "give it to a person, who is told", _hand_over, form_=False), many=True)
    hand.add_argument("--to", required=True, metavar="PERSON")
    hand.add_argument("--note", default="")
    note = _one(verb(of, "note", "write something down", _note, form_=False))
    note.add_argument("text")
    snooze = _one(verb(of, "snooze", "nobody is told for a while", _snooze, form_=False), many=True)
    until = snooze.add_mutually_exclusive_group(required=True)
    until.add_argument("--until", metavar="TIME", help="like +2h, or RFC 3339")
    until.add_argument("--until-worse", action="store_true")
    close = _one(verb(of, "close", "close it by hand", _close, form_=False), many=True)
    close.add_argument("--reason", required=True)
    cause = _one(verb(of, "cause", "say which suspect of the trail was right, or what it was", _cause, form_=False))
    which = cause.add_mutually_exclusive_group(required=True)
    which.add_argument("--suspect", type=int, metavar="RANK", help="as balise trail ID names them")
    which.add_argument("--other", metavar="TEXT")
    which.add_argument("--take-back", action="store_true", help="what was said counts no more")
    _one(verb(of, "reopen", "open it again", _reopen, form_=False), many=True)
    join = _one(verb(of, "join", "make another incident a part of this one", _join, form_=False))
    join.add_argument("other", type=int)
    part = _one(verb(of, "part", "make some of its alerts an incident of their own", _part, form_=False))
    part.add_argument("alerts", type=int, nargs="+", metavar="ALERT")


def _one(made: argparse.ArgumentParser, *, many: bool = False) -> argparse.ArgumentParser:
    made.add_argument("id", type=int, nargs="+" if many else None, metavar="ID")
    return made


def _list(a: argparse.Namespace) -> int:
    state = None if a.state == "all" else a.state
    with console() as c:
        answer = c.call("GET", "/incidents", where=a.where, filter=a.filter, state=state, limit=200)
    answer["items"].sort(key=lambda x: (x["state"] != "open", bool(x["recovered_at"]), x["severity"] != "critical"))
    columns: list[Column] = [
        ("id", lambda x: x["id"]),
        ("state", _state),
        ("severity", lambda x: x["severity"]),
        ("since", lambda x: local_time(x["opened_at"])),
        ("what", lambda x: x["title"]),
        ("hurts", lambda x: [hurt["application"] for hurt in x["hurts"]]),
        ("alerts", lambda x: x["alert_count"]),
        ("who has it", lambda x: x["taken_by"] or ("nobody" if x["state"] == "open" else "")),
    ]
    show(answer, columns, a.format, empty="No open incidents." if a.state == "open" else "No incidents.")
    return 0


def _state(incident: dict[str, Any]) -> str:
    if incident["practice"]:
        return "practice"
    if incident["snoozed_until"] or incident["snoozed_until_worse"]:
        return "quiet"
    return "recovered" if incident["state"] == "open" and incident["recovered_at"] else str(incident["state"])


def _indented(text: str) -> str:
    return "\n".join(f"  {printable(line)}" for line in text.splitlines())


def _show(a: argparse.Namespace) -> int:
    with console() as c:
        found = c.call("GET", f"/incidents/{a.id}")
    if a.format == "json":
        print(json.dumps(found, indent=2, ensure_ascii=False))
        return 0
    print(printable(f"Incident {found['id']}, {found['severity']}, {_state(found)}: {found['title']}"))
    for hurt in found["hurts"]:
        print(printable(f"  hurts {hurt['application']}: {hurt['how']}"))
    print(f"  since {local_time(found['opened_at'])} ({ago(found['opened_at'])})")
    print(printable(f"  {'nobody has it' if not found['taken_by'] else found['taken_by'] + ' has it'}"))
    if found["told_nobody"]:
        print("  NOBODY IS TOLD: no callout is for it (balise callout who)")
    if found["advice"]:
        print("\nWhat to do")
        print("\n\n".join(_indented(advice) for advice in found["advice"]))
    if found["before"]:
        print("\nWhat helped last time")
    for before in found["before"]:
        note = before["note"] or "nothing was written down"
        print(printable(f"  incident {before['id']}, {local_time(before['closed_at'])}: {note}"))
    print()
    for line in found["timeline"]:
        who = f" [{line['who']}]" if line["who"] else ""
        print(printable(f"  {local_time(line['at'])}  {line['kind']:<11}  {line['text']}{who}"))
    return 0


def _each(a: argparse.Namespace, act: str, **more: Any) -> int:
    body = {"incidents": a.id, "act": act, **{k: v for k, v in more.items() if v is not None}}
    with console() as c:
        done = c.call("POST", "/incidents/together", body)["items"]
    for one in done:
        print(printable(f"incident {one['id']}: {one['problem'] or 'done'}"))
    return 1 if any(one["problem"] for one in done) else 0


def _acknowledge(a: argparse.Namespace) -> int:
    return _each(a, "acknowledge", text=a.note)


def _take(a: argparse.Namespace) -> int:
    return _each(a, "take", person=a.person, text=a.note)


def _hand_over(a: argparse.Namespace) -> int:
    return _each(a, "hand-over", to=a.to, text=a.note)


def _note(a: argparse.Namespace) -> int:
    with console() as c:
        c.incidents.note(a.id, a.text)
    print(f"noted at incident {a.id}")
    return 0


def _snooze(a: argparse.Namespace) -> int:
    model(Snooze, until=a.until, until_worse=a.until_worse)
    return _each(a, "snooze", until=a.until)


def _close(a: argparse.Namespace) -> int:
    return _each(a, "close", text=a.reason)


def _reopen(a: argparse.Namespace) -> int:
    return _each(a, "reopen")


def _join(a: argparse.Namespace) -> int:
    with console() as c:
        c.incidents.join(a.id, a.other)
    print(f"incident {a.other} is a part of incident {a.id}")
    return 0


def _part(a: argparse.Namespace) -> int:
    with console() as c:
        made = c.incidents.part(a.id, a.alerts)
    print(f"{len(a.alerts)} alerts are incident {made.id} now")
    return 0


def _cause(a: argparse.Namespace) -> int:
    with console() as c:
        if a.take_back:
            print(c.trails.take_back(a.id))
        else:
            body = model(CauseBody, suspect=a.suspect, other=a.other)
            print(printable(f"kept: {c.trails.say_cause(a.id, suspect=body.suspect, other=body.other).text}"))
    return 0
