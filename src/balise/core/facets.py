"""Which layer of a host something is about."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from balise.api.tree import Facet

_OF_METRICS: tuple[tuple[Facet, tuple[str, ...]], ...] = (
    ("hardware", ("hw.", "balise.disk.", "balise.sensor.", "ipmi.", "redfish.")),
    (
        "storage",
        ("system.filesystem.", "system.disk.", "balise.filesystem.", "balise.directory.", "balise.nfs.", "nfs."),
    ),
    ("network", ("system.network.", "balise.interface.", "probe.", "dns.", "snmp.interface.")),
    ("services", ("balise.unit.", "balise.container.", "balise.certificate.")),
)
"""By how the names of their metrics begin; whatever is none of these is the system's."""


def facet_of(measure: Mapping[str, Any], attributes: Mapping[str, Any]) -> Facet:
    """The layer that an alert is about, from what its rule measures and what it is on.

    >>> facet_of({"metric": "system.filesystem.utilization"}, {}), facet_of({"events": 'severity ge "error"'}, {})
    ('storage', 'events')
    """
    if attributes.get("service.name"):
        return "services"
    if measure.get("events") is not None:
        return "events"
    values = measure.get("values") or {}
    metric = measure.get("metric") or next((value.get("metric") for value in values.values()), "") or ""
    return next((facet for facet, begins in _OF_METRICS if metric.startswith(begins)), "system")
