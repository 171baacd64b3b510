"""Channels, callouts, and what was told to whom."""

from __future__ import annotations

import time
from typing import Annotated, Any
from urllib.parse import urlsplit

from fastapi import APIRouter, Query
from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.lists import Note, Page
from balise.api.notify import Callout, CalloutBody, Channel, ChannelBody, Delivery
from balise.api.spans import Name, rfc3339
from balise.server.asking import read_filter
from balise.server.callers import Administrator, ConsoleHere, Operator, Viewer, tried_in_turn
from balise.server.callouts.channels import NotThrough
from balise.server.console import Console
from balise.server.errors import Refused, bad_field, unknown
from balise.server.people.access import Principal, audit
from balise.store.state import tables

router = APIRouter()


# --- channels


@router.get("/channels", tags=["notification"])
def list_channels(console: ConsoleHere, who: Viewer) -> Page[Channel]:
    def read(session: Session) -> list[Channel]:
        return [
            _channel(session, row, who) for row in session.scalars(select(tables.Channel).order_by(tables.Channel.name))
        ]

    return Page[Channel](items=console.state.read(read))


@router.get("/channels/{name}", tags=["notification"])
def read_channel(console: ConsoleHere, who: Viewer, name: str) -> Channel:
    """Whoever is no administrator does not see a webhook's whole address: it may be all that it takes to use it."""
    return console.state.read(lambda s: _channel(s, _found(s, tables.Channel, "channel", name), who))


@router.put("/channels/{name}", tags=["notification"])
def put_channel(console: ConsoleHere, who: Administrator, name: Name, body: ChannelBody) -> Channel:
    """A secret that is left out stays as it was, as long as the kind stays."""
    settings = body.model_dump(exclude={"kind", "bearer", "password"})
    secret = body.bearer if body.kind == "webhook" else body.password
    sealed = console.sealer.seal(secret.reveal()) if secret else None

    def write(session: Session) -> Channel:
        row = session.get(tables.Channel, name)
        if row is None:
            row = tables.Channel(name=name, kind=body.kind, settings=settings, secret=sealed)
            session.add(row)
        else:
            same_place = row.kind == body.kind and _place(row.settings) == _place(settings)
            row.secret = sealed or (row.secret if same_place else None)
            row.kind, row.settings = body.kind, settings
        audit(session, who.name, "channel.put", name, kind=body.kind)
        session.flush()
        return _channel(session, row, who)

    return console.state.write(write)


def _place(settings: dict[str, Any]) -> tuple[Any, ...]:
    """Where a channel sends to: its secret is never sent anywhere else."""
    return settings.get("url"), settings.get("server"), settings.get("port"), settings.get("user")


@router.delete("/channels/{name}", tags=["notification"])
def delete_channel(console: ConsoleHere, who: Administrator, name: str) -> Note:
    def write(session: Session) -> None:
        row = _found(session, tables.Channel, "channel", name)
        users = [c.name for c in session.scalars(select(tables.Callout)) if name in c.tell]
        if users:
            raise Refused(409, f"The callout {', '.join(users)} still tells {name!r}: change it first.")
        session.delete(row)
        audit(session, who.name, "channel.delete", name)

    console.state.write(write)
    return Note(detail=f"channel {name} deleted")


@router.post("/channels/{name}/test", tags=["notification"])
async def check_channel(console: ConsoleHere, who: Operator, name: str) -> Note:
    """Sends a test at once and answers what became of it."""
    return await tried_in_turn(console, who, lambda: _checked(console, who, name))


def _checked(console: Console, who: Principal, name: str) -> Note:
    now = time.time()

    def write(session: Session) -> tables.Delivery:
        _found(session, tables.Channel, "channel", name)
        row = tables.Delivery(
            channel=name,
            kind="test",
            content={"detail": f"a test, asked for by {who.name}"},
            state="given-up",
            attempts=1,
            created_at=now,
        )
        session.add(row)
        session.flush()
        return row

    delivery = console.state.write(write)
    problem = None
    try:
        console.post.send(delivery)
    except NotThrough as error:
        problem = str(error)

    def finish(session: Session) -> None:
        row = session.get_one(tables.Delivery, delivery.id)
        row.problem = problem
        if problem is None:
            row.state, row.sent_at = "sent", time.time()

    console.state.write(finish)
    if problem:
        raise Refused(422, f"The test did not get through: {problem}.")
    return Note(detail="The test got through.")


