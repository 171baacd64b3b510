"""What a callout's filter may ask of an incident."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from typing import Any

from balise.core import filters
from balise.core.rules.limits import LEVEL_NAMES
from balise.server.hosts.directory import Directory
from balise.server.incidents.members import Member, sites_of
from balise.store.state.tables import Incident


def incident_facts(row: Incident, level: int, members: Collection[Member], directory: Directory) -> dict[str, Any]:
    """`severity` is that of what is told; `host`, `group`, `site`, `label.…`, `rule`, `service.name`, `probe` and
    `application` are of all its alerts."""
    return {
        **facts_about(
            severity=LEVEL_NAMES[level],
            hosts={m.host_name for m in members if m.host_name},
            applications=[hurt["application"] for hurt in row.hurts],
            rules={m.rule for m in members},
            directory=directory,
        ),
        "service.name": sorted({m.service for m in members if m.service}),
        "probe": sorted({m.probe for m in members if m.probe}),
        "number": row.id,
        "title": row.title,
        "alerts": row.alert_count,
        "taken": row.taken_by is not None,
        "practice": row.of == "drill",
    }


def facts_about(
    *, severity: str, hosts: Iterable[str], applications: Iterable[str], rules: Iterable[str], directory: Directory
) -> dict[str, Any]:
    """The same of an incident that might be."""
    names = sorted(hosts)
    groups: set[str] = set()
    labels: dict[str, set[str]] = {}
    for name in names:
        known = directory.find(name)
        if known is not None:
            groups.update(known.groups)
            for key, value in known.labels.items():
                labels.setdefault(f"label.{key}", set()).add(value)
    return {
        **filters.by_name((key, sorted(values)) for key, values in labels.items()),
        "severity": severity,
        "host": names,
        "application": sorted(applications),
        "rule": sorted(rules),
        "group": sorted(groups),
        "site": sorted(sites_of(directory, groups)),
    }
