"""Alerts as incidents hold them in memory."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

from balise.core.incidents.around import Breached
from balise.server.hosts.directory import Directory
from balise.store.state.tables import Alert

SILENCE = "balise.host.silence"
"""The metric of whoever says nothing."""


@dataclass
class Member:
    """An alert of an incident. `level` is 0 once it has recovered, at `over_at`; `worst` is the worst that it was."""

    number: int
    rule: str
    key: str
    about: str
    host: int | None
    host_name: str
    service: str
    probe: str
    opened_at: float
    level: int
    worst: int
    over_at: float | None
    silence: bool

    def breached(self, directory: Directory, service: str) -> Breached:
        """The alert as it is grouped; `service` as applications know it."""
        known = directory.get(self.host) if self.host is not None else None
        sites = sites_of(directory, known.groups) if known is not None else []
        return Breached(
            number=self.number,
            rule=self.rule,
            opened_at=self.opened_at,
            host=self.host_name,
            service=service,
            site=sites[0] if sites else "",
            relay=known.collected_by if known is not None and known.mode == "remote" else "",
            probe=self.probe,
            silence=self.silence,
        )


def member_of(row: Alert, *, is_ahead: bool = False) -> Member:
    """An alert as it is kept, as a member; one that is ahead of what incidents know of it has not recovered yet."""
    over_at = None if is_ahead else row.recovered_at
    return Member(
        number=row.id,
        rule=row.rule,
        key=row.group_key,
        about=row.about,
        host=row.host,
        host_name=row.host_name,
        service=str(row.attributes.get("service.name", "")),
        probe=str(row.attributes.get("probe", "")),
        opened_at=row.opened_at,
        level=row.level if over_at is None else 0,
        worst=row.level,
        over_at=over_at,
        silence=row.measure.get("metric") == SILENCE,
    )


def sites_of(directory: Directory, groups: Collection[str]) -> list[str]:
    """Those of some groups that are sites."""
    return [name for name in groups if (held := directory.groups.get(name)) is not None and held.kind == "site"]
