"""`balise maintenance`: times in which nobody is told."""

from __future__ import annotations

import argparse
import time

from balise.api.maintenance import MaintenanceBody
from balise.cli.build import verb, verbs
from balise.cli.connect import console, model
from balise.cli.output import Column, local_time, show


def add(noun: argparse.ArgumentParser) -> None:
    of = verbs(noun)
    verb(of, "list", "all windows, those that go on first", _list)
    begin = verb(of, "begin", "a window from now on", _begin, form_=False)
    begin.add_argument("name", nargs="?", help="(made of the time)")
    _chosen(begin)
    begin.add_argument("--for", dest="for_", default="1h", help="how long, like 2h (1h)")
    put = verb(of, "set", "a window to come, once or again and again", _set, form_=False)
    put.add_argument("name")
    _chosen(put)
    put.add_argument("--from", dest="from_", required=True, metavar="TIME", help="like 2026-03-07T02:00:00+01:00")
    put.add_argument("--to", metavar="TIME")
    put.add_argument("--for", dest="for_", help="how long, like 2h")
    put.add_argument("--repeat", metavar="RRULE", help="RFC 5545, like FREQ=WEEKLY;BYDAY=SA")
    put.add_argument("--zone", default="UTC", help="what repeats begins at the same local time here (UTC)")
    verb(of, "end", "the time that goes on is over now", _end, form_=False).add_argument("name")
    verb(of, "delete", "take a window away", _delete, form_=False).add_argument("name")


def _chosen(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("--about", default="maintenance", help="what is done (maintenance)")
    parser.add_argument("--host", nargs="+", default=[], help="hosts")
    parser.add_argument("--group", nargs="+", default=[], help="groups")
    parser.add_argument("--application", nargs="+", default=[], help="all hosts of applications")
    parser.add_argument("--where", metavar="FILTER", help="hosts that pass a filter")


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/maintenance")
    columns: list[Column] = [
        ("window", lambda x: x["name"]),
        ("state", lambda x: "goes on" if x["going_on"] else "to come" if x["starts_at"] else "over"),
        ("from", lambda x: local_time(x["starts_at"])),
        ("to", lambda x: local_time(x["ends_at"])),
        ("about", lambda x: x["about"]),
        ("what", lambda x: [*x["hosts"], *x["groups"], *x["applications"], *([x["where"]] if x["where"] else [])]),
        ("hosts in it", lambda x: x["paused"] if x["going_on"] else ""),
        ("repeats", lambda x: x["repeat"]),
    ]
    show(answer, columns, a.format, empty="No maintenance windows: balise maintenance begin --for 2h --host HOST")
    return 0


def _begin(a: argparse.Namespace) -> int:
    return _keep(a, a.name or time.strftime("begun-%Y-%m-%d-%H%M%S"), from_="now", to=None, repeat=None, zone="UTC")


def _set(a: argparse.Namespace) -> int:
    return _keep(a, a.name, from_=a.from_, to=a.to, repeat=a.repeat, zone=a.zone)


def _keep(a: argparse.Namespace, name: str, *, from_: str, to: str | None, repeat: str | None, zone: str) -> int:
    body = model(
        MaintenanceBody,
        about=a.about,
        hosts=a.host,
        groups=a.group,
        applications=a.application,
        where=a.where,
        from_=from_,
        to=to,
        for_=a.for_,
        repeat=repeat,
        zone=zone,
    )
    with console() as c:
        made = c.maintenance.set(name, body)
    if made.going_on:
        hosts = f"{made.paused} host{'' if made.paused == 1 else 's'}"
        print(f"maintenance window {name} goes on until {local_time(made.ends_at)}: {hosts} in it, nobody is told")
        print(f"end it sooner with: balise maintenance end {name}")
    else:
        print(f"maintenance window {name} kept; next from {local_time(made.starts_at)} to {local_time(made.ends_at)}")
    return 0


def _end(a: argparse.Namespace) -> int:
    with console() as c:
        c.maintenance.end(a.name)
    print(f"maintenance window {a.name} is over: what is still wrong is told now")
    return 0


def _delete(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.maintenance.delete(a.name))
    return 0
