"""The kind of a limit."""

from __future__ import annotations

from dataclasses import dataclass

from balise.api.limits import Limit
from balise.core.rules.kinds.beyond import Beyond
from balise.core.rules.kinds.first_seen import FirstSeen
from balise.core.rules.kinds.kind import Kind
from balise.core.rules.kinds.missing import Missing
from balise.core.rules.kinds.outside import Outside
from balise.core.rules.kinds.running_out import RunningOut
from balise.core.rules.kinds.unusual import Unusual


@dataclass(frozen=True)
class Setting:
    """What a limit does not say itself: at which value something has run out (None: the value is the seconds left),
    and for how many seconds something new is news."""

    at: float | None = 1.0
    news: float = 3600.0


def kind_of(limit: Limit, severity: int, setting: Setting) -> Kind:
    """The kind of a limit, with its numbers."""
    match limit.kind:
        case "above" | "below":
            return Beyond(limit)
        case "outside":
            return Outside(limit)
        case "unusual":
            return Unusual(limit)
        case "runs_out_within":
            return RunningOut(limit, severity, at=setting.at)
        case "missing_for":
            return Missing(limit)
        case "first_seen":
            return FirstSeen(limit, news=setting.news)
