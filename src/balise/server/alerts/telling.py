"""Channels that ask for each alert by itself."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass

from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.callouts import CalloutBody
from balise.core import filters
from balise.core.filters import Filter
from balise.server.alerts.answers import alert_answer, alert_facts
from balise.store.database import in_pieces
from balise.store.state.tables import Alert, Callout, Channel, Delivery

_KIND = {"opened": "opened", "worsened": "changed", "recovered": "recovered", "flapping": "changed"}


@dataclass(frozen=True)
class Told:
    """A callout: which alerts it is for, and those of its channels that are told of each."""

    when: Filter | None
    channels: frozenset[str]


class Listeners:
    """Who is told of alerts within one change: channels that ask for each alert by itself."""

    def __init__(self, session: Session, alerts: Sequence[int]) -> None:
        """`alerts` are those that there were before, whose listeners were told of them already."""
        self._session = session
        self._callouts = _told_of_alerts(session)
        self._told: dict[int, set[str]] = defaultdict(set)
        for piece in in_pieces(alerts):
            query = select(Delivery.alert, Delivery.channel).where(Delivery.alert.in_(piece))
            for alert, channel in session.execute(query):
                self._told[alert or 0].add(channel)

    def tell(self, row: Alert, what: str, now: float) -> None:
        """Puts what has to be told of an alert into the deliveries.

        A channel that hears of an alert for the first time is told that it opened; recovery is told to the channels
        that were told of the alert, whoever would be chosen now.
        """
        kind = _KIND.get(what)
        if kind is None:
            return
        told = self._told.get(row.id, set())
        channels = told if kind == "recovered" else self._chosen(row)
        if not channels:
            return
        answer = alert_answer(row).model_dump(mode="json")
        answer["advice"] = row.advice
        answer["evidence"] = row.evidence or {}
        for channel in sorted(channels):
            as_kind = kind if kind == "recovered" or channel in told else "opened"
            self._session.add(
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

    def _chosen(self, row: Alert) -> set[str]:
        if not self._callouts:
            return set()
        facts = alert_facts(row)
        chosen = [one for one in self._callouts if one.when is None or filters.matches(one.when, facts.get)]
        return {channel for one in chosen for channel in one.channels}


def _told_of_alerts(session: Session) -> list[Told]:
    """The callouts, each with those of its channels that ask for alerts by themselves."""
    wanted = {row.name for row in session.scalars(select(Channel)) if row.settings.get("of") == "alerts"}
    if not wanted:
        return []
    found = []
    for row in session.scalars(select(Callout)):
        body = CalloutBody.model_validate(row.body)
        named = {target.removeprefix("channel:") for target in body.in_steps()[0].tell}
        found.append(Told(filters.parse(body.when) if body.when.strip() else None, frozenset(named & wanted)))
    return found
