"""Callouts: who is told of what, when, and what if nobody answers."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.callouts import Callout, CalloutBody
from balise.api.responses import ResponseBody
from balise.core.filters import Filter
from balise.server.asking import read_filter
from balise.server.callouts.found import found
from balise.server.errors import Refused, bad_field
from balise.server.people.access import audit
from balise.store.state import tables
from balise.store.state.store import StateStore

MOST_CALLOUTS = 200
TABLES = {"channel": tables.Channel, "person": tables.Person, "rota": tables.Rota}


@dataclass(frozen=True)
class Ready:
    """A callout as it is worked with."""

    name: str
    body: CalloutBody
    when: Filter | None


class CalloutBook:
    """All callouts."""

    def __init__(self, state: StateStore) -> None:
        self._state = state
        self._ready: list[Ready] = []
        self.version = 0
        """Rises with every change."""
        self._read()

    def _read(self) -> None:
        rows = self._state.read(lambda s: list(s.scalars(select(tables.Callout).order_by(tables.Callout.name))))
        ready = []
        for row in rows:
            body = CalloutBody.model_validate(row.body)
            ready.append(Ready(row.name, body, read_filter(body.when, "when")))
        self._ready = ready
        self.version += 1

    def ready(self) -> list[Ready]:
        """All of them, by name."""
        return self._ready

    def find(self, name: str) -> Ready | None:
        return next((one for one in self._ready if one.name == name), None)

    def all(self) -> list[Callout]:
        return [_answer(one) for one in self._ready]

    def get(self, name: str) -> Callout:
        self._state.read(lambda s: found(s, tables.Callout, name))
        return next(_answer(one) for one in self._ready if one.name == name)

    def put(self, name: str, body: CalloutBody, who: str) -> Callout:
        """Raises Refused 422 for a filter that cannot be read, or somebody who is not there."""
        read_filter(body.when, "when")
        kept = body.model_dump(mode="json", by_alias=True)

        def write(session: Session) -> None:
            for step in body.in_steps():
                check_there(session, step.tell, "tell" if body.tell else "steps")
            row = session.get(tables.Callout, name)
            if row is None:
                if len(self._ready) >= MOST_CALLOUTS:
                    raise Refused(409, f"There are {MOST_CALLOUTS} callouts already: delete some first.")
                session.add(tables.Callout(name=name, body=kept))
            else:
                row.body = kept
            audit(session, who, "callout.put", name, when=body.when, steps=[s.tell for s in body.in_steps()])

        self._state.write(write)
        self._read()
        return self.get(name)

    def delete(self, name: str, who: str) -> None:
        def write(session: Session) -> None:
            session.delete(found(session, tables.Callout, name))
            audit(session, who, "callout.delete", name)

        self._state.write(write)
        self._read()


def check_there(session: Session, targets: Iterable[str], field: str) -> None:
    """Raises Refused 422 for a channel, a person or a rota that is not there."""
    for target in targets:
        kind, _, name = target.partition(":")
        if session.get(TABLES[kind], name) is None:
            raise bad_field(field, f"there is no {kind} {name}: make it first")


def refuse_if_told(session: Session, kind: str, name: str) -> None:
    """Raises Refused 409, by name, while a callout or a response tells a channel, a person or a rota."""
    target = f"{kind}:{name}"
    callouts = [(row.name, CalloutBody.model_validate(row.body)) for row in session.scalars(select(tables.Callout))]
    responses = [(row.name, ResponseBody.model_validate(row.body)) for row in session.scalars(select(tables.Response))]
    for what, bodies in (("callout", callouts), ("response", responses)):
        users = sorted(user for user, body in bodies if target in body.told())
        if users:
            raise Refused(409, f"The {what} {', '.join(users)} still tells {name!r}: change it first.")


def _answer(one: Ready) -> Callout:
    return Callout(**one.body.model_dump(), name=one.name)
