"""Alerts as they are answered and asked for."""

from __future__ import annotations

import math
from typing import Any

from balise.api.alerts import Alert as AlertAnswer
from balise.api.alerts import Baseline
from balise.api.limits import KINDS, LimitKind
from balise.api.spans import rfc3339
from balise.core import filters
from balise.core.rules.limits import LEVEL_NAMES
from balise.store.state.tables import Alert


def alert_facts(row: Alert) -> dict[str, Any]:
    """What a callout's filter may ask of an alert."""
    return {
        **filters.by_name(row.attributes.items()),
        "severity": LEVEL_NAMES[row.level],
        "rule": row.rule,
        "host": row.host_name,
        "state": "open" if row.recovered_at is None else "recovered",
        "metric": row.measure.get("metric"),
        "kind": kind_of(row),
        "flapping": row.flapping_since is not None,
        "acknowledged": row.acknowledged_by is not None,
        "silent": row.silent,
    }


def service_of(row: Alert) -> str:
    """The service that an alert is about; empty when it is about none."""
    return str(row.attributes.get("service.name", ""))


def kind_of(row: Alert) -> LimitKind:
    """What the limits say that the alert breached."""
    limit = row.limits.get("warning") or row.limits.get("critical") or {}
    return next((kind for kind in KINDS if kind in limit), "above")


def alert_answer(row: Alert, *, with_clue: bool = True) -> AlertAnswer:
    """`with_clue` looks into the evidence, which is large: not for many alerts that have it unread."""
    detail = row.detail or {}
    return AlertAnswer(
        id=row.id,
        rule=row.rule,
        about=row.about,
        severity="critical" if row.level > 1 else "warning",
        state="open" if row.recovered_at is None else "recovered",
        silent=row.silent,
        host=row.host_name,
        attributes={str(k): str(v) for k, v in row.attributes.items()},
        metric=str(row.measure.get("metric") or ""),
        unit=row.unit,
        value=_finite(row.value),
        worst_value=_finite(row.worst_value),
        limit=_finite(row.bound),
        kind=kind_of(row),
        baseline=Baseline.model_validate(detail) if "middle" in detail else None,
        reaches_at=detail.get("reaches_at"),
        earliest=detail.get("earliest"),
        latest=detail.get("latest"),
        flapping=row.flapping_since is not None,
        clue=clue_of(row.evidence or {}) if with_clue else None,
        opened_at=rfc3339(row.opened_at),
        changed_at=rfc3339(row.changed_at),
        recovered_at=rfc3339(row.recovered_at) if row.recovered_at is not None else None,
        recovery=row.recovery,
        acknowledged_by=row.acknowledged_by,
        acknowledged_at=rfc3339(row.acknowledged_at) if row.acknowledged_at is not None else None,
        acknowledged_note=row.acknowledged_note,
    )


def clue_of(evidence: dict[str, Any]) -> str | None:
    """What stands out: the session others wait for, the newest change, the worst line that is not usual."""
    waits: dict[str, int] = {}
    for session in evidence.get("sessions", []):
        if session.get("depth"):
            waits[session["root"]] = waits.get(session["root"], 0) + 1
    if waits:
        root = max(waits, key=lambda r: waits[r])
        name = next((s["application"] for s in evidence["sessions"] if s["id"] == root), root)
        return f"{waits[root]} sessions wait for {name}"
    if evidence.get("changes"):
        return f"changed before: {evidence['changes'][0]['body']}"
    for line in evidence.get("lines", []):
        if line["severity"] in ("emergency", "alert", "critical", "error", "warning") and line["count"] > line["usual"]:
            return f"{line['count']} × {line['pattern']}"
    return None


def _finite(value: float) -> float:
    return value if math.isfinite(value) else 0.0
