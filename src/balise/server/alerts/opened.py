"""Open alerts as they are at this moment, by their rule and group."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

from balise.api.services import ServiceAlert
from balise.api.tree import Facet
from balise.core.facets import facet_of
from balise.core.filters import Filter, matches
from balise.core.rules.limits import LEVEL_NAMES
from balise.server.alerts.answers import alert_facts, service_of
from balise.store.state.tables import Alert


@dataclass
class Open:
    """What has to be known of an open alert at every tick."""

    id: int
    rule: str
    key: str
    host: int | None
    level: int
    value: float
    worst: float
    silent: bool
    moved: bool = False
    service: str = ""
    facts: dict[str, Any] = field(default_factory=dict)
    detail: dict[str, float] = field(default_factory=dict)
    flapping: bool = False
    calm_since: float | None = None
    opened_at: float = 0.0
    about: str = ""
    on: str = ""
    """What of the host it is on: a service, a volume; empty for the host itself."""
    facet: Facet = "system"


class OpenAlerts(dict[tuple[str, str], Open]):
    """All open alerts. Their values are newer than those that are written."""

    def __init__(self, rows: Iterable[Alert]) -> None:
        super().__init__()
        for row in rows:
            self.note(row)

    def note(self, row: Alert) -> None:
        """An alert was written: it is open, or not any more."""
        key = (row.rule, row.group_key)
        if row.recovered_at is not None:
            self.pop(key, None)
            return
        self[key] = _open_of(row)

    def severities(self) -> dict[int, list[str]]:
        """The severities of each host's open alerts."""
        found: dict[int, list[str]] = {}
        for alert in list(self.values()):
            if alert.host is not None:
                found.setdefault(alert.host, []).append(LEVEL_NAMES[alert.level])
        return found

    def by_host(self, where: Filter | None) -> dict[int, int]:
        """How many open alerts that pass a filter each host has."""
        found: Counter[int] = Counter()
        for alert in list(self.values()):
            if alert.host is not None and alert.level and (where is None or matches(where, alert.facts.get)):
                found[alert.host] += 1
        return found

    def of_service(self, host: int, service: str) -> list[ServiceAlert]:
        """The open alerts on one service of a host, the worst first."""
        mine = [a for a in list(self.values()) if a.host == host and a.service == service and a.level]
        return [
            ServiceAlert(id=a.id, rule=a.rule, severity=LEVEL_NAMES[a.level])  # type: ignore[arg-type]
            for a in sorted(mine, key=lambda a: -a.level)
        ]


def _open_of(row: Alert) -> Open:
    return Open(
        row.id,
        row.rule,
        row.group_key,
        row.host,
        row.level,
        row.value,
        row.worst_value,
        row.silent,
        service=service_of(row),
        facts=alert_facts(row),
        detail=dict(row.detail or {}),
        flapping=row.flapping_since is not None,
        calm_since=row.calm_since,
        opened_at=row.opened_at,
        about=row.about,
        on=service_of(row) or next((str(value) for value in row.attributes.values()), ""),
        facet=facet_of(row.measure, row.attributes),
    )
