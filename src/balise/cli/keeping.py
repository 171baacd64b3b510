"""`balise keeping`: for how many days things are kept."""

from __future__ import annotations

import argparse

from balise.api.keeping import Keeping
from balise.cli.build import verb, verbs
from balise.cli.connect import console
from balise.cli.errors import CommandError
from balise.cli.output import Column, show


def add(noun: argparse.ArgumentParser) -> None:
    keeping = verbs(noun)
    verb(keeping, "show", "how long things are kept", _show)
    change = verb(keeping, "set", "keep things so many days from now on; what is older is forgotten for good", _set)
    for name, about in _ABOUT.items():
        change.add_argument(f"--{name.replace('_', '-')}", type=float, metavar="DAYS", help=about)


_ABOUT = {
    "raw": "points as they came",
    "five_minutes": "points summed up in steps of five minutes",
    "hour": "points summed up in steps of an hour",
    "events": "events, and the evidence that was kept with them",
    "alerts": "alerts that are over, states of hosts, and who was told",
    "audit": "who did what",
}


def _show(a: argparse.Namespace) -> int:
    with console() as c:
        _tell(c.keeping.show(), a.format)
    return 0


def _set(a: argparse.Namespace) -> int:
    changed = {name: getattr(a, name) for name in _ABOUT if getattr(a, name) is not None}
    if not changed:
        raise CommandError("say what to keep for how many days, like --events 7")
    with console() as c:
        _tell(c.keeping.set(Keeping.model_validate({**c.keeping.show().model_dump(), **changed})), a.format)
    return 0


def _tell(keeping: Keeping, form: str) -> None:
    days = [{"what": name, "about": _ABOUT[name], "days": kept} for name, kept in keeping.model_dump().items()]
    columns: list[Column] = [("what", lambda d: d["about"]), ("kept, days", lambda d: f"{d['days']:g}")]
    show({"items": days}, columns, form)
