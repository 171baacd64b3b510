"""Pictures for messages: what the alert that an incident is called by measured, before and since."""

from __future__ import annotations

import io
import logging
import threading
import time
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.metrics import MetricAnswer, MetricQuery, SeriesAnswer
from balise.collect.work import Pause
from balise.core.quantities import STATE, in_words
from balise.server.errors import Refused
from balise.server.events.evidence import filters_text
from balise.server.incidents.answers import alerts_of
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
INK, QUIET, WARNING, CRITICAL, LINE = "#12222b", "#4a5c66", "#a86b00", "#bf2a1e", "#0b5a66"


class Charts:
    """Draws one picture at a time."""

    def __init__(self, *, state: StateStore, metrics: Metrics) -> None:
        self._state = state
        self._metrics = metrics
        self._lock = threading.Lock()

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
            with self._lock:
                return _drawn(alert, answer)
        except Exception:
            log.exception("delivery=%d has no picture", delivery.id)
            return None

    def warm(self) -> Pause:
        """Once there is a channel by mail, draws a picture for nobody: to load the library takes a second, and the
        first message must not wait for it. Answers when to look again."""
        mails = select(Channel.name).where(Channel.kind == "email").limit(1)
        if self._state.read(lambda s: s.scalar(mails)) is None:
            return Pause(LOOKED_FOR)
        with self._lock:
            _drawn(Alert(opened_at=0.0, limits={}, host_name=""), _NOTHING)
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


def _drawn(alert: Alert, answer: MetricAnswer) -> bytes:
    """The picture. The library is loaded when the first one is drawn: it is large."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.dates import ConciseDateFormatter
    from matplotlib.figure import Figure
    from matplotlib.ticker import FuncFormatter

    figure = Figure(figsize=(7.4, 3.0), dpi=160)
    # Margins that are known beforehand: to find the best takes as long as the picture.
    figure.subplots_adjust(left=0.12, right=0.985, top=0.9, bottom=0.13)
    axes: Any = figure.add_subplot()
    times = [datetime.fromtimestamp(at, UTC) for at in answer.times]
    values = [float("nan") if v is None else v for v in answer.series[0].values]
    axes.plot(times, values, color=LINE, linewidth=1.8)
    for level, colour in (("warning", WARNING), ("critical", CRITICAL)):
        limit = alert.limits.get(level) or {}
        bound = limit.get("above", limit.get("below"))
        if isinstance(bound, int | float):
            axes.axhline(bound, color=colour, linewidth=1.2, linestyle=(0, (5, 3)))
            axes.annotate(
                f"{level} {in_words(float(bound), answer.unit)}",
                (0.01, bound),
                xycoords=("axes fraction", "data"),
                ha="left",
                va="bottom",
                color=colour,
                fontsize=8,
            )
    axes.axvline(datetime.fromtimestamp(alert.opened_at, UTC), color=QUIET, linewidth=1.0)
    axes.annotate(
        " opened",
        (datetime.fromtimestamp(alert.opened_at, UTC), 1.0),
        xycoords=("data", "axes fraction"),
        va="top",
        color=QUIET,
        fontsize=8,
    )
    axes.set_title(f"{answer.metric} on {alert.host_name or 'all'}, UTC", loc="left", fontsize=10, color=INK)
    axes.yaxis.set_major_formatter(FuncFormatter(lambda v, _at: in_words(float(v), answer.unit)))
    axes.xaxis.set_major_formatter(ConciseDateFormatter(axes.xaxis.get_major_locator(), tz=UTC))  # type: ignore[no-untyped-call]
    axes.tick_params(colors=QUIET, labelsize=8)
    axes.margins(x=0, y=0.15)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    out = io.BytesIO()
    FigureCanvasAgg(figure).print_png(out)  # type: ignore[no-untyped-call]
    return out.getvalue()
