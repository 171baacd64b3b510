"""Pictures for messages: what the alert that an incident is called by measured, before and since."""

from __future__ import annotations

import logging
import time
from datetime import UTC, datetime

from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.metrics import MetricAnswer, MetricQuery, SeriesAnswer
from balise.collect.work import Pause
from balise.core.quantities import STATE, in_words
from balise.server.errors import Refused
from balise.server.events.evidence import filters_text
from balise.server.incidents.answers import alerts_of
from balise.server.metrics.picture import CRITICAL, WARNING, Bound, Mark, drawn
from balise.server.metrics.questions import Metrics
from balise.store.state.store import StateStore
from balise.store.state.tables import Alert, Channel, Delivery

log = logging.getLogger(__name__)
BEFORE = 3 * 3600.0
"""Seconds before the opening that a picture shows."""
POINTS = 180
LOOKED_FOR, LONG = 2.0, 86_400.0
"""Seconds until it is looked again whether there are channels by mail, and between two pictures for nobody."""
_NOTHING = MetricAnswer(
    metric="nothing",
    unit="1",
    step_seconds=60.0,
    times=[0.0, 60.0],
    series=[SeriesAnswer(attributes={}, values=[0.0, 1.0])],
    tier="raw",
)


class Charts:
    """Draws what messages show."""

    def __init__(self, *, state: StateStore, metrics: Metrics) -> None:
        self._state = state
        self._metrics = metrics

    def of(self, delivery: Delivery) -> bytes | None:
        """A PNG of 1184 × 480 pixels; None when there is nothing to draw. What cannot be drawn holds up no message."""
        if delivery.incident is None:
            return None
        number = delivery.incident
        try:
            alert = self._state.read(lambda s: _first(s, number))
            answer = self._measured(alert) if alert is not None else None
            if alert is None or answer is None:
                return None
            return _picture(alert, answer)
        except Exception:
            log.exception("delivery=%d has no picture", delivery.id)
            return None

    def warm(self) -> Pause:
        """Once there is a channel by mail, draws a picture for nobody: to load the library takes a second, and the
        first message must not wait for it. Answers when to look again."""
        mails = select(Channel.name).where(Channel.kind == "email").limit(1)
        if self._state.read(lambda s: s.scalar(mails)) is None:
            return Pause(LOOKED_FOR)
        _picture(Alert(opened_at=0.0, limits={}, host_name=""), _NOTHING)
        return Pause(LONG)

    def _measured(self, alert: Alert) -> MetricAnswer | None:
        metric = alert.measure.get("metric")
        if not metric or alert.unit == STATE:
            return None
        terms = [f"host eq {filters_text(alert.host_name)}"] if alert.host_name else []
        terms += [f"{key} eq {filters_text(str(value))}" for key, value in alert.attributes.items() if key != "host"]
        if alert.measure.get("where"):
            terms.append(f"({alert.measure['where']})")
        query = MetricQuery(
            metric=metric,
            where=" and ".join(terms) or None,
            from_=str(_rfc(alert.opened_at - BEFORE)),
            to=_rfc(time.time()),
            points=POINTS,
            take=alert.measure.get("take", "avg"),
            by=[],
        )
        try:
            answer = self._metrics.ask(query)
        except Refused:
            return None
        return answer if any(v is not None for s in answer.series for v in s.values) else None


def _first(session: Session, incident: int) -> Alert | None:
    found = alerts_of(session, incident, 1)
    return found[0][0] if found else None


def _rfc(at: float) -> str:
    return datetime.fromtimestamp(at, UTC).isoformat()


def _picture(alert: Alert, answer: MetricAnswer) -> bytes:
    bounds = []
    for level, colour in (("warning", WARNING), ("critical", CRITICAL)):
        limit = alert.limits.get(level) or {}
        bound = limit.get("above", limit.get("below"))
        if isinstance(bound, int | float):
            bounds.append(Bound(float(bound), f"{level} {in_words(float(bound), answer.unit)}", colour))
    title = f"{answer.metric} on {alert.host_name or 'all'}, UTC"
    return drawn(answer, title, bounds=bounds, marks=[Mark(alert.opened_at, "opened")])
