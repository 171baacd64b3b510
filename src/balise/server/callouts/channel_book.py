"""Channels as they are kept, and the record of what went through them."""

from __future__ import annotations

import time
from typing import TypeVar

from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.lists import Page
from balise.api.notify import Channel, ChannelBody, Delivery
from balise.api.spans import rfc3339
from balise.server.callouts.channels.channel import NotThrough
from balise.server.callouts.channels.kinds import CHANNELS
from balise.server.callouts.post import Post
from balise.server.errors import Refused, unknown
from balise.server.people.access import Principal, audit
from balise.store.state import tables
from balise.store.state.secrets import Sealer
from balise.store.state.store import StateStore

Row = TypeVar("Row", tables.Channel, tables.Callout)


class ChannelBook:
    """All channels. Whoever is no administrator does not see all of their settings."""

    def __init__(self, *, state: StateStore, sealer: Sealer, post: Post) -> None:
        self._state = state
        self._sealer = sealer
        self._post = post

    def all(self, who: Principal) -> list[Channel]:
        def read(session: Session) -> list[Channel]:
            rows = session.scalars(select(tables.Channel).order_by(tables.Channel.name))
            return [_answer(session, row, who) for row in rows]

        return self._state.read(read)

    def get(self, name: str, who: Principal) -> Channel:
        return self._state.read(lambda s: _answer(s, found(s, tables.Channel, name), who))

    def put(self, name: str, body: ChannelBody, who: Principal) -> Channel:
        """Keeps a channel. A secret that is left out stays as it was, as long as the place it is sent to does."""
        channel = CHANNELS[body.kind]
        settings = body.model_dump(exclude={"kind", "bearer", "password"})
        secret = channel.secret_of(body)
        sealed = self._sealer.seal(secret.reveal()) if secret else None

        def write(session: Session) -> Channel:
            row = session.get(tables.Channel, name)
            if row is None:
                row = tables.Channel(name=name, kind=body.kind, settings=settings, secret=sealed)
                session.add(row)
            else:
                stays = row.kind == body.kind and channel.place_of(row.settings) == channel.place_of(settings)
                row.secret = sealed or (row.secret if stays else None)
                row.kind, row.settings = body.kind, settings
            audit(session, who.name, "channel.put", name, kind=body.kind)
            session.flush()
            return _answer(session, row, who)

        return self._state.write(write)

    def delete(self, name: str, who: str) -> None:
        """Raises Refused 409 while a callout tells it."""

        def write(session: Session) -> None:
            row = found(session, tables.Channel, name)
            users = [c.name for c in session.scalars(select(tables.Callout)) if name in c.tell]
            if users:
                raise Refused(409, f"The callout {', '.join(users)} still tells {name!r}: change it first.")
            session.delete(row)
            audit(session, who, "channel.delete", name)

        self._state.write(write)

    def test(self, name: str, who: str) -> None:
        """Sends a test at once. Raises Refused 422 when it does not get through."""
        content = {"detail": f"a test, asked for by {who}"}

        def write(session: Session) -> tables.Delivery:
            found(session, tables.Channel, name)
            row = tables.Delivery(channel=name, kind="test", content=content, state="given-up", attempts=1)
            row.created_at = time.time()
            session.add(row)
            session.flush()
            return row

        delivery = self._state.write(write)
        problem = None
        try:
            self._post.send(delivery)
        except NotThrough as error:
            problem = str(error)

        def finish(session: Session) -> None:
            row = session.get_one(tables.Delivery, delivery.id)
            row.problem = problem
            if problem is None:
                row.state, row.sent_at = "sent", time.time()

        self._state.write(finish)
        if problem:
            raise Refused(422, f"The test did not get through: {problem}.")

    def deliveries(self, state: str | None, limit: int, cursor: str | None) -> Page[Delivery]:
        """Who was told what, and what became of it, the newest first."""
        table = tables.Delivery
        query = select(table).order_by(table.id.desc()).limit(limit + 1)
        if state:
            query = query.where(table.state == state)
        if cursor:
            query = query.where(table.id < int(cursor))
        rows = self._state.read(lambda s: list(s.scalars(query)))
        items = [_delivery(row) for row in rows[:limit]]
        return Page[Delivery](items=items, next=str(items[-1].id) if len(rows) > limit else None)


def found(session: Session, table: type[Row], name: str) -> Row:
    """A channel or a callout by its name. Raises Refused 404."""
    row = session.get(table, name)
    if row is None:
        raise unknown(table.__name__.lower(), name)
    return row


def _answer(session: Session, row: tables.Channel, who: Principal) -> Channel:
    query = select(tables.Delivery).where(tables.Delivery.channel == row.name).order_by(tables.Delivery.id.desc())
    last = session.scalar(query.limit(1))
    settings = row.settings if who.may("administrator") else CHANNELS[row.kind].shown(row.settings)
    return Channel(
        name=row.name,
        kind=row.kind,  # type: ignore[arg-type]
        settings=settings,
        has_secret=row.secret is not None,
        last_result=(last.problem or last.state) if last else None,
        last_at=rfc3339(last.sent_at or last.created_at) if last else None,
    )


def _delivery(row: tables.Delivery) -> Delivery:
    return Delivery(
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
