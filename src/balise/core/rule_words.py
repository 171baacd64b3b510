"""Rules as people read them: what is measured, and limits with their units."""

from __future__ import annotations

from balise.api.limits import Limit, Limits
from balise.api.measures import Measure
from balise.core.quantities import in_words


def measure_in_words(measure: Measure) -> str:
    """`system.cpu.utilization`, `100 * bad / all`, `events: body co "refused"`, `alerts: severity eq "critical"`."""
    if measure.metric is not None:
        return measure.metric
    if measure.values is not None:
        return measure.compute or ""
    if measure.events is not None:
        counted = {"new": "new patterns of events", "more": "patterns of events", None: "events"}[measure.pattern]
        what = f"different {measure.of} of events" if measure.of else counted
        return f"{what}: {measure.events}" if measure.events else what
    return f"alerts: {measure.alerts}"


def limit_in_words(limit: Limit | None, unit: str) -> str:
    """`above 80.0 % for 5m`, `runs out within 3d`; empty for none."""
    if limit is None:
        return ""
    return _bound_in_words(limit, unit) + (f" for {limit.hold}" if limit.hold != "0s" else "")


def _bound_in_words(limit: Limit, unit: str) -> str:
    match limit.kind:
        case "above" | "below" as side:
            return f"{side} {in_words(getattr(limit, side), unit)}"
        case "outside":
            low, high = limit.outside or (0.0, 0.0)
            return f"outside {in_words(low, unit)} to {in_words(high, unit)}"
        case "unusual":
            where = "" if limit.side in (None, "both") else f" {limit.side}"
            least = f", at least {in_words(limit.by, unit)}" if limit.by else ""
            return f"unusual by {limit.unusual:g} deviations{where}{least}"
        case "runs_out_within":
            return f"runs out within {limit.runs_out_within}"
        case "missing_for":
            return f"missing for {limit.missing_for}"
        case "first_seen":
            return f"not seen for {limit.memory or '30d'}"


def limits_in_words(limits: Limits, unit: str) -> str:
    """`warning above 80.0 % for 5m, critical above 90.0 %`; numbers as they are without a unit."""
    both = (("warning", limits.warning), ("critical", limits.critical))
    return ", ".join(f"{name} {limit_in_words(limit, unit)}" for name, limit in both if limit is not None)
