"""Where in the console a piece of evidence is looked at, at the span that it is about."""

from __future__ import annotations

import json
from typing import Literal
from urllib.parse import quote, urlencode

from balise.core.trail.evidence import Sign
from balise.core.trail.things import Line, Thing

BEFORE, AFTER = 1800.0, 1800.0
_PROCESSES = {"process", "user"}


def of_sign(sign: Sign) -> str:
    """The page of what left its usual."""
    around = {"from": f"{sign.at - BEFORE:.0f}", "to": f"{sign.at + AFTER:.0f}"}
    if sign.line is not None and sign.line.metric:
        return f"/charts?{urlencode({'q': _question(sign.thing, sign.line), **around})}"
    if sign.source == "pattern":
        return f"/events?{urlencode({'where': f'host eq {json.dumps(sign.thing.host)}', **around})}"
    return of_thing(sign.thing, sign.at)


def of_thing(thing: Thing, at: float) -> str:
    """The page of a thing: its host's, or all of the fleet for what is outside."""
    around = {"from": f"{at - BEFORE:.0f}", "to": f"{at + AFTER:.0f}"}
    if not thing.host:
        return f"/probes?{urlencode(around)}"
    if thing.kind == "change":
        where = f'host eq {json.dumps(thing.host)} and source eq "change"'
        return f"/events?{urlencode({'where': where, **around})}"
    deeper = "/processes" if thing.kind in _PROCESSES else ""
    return f"/fleet/{quote(thing.host, safe='')}{deeper}?{urlencode(around)}"


def take_of(line: Line) -> Literal["avg", "rate"]:
    """How a series is read: what is counted as its growth a second."""
    return "rate" if line.counted else "avg"


def _question(thing: Thing, line: Line) -> str:
    parts = [f"host eq {json.dumps(thing.host)}"] if thing.host else []
    parts += [f"{name} eq {json.dumps(value)}" for name, value in sorted(line.attributes.items())]
    return f"{take_of(line)} of {line.metric} by host where {' and '.join(parts)}"
