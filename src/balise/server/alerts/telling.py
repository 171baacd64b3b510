"""Who is to be told of an alert."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.core import filters
from balise.server.alerts.answers import alert_answer, alert_facts
from balise.store.state.tables import Alert, Delivery

_KIND = {"opened": "opened", "worsened": "changed", "recovered": "recovered", "flapping": "changed"}


def tell(session: Session, row: Alert, what: str, now: float, callouts: Iterable[Any]) -> None:
    """Puts what has to be told into the deliveries: each channel once for each thing.

    A channel that hears of an alert for the first time is told that it opened; recovery is told to the channels
    that were told of the alert, whoever would be chosen now.
    """
    kind = _KIND.get(what)
    if kind is None:
        return
    told = set(session.scalars(select(Delivery.channel).where(Delivery.alert == row.id)))
    if kind == "recovered":
        channels = told
    else:
        facts = alert_facts(row)
        channels = {channel for _, when, tell_ in callouts if filters.matches(when, facts.get) for channel in tell_}
    answer = alert_answer(row).model_dump(mode="json")
    answer["advice"] = row.advice
    answer["evidence"] = row.evidence or {}
    for channel in sorted(channels):
        as_kind = kind if kind == "recovered" or channel in told else "opened"
        session.add(
            Delivery(
                alert=row.id,
                channel=channel,
                kind=as_kind,
                content=answer,
                state="waiting",
                created_at=now,
                next_at=now,
            )
        )
