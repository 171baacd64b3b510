"""`balise rota`: who is on duty when."""

from __future__ import annotations

import argparse
import sys

from balise.api.rotas import RotaBody
from balise.api.spans import rfc3339
from balise.cli.build import verb, verbs
from balise.cli.connect import console, model
from balise.cli.output import Column, local_time, show


def add(noun: argparse.ArgumentParser) -> None:
    of = verbs(noun)
    verb(of, "list", "all rotas, and who is on duty", _list)
    put = verb(of, "set", "add or change a rota; its overrides stay", _set, form_=False)
    put.add_argument("name")
    put.add_argument("--people", required=True, nargs="+", metavar="PERSON", help="in the order of their turns")
    put.add_argument("--turn", default="1w", help="how long each has it (1w)")
    put.add_argument("--begins", required=True, metavar="DATE", help="the day of the first turn, like 2026-03-02")
    put.add_argument("--change-at", default="09:00", metavar="HH:MM", help="when a turn changes, local time (09:00)")
    put.add_argument("--zone", required=True, help="like Europe/Oslo")
    instead = verb(of, "override", "somebody else has a time of it", _override, form_=False)
    instead.add_argument("name")
    instead.add_argument("--person", required=True)
    instead.add_argument("--from", dest="from_", required=True, metavar="TIME", help="like 2026-03-06T18:00:00+01:00")
    instead.add_argument("--to", required=True, metavar="TIME")
    duty = verb(of, "on-duty", "who is on duty", _on_duty, form_=False)
    duty.add_argument("name")
    duty.add_argument("--at", default="now", metavar="TIME", help="(now)")
    weeks = verb(of, "show", "who has which part of the next four weeks", _show)
    weeks.add_argument("name")
    weeks.add_argument("--from", dest="from_", default="now", metavar="TIME", help="(now)")
    weeks.add_argument("--to", default="+28d", metavar="TIME", help="(+28d)")
    verb(of, "calendar", "the rota as iCalendar", _calendar, form_=False).add_argument("name")
    verb(of, "delete", "take a rota away", _delete, form_=False).add_argument("name")


def _list(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", "/rotas")
    columns: list[Column] = [
        ("rota", lambda x: x["name"]),
        ("on duty", lambda x: x["on_duty"]),
        ("until", lambda x: local_time(x["until"])),
        ("people", lambda x: x["people"]),
        ("turn", lambda x: x["turn"]),
        ("changes", lambda x: f"{x['at']} {x['zone']}"),
    ]
    show(answer, columns, a.format, empty="No rotas yet: balise rota set NAME --people …")
    return 0


def _set(a: argparse.Namespace) -> int:
    with console() as c:
        before = next((rota for rota in c.rotas.list() if rota.name == a.name), None)
        body = model(
            RotaBody,
            people=a.people,
            turn=a.turn,
            begins=a.begins,
            at=a.change_at,
            zone=a.zone,
            overrides=before.overrides if before else [],
        )
        print(f"rota {a.name} kept; on duty now: {c.rotas.set(a.name, body).on_duty or 'nobody'}")
    return 0


def _override(a: argparse.Namespace) -> int:
    with console() as c:
        held = c.rotas.show(a.name).model_dump(by_alias=True, include=set(RotaBody.model_fields))
        change = {"person": a.person, "from": a.from_, "to": a.to}
        body = model(RotaBody, **{**held, "overrides": [*held["overrides"], change]})
        c.rotas.set(a.name, body)
    print(f"{a.person} has the rota {a.name} from {a.from_} to {a.to}")
    return 0


def _on_duty(a: argparse.Namespace) -> int:
    with console() as c:
        duty = c.rotas.on_duty(a.name, a.at)
    instead = f" (instead of {duty.instead_of})" if duty.instead_of else ""
    print(f"{duty.person}{instead} until {local_time(duty.until)}" if duty.person else "nobody")
    return 0 if duty.person else 1


def _show(a: argparse.Namespace) -> int:
    with console() as c:
        answer = c.call("GET", f"/rotas/{a.name}/stretches", from_=a.from_, to=a.to)
    columns: list[Column] = [
        ("from", lambda x: local_time(rfc3339(x["start"]))),
        ("to", lambda x: local_time(rfc3339(x["end"]))),
        ("person", lambda x: x["person"]),
        ("instead of", lambda x: x["instead_of"]),
    ]
    show(answer, columns, a.format, empty="Nobody is on duty in this span.")
    return 0


def _calendar(a: argparse.Namespace) -> int:
    with console() as c:
        sys.stdout.write(c.rotas.calendar(a.name))
    return 0


def _delete(a: argparse.Namespace) -> int:
    with console() as c:
        print(c.rotas.delete(a.name))
    return 0
