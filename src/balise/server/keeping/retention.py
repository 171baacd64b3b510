"""How long things are kept."""

from __future__ import annotations

from typing import Any

from pydantic import ValidationError

from balise.api.keeping import DAY, EventKeep, Keeping, RetentionAnswer, RetentionBody
from balise.api.spans import duration_text, seconds
from balise.server.asking import read_filter
from balise.server.errors import bad_field
from balise.server.keeping.growth import Growth
from balise.server.keeping.pruning import Pruner
from balise.server.keeping.settings import SettingsBook
from balise.server.keeping.space import Space
from balise.store.events.keeping import KeepRule
from balise.store.events.store import EventStore
from balise.store.series.store import Retention, SeriesStore


class RetentionBook:
    """What people said of it, and the stores that keep to it."""

    def __init__(
        self,
        *,
        settings: SettingsBook,
        usual: Keeping,
        series: SeriesStore,
        events: EventStore,
        pruner: Pruner,
        space: Space,
        growth: Growth,
    ) -> None:
        self._space = space
        self._growth = growth
        self._settings = settings
        self._usual = usual
        self._series = series
        self._events = events
        self._pruner = pruner
        self._keep_to(self.get())

    def get(self) -> Keeping:
        return self._settings.keeping() or self._usual

    def set(self, keeping: Keeping, who: str) -> Keeping:
        """Keeps things so long from now on; what is older goes within a minute."""
        self._settings.set_keeping(keeping, who)
        self._keep_to(keeping)
        return keeping

    def shown(self) -> RetentionAnswer:
        """How long things are kept, beside what they take now."""
        keeping, free = self.get(), self._space.free
        return RetentionAnswer(
            events=[*keeping.events_by, EventKeep(keep=_days(keeping.events))],
            most_bytes=keeping.most_event_bytes,
            set_aside=keeping.set_aside,
            raw=_days(keeping.raw),
            five_minutes=_days(keeping.five_minutes),
            hours=_days(keeping.hour),
            event_bytes=self._events.size(),
            event_days=len(self._events.days()),
            point_bytes=self._series.size(),
            free_bytes=int(free),
            growth_bytes_per_day=self._growth.per_day(),
            full_in_days=self._growth.full_in(free),
        )

    def put(self, body: RetentionBody, who: str) -> RetentionAnswer:
        """Keeps things so long from now on. Raises Refused 422 for a filter or lengths that cannot be."""
        for entry in body.events:
            read_filter(entry.where, "events.where")
        lengths = {"raw": body.raw, "five_minutes": body.five_minutes, "hour": body.hours}
        changed: dict[str, Any] = {name: seconds(text) / DAY for name, text in lengths.items() if text is not None}
        changed["events"] = seconds(body.events[-1].keep) / DAY
        changed["events_by"] = [entry.model_dump() for entry in body.events[:-1]]
        changed["most_event_bytes"] = body.most_bytes
        if body.set_aside is not None:
            changed["set_aside"] = body.set_aside
        try:
            keeping = Keeping.model_validate({**self.get().model_dump(), **changed})
        except ValidationError as error:
            raise bad_field("events", str(error.errors()[0]["msg"]).removeprefix("Value error, ")) from None
        self.set(keeping, who)
        return self.shown()

    def _keep_to(self, keeping: Keeping) -> None:
        self._series.retention = Retention(raw=keeping.raw, five_minutes=keeping.five_minutes, hour=keeping.hour)
        rules = [KeepRule(read_filter(e.where, "where"), seconds(e.keep) / DAY) for e in keeping.events_by]
        self._events.keep(rules, keeping.events, keeping.most_event_bytes)
        self._pruner.keep_for(alerts=keeping.alerts, audit=keeping.audit)


def _days(length: float) -> str:
    return f"{length:.0f}d" if length == int(length) else duration_text(length * DAY)