def _shown(settings: dict[str, Any], who: Principal) -> dict[str, Any]:
    if who.may("administrator") or "url" not in settings:
        return settings
    parts = urlsplit(settings["url"])
    host = f"[{parts.hostname}]" if ":" in (parts.hostname or "") else parts.hostname
    port = f":{parts.port}" if parts.port else ""
    return {**settings, "url": f"{parts.scheme}://{host}{port}/…"}


def _channel(session: Session, row: tables.Channel, who: Principal) -> Channel:
    query = select(tables.Delivery).where(tables.Delivery.channel == row.name).order_by(tables.Delivery.id.desc())
    last = session.scalar(query.limit(1))
    return Channel(
        name=row.name,
        kind=row.kind,  # type: ignore[arg-type]
        settings=_shown(row.settings, who),
        has_secret=row.secret is not None,
        last_result=(last.problem or last.state) if last else None,
        last_at=rfc3339(last.sent_at or last.created_at) if last else None,
    )


def _found(session: Session, table: Any, kind: str, name: str) -> Any:
    row = session.get(table, name)
    if row is None:
        raise unknown(kind, name)
    return row


# --- callouts


@router.get("/callouts", tags=["notification"])
def list_callouts(console: ConsoleHere, _who: Viewer) -> Page[Callout]:
    rows = console.state.read(lambda s: list(s.scalars(select(tables.Callout).order_by(tables.Callout.name))))
    return Page[Callout](items=[_callout(row) for row in rows])


@router.get("/callouts/{name}", tags=["notification"])
def read_callout(console: ConsoleHere, _who: Viewer, name: str) -> Callout:
    return console.state.read(lambda s: _callout(_found(s, tables.Callout, "callout", name)))


@router.put("/callouts/{name}", tags=["notification"])
def put_callout(console: ConsoleHere, who: Administrator, name: Name, body: CalloutBody) -> Callout:
    read_filter(body.when, "when")

    def write(session: Session) -> tables.Callout:
        there = set(session.scalars(select(tables.Channel.name)))
        missing = [c for c in body.tell if c not in there]
        if missing:
            raise bad_field("tell", f"there is no channel {', '.join(missing)}: make it first")
        row = session.get(tables.Callout, name)
        if row is None:
            row = tables.Callout(name=name, when=body.when, tell=body.tell)
            session.add(row)
        else:
            row.when, row.tell = body.when, list(body.tell)
        audit(session, who.name, "callout.put", name, when=body.when, tell=body.tell)
        return row

    return _callout(console.state.write(write))


@router.delete("/callouts/{name}", tags=["notification"])
def delete_callout(console: ConsoleHere, who: Administrator, name: str) -> Note:
    def write(session: Session) -> None:
        session.delete(_found(session, tables.Callout, "callout", name))
        audit(session, who.name, "callout.delete", name)

    console.state.write(write)
    return Note(detail=f"callout {name} deleted")


def _callout(row: tables.Callout) -> Callout:
    return Callout(name=row.name, when=row.when, tell=row.tell)


# --- the record of what was told


@router.get("/deliveries", tags=["notification"])
def list_deliveries(
    console: ConsoleHere,
    _who: Viewer,
    state: Annotated[str | None, Query(pattern="^(waiting|sent|given-up)$")] = None,
    limit: Annotated[int, Query(ge=1, le=1000)] = 100,
    cursor: Annotated[str | None, Query(pattern=r"^\d{1,18}$")] = None,
) -> Page[Delivery]:
    """Who was told what, and what became of it, the newest first."""
    table = tables.Delivery
    query = select(table).order_by(table.id.desc()).limit(limit + 1)
    if state:
        query = query.where(table.state == state)
    if cursor:
        query = query.where(table.id < int(cursor))
    rows = console.state.read(lambda s: list(s.scalars(query)))
    items = [
        Delivery(
            id=row.id,
            alert=row.alert,
            channel=row.channel,
            kind=row.kind,  # type: ignore[arg-type]
            state=row.state,  # type: ignore[arg-type]
            attempts=row.attempts,
            created_at=rfc3339(row.created_at),
            next_at=rfc3339(row.next_at) if row.next_at else None,
            sent_at=rfc3339(row.sent_at) if row.sent_at else None,
            problem=row.problem,
        )
        for row in rows[:limit]
    ]
    return Page[Delivery](items=items, next=str(items[-1].id) if len(rows) > limit else None)
