"""`balise alert`: breaches of limits."""

from __future__ import annotations

import argparse
import json
from typing import Any

from balise.api.alerts import Acknowledge
from balise.api.tuning import Tune
from balise.cli.build import filters, verb, verbs
from balise.cli.connect import console, model
from balise.cli.errors import CommandError
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
    tune = verb(
        of, "tune", "other limits for the alert's host, its group or everybody; --dry-run says what they change", _tune
    )
    tune.add_argument("id", type=int)
    tune.add_argument(
        "--for",
        dest="for_",
        choices=("host", "group", "all"),
        default="host",
        help="whose limits: of the alert's host, of a group of it, or everybody's (host)",
    )
    tune.add_argument("--group", help="which of the host's groups; the nearest one, unless given")
    for severity in ("warning", "critical"):
        tune.add_argument(f"--{severity}", metavar="LIMIT", help='in YAML, like "above: 0.9, hold: 5m"')
    tune.add_argument(
        "--until", metavar="TIME", help="it ends then, like +4h; without limits the rule is off till then"
    )
    tune.add_argument("--why", required=True)
    tune.add_argument("--dry-run", action="store_true")


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
    if answer["incident"] is not None:
        print(f"\nPart of incident {answer['incident']}: balise incident show {answer['incident']}")
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


def _tune(a: argparse.Namespace) -> int:
    import yaml

    said = {name: text for name in ("warning", "critical") if (text := getattr(a, name)) is not None}
    try:
        limits = {name: yaml.safe_load("{" + text.strip().strip("{}") + "}") for name, text in said.items()} or None
    except yaml.YAMLError:
        raise CommandError('a limit is written like "above: 0.9, hold: 5m"') from None
    body = model(
        Tune,
        **{"for": a.for_},
        group=a.group,
        limits=limits,
        until=a.until,
        why=a.why,
        dry_run=a.dry_run,
    )
    with console() as c:
        result = c.call("POST", f"/alerts/{a.id}/tune", body)
    if a.format == "json":
        print(json.dumps(result, indent=2, ensure_ascii=False))
        return 0
    where = f"plan {result['plan']}" if result["plan"] else f"rule {result['rule']}"
    print(f"{result['rule']}: {result['before']} -> {result['after']} for {result['hosts']} hosts ({where})")
    columns: list[Column] = [
        ("over", lambda o: f"{o['days']} days"),
        ("opened", lambda o: o["opened"] if o["known"] else ""),
        ("would have", lambda o: o["would_open"] if o["known"] else ""),
        ("open for", lambda o: in_words(o["open_seconds"], "s")),
        ("would have been", lambda o: in_words(o["would_be_open_seconds"], "s")),
        ("note", lambda o: o["note"]),
    ]
    show({"items": result["over"]}, columns, a.format)
    print("nothing is changed: it was a dry run" if a.dry_run else "done")
    return 0
