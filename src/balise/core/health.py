"""States: which is worst, and how a group's looks over time."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from itertools import groupby, zip_longest

from balise.api.hosts import STATES_WORST_FIRST, State, Stretch

_RANK = {state: rank for rank, state in enumerate(STATES_WORST_FIRST)}


def worst(states: Iterable[State]) -> State:
    """The worst of them: critical, warning, silent, ok; `paused` does not count unless it is all there is."""
    found = set(states)
    counted = found - {"paused"}
    if not counted:
        return "paused" if found else "ok"
    return min(counted, key=lambda state: _RANK[state])


def host_state(alert_severities: Iterable[str], *, silent: bool, paused: bool) -> State:
    """A host's state from its open alerts and whether it is heard."""
    if paused:
        return "paused"
    found = set(alert_severities)
    if "critical" in found:
        return "critical"
    if "warning" in found:
        return "warning"
    return "silent" if silent else "ok"


def ribbon(histories: Sequence[Sequence[Stretch]], start: float, end: float) -> list[Stretch]:
    """The worst state of several things over [start, end), from each one's changes in order of time."""
    changes = [
        (max(now.at, start), number, now.state)
        for number, history in enumerate(histories)
        for now, then in zip_longest(history, history[1:])
        if now.at < end and (then is None or then.at > start)
    ]
    changes.sort(key=lambda change: change[0])
    held: dict[int, State] = {}
    counts: Counter[State] = Counter()
    out: list[Stretch] = []
    for moment, together in groupby(changes, key=lambda change: change[0]):
        for _, number, state in together:
            if number in held:
                counts[held[number]] -= 1
            held[number] = state
            counts[state] += 1
        state = worst(one for one, count in counts.items() if count)
        if not out or out[-1].state != state:
            out.append(Stretch(at=moment, state=state))
    return out
