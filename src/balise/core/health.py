"""States: which is worst, and how a group's looks over time."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

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
    moments = sorted({start, *(s.at for history in histories for s in history if start < s.at < end)})
    places = [0] * len(histories)
    out: list[Stretch] = []
    for moment in moments:
        states: list[State] = []
        for i, history in enumerate(histories):
            while places[i] < len(history) and history[places[i]].at <= moment:
                places[i] += 1
            if places[i]:
                states.append(history[places[i] - 1].state)
        if states:
            state = worst(states)
            if not out or out[-1].state != state:
                out.append(Stretch(at=moment, state=state))
    return out
