"""Channels as they are kept, and the record of what went through them."""

from __future__ import annotations

import json
import time
from typing import Any

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from balise.api.channels import Channel, ChannelBody
from balise.api.deliveries import Delivery
from balise.api.lists import Page
from balise.api.spans import rfc3339
from balise.server.callouts.book import refuse_if_told
from balise.server.callouts.channels.channel import NotThrough
from balise.server.callouts.channels.command import OFF
from balise.server.callouts.channels.kinds import CHANNELS
from balise.server.callouts.channels.templates import BadTemplate, checked
from balise.server.callouts.courier import Courier
from balise.server.callouts.found import found
from balise.server.callouts.post import Post, opened_secrets
from balise.server.errors import Refused, bad_field, unknown
from balise.server.people.access import Principal, audit
from balise.server.signals import Signal
from balise.store.state import tables
from balise.store.state.secrets import Sealer
from balise.store.state.store import StateStore


class ChannelBook:
    """All channels. Whoever is no administrator does not see all of their settings."""

    def __init__(self, *, state: StateStore, sealer: Sealer, post: Post, courier: Courier) -> None:
        self._state = state
        self._sealer = sealer
        self._post = post
        self._courier = courier
        self.removed = Signal[str]("channel removed")
        """A channel is there no more."""

    def all(self, who: Principal) -> list[Channel]:
        def read(session: Session) -> list[Channel]:
            rows = session.scalars(select(tables.Channel).order_by(tables.Channel.name))
            return [self._answer(session, row, who) for row in rows]

        return self._state.read(read)

    def get(self, name: str, who: Principal) -> Channel:
        return self._state.read(lambda s: self._answer(s, found(s, tables.Channel, name), who))

    def put(self, name: str, body: ChannelBody, who: Principal) -> Channel:
        """Keeps a channel. A secret that is left out stays as it was, as long as the place it is sent to does."""
        channel = CHANNELS[body.kind]
        settings = body.model_dump(exclude={"kind", *channel.secret_names})
        new = channel.secrets_of(body)
        _check_template(settings)
        if body.kind == "command" and not self._post.may_run:
            raise bad_field("kind", OFF)

        def write(session: Session) -> Channel:
            row = session.get(tables.Channel, name)
            if row is None:
                row = tables.Channel(name=name, kind=body.kind, settings=settings)
                session.add(row)
                before: dict[str, Any] = {}
            else:
                stays = row.kind == body.kind and channel.place_of(row.settings) == channel.place_of(settings)
                before = self._secrets_before(row) if stays else {}
                row.kind, row.settings = body.kind, settings
            secrets = channel.kept(before, new, time.time())
            row.secret = self._sealer.seal(json.dumps(secrets)) if secrets else None
            audit(session, who.name, "channel.put", name, kind=body.kind)
            session.flush()
            return self._answer(session, row, who)

        return self._state.write(write)

    def _secrets_before(self, row: tables.Channel) -> dict[str, Any]:
        try:
            return opened_secrets(self._sealer, row)
        except RuntimeError:
            # Sealed with another key: they have to be entered again.
            return {}

    def delete(self, name: str, who: str) -> None:
        """Raises Refused 409 while a callout tells it."""

        def write(session: Session) -> None:
            row = found(session, tables.Channel, name)
            refuse_if_told(session, "channel", name)
            persons = [p.name for p in session.scalars(select(tables.Person)) if name in p.body["channels"]]
            if persons:
                raise Refused(409, f"{', '.join(sorted(persons))} still has the channel {name!r}: change that first.")
            session.delete(row)
            audit(session, who, "channel.delete", name)

        self._state.write(write)
        self.removed.tell(name)

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
        answer = ""
        try:
            answer = self._post.send(delivery).answer
        except NotThrough as error:
            problem, answer = str(error), error.answer

        def finish(session: Session) -> None:
            row = session.get_one(tables.Delivery, delivery.id)
            row.problem, row.answer = problem, answer or None
            if problem is None:
                row.state, row.sent_at = "sent", time.time()

        self._state.write(finish)
        if problem:
            raise Refused(422, f"The test did not get through: {problem}.")

    def deliveries(
        self,
        *,
        state: str | None,
        incident: int | None,
        channel: str | None,
        limit: int,
        cursor: str | None,
    ) -> Page[Delivery]:
        """Who was told what, and what became of it, the newest first."""
        table = tables.Delivery
        query = select(table).order_by(table.id.desc()).limit(limit + 1)
        if state:
            query = query.where(table.state == state)
        if incident is not None:
            query = query.where(table.incident == incident)
        if channel is not None:
            query = query.where(table.channel == channel)
        if cursor:
            query = query.where(table.id < int(cursor))
        rows = self._state.read(lambda s: list(s.scalars(query)))
        items = [delivery_answer(row) for row in rows[:limit]]
        return Page[Delivery](items=items, next=str(items[-1].id) if len(rows) > limit else None)

    def resend(self, number: int, who: str) -> Delivery:
        """Sends what was told once more, as a delivery of its own. Raises Refused 404, 409 while it waits anyway."""
        now = time.time()

        def write(session: Session) -> tables.Delivery:
            row = session.get(tables.Delivery, number)
            if row is None:
                raise unknown("delivery", number)
            if row.state == "waiting":
                raise Refused(409, f"Delivery {number} has not got through yet: it is tried again by itself.")
            found(session, tables.Channel, row.channel)
            copied = ("alert", "incident", "channel", "person", "callout", "kind", "content")
            again = tables.Delivery(**{name: getattr(row, name) for name in copied}, state="waiting")
            again.created_at = again.next_at = now
            session.add(again)
            session.flush()
            audit(session, who, "delivery.resend", str(number), channel=row.channel)
            return again

        made = self._state.write(write)
        self._courier.wake()
        return delivery_answer(made)

    def _answer(self, session: Session, row: tables.Channel, who: Principal) -> Channel:
        query = select(tables.Delivery).where(tables.Delivery.channel == row.name).order_by(tables.Delivery.id.desc())
        last = session.scalar(query.limit(1))
        waiting = (tables.Delivery.channel == row.name, tables.Delivery.state == "waiting")
        return Channel(
            name=row.name,
            kind=row.kind,  # type: ignore[arg-type]
            settings=row.settings if who.may("administrator") else CHANNELS[row.kind].shown(row.settings),
            has_secret=row.secret is not None,
            last_result=(last.problem or last.state) if last else None,
            last_at=rfc3339(last.sent_at or last.created_at) if last else None,
            circuit="open" if self._courier.is_open(row.name) else "closed",
            waiting=session.scalar(select(func.count()).select_from(tables.Delivery).where(*waiting)) or 0,
        )


def _check_template(settings: dict[str, Any]) -> None:
    if settings.get("template") is not None:
        try:
            checked(settings["template"])
        except BadTemplate as error:
            raise bad_field("template", str(error)) from None


def delivery_answer(row: tables.Delivery) -> Delivery:
    return Delivery(
        id=row.id,
        alert=row.alert,
        incident=row.incident,
        channel=row.channel,
        person=row.person,
        callout=row.callout,
        kind=row.kind,  # type: ignore[arg-type]
        state=row.state,  # type: ignore[arg-type]
        attempts=row.attempts,
        created_at=rfc3339(row.created_at),
        next_at=rfc3339(row.next_at) if row.next_at else None,
        sent_at=rfc3339(row.sent_at) if row.sent_at else None,
        problem=row.problem,
        answer=row.answer,
        sent=row.content,
    )
