"""Whom an incident hurts: what its alerts make of the applications, by the same roll-up that their pages show."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

from balise.api.applications import ApplicationBody, ApplicationPart
from balise.api.hosts import STATES_WORST_FIRST, State
from balise.api.incidents import Hurt
from balise.core.applications import rolled
from balise.core.health import worst

StateOf = Callable[[ApplicationPart], State]
"""What the alerts of an incident make of a part by itself."""


def hurts(applications: Iterable[tuple[str, ApplicationBody]], state_of: StateOf) -> list[Hurt]:
    """The applications that have a part among what is wrong, the worst first."""
    found = []
    for name, body in applications:
        own = {part.name: state_of(part) for part in body.parts}
        wrong = [part for part, state in own.items() if state != "ok"]
        if wrong:
            found.append((name, _how(body, own, wrong)))
    found.sort(key=lambda one: (STATES_WORST_FIRST.index(one[1][0]), one[0]))
    return [Hurt(application=name, how=how, state=state) for name, (state, how) in found]


def _how(body: ApplicationBody, own: dict[str, State], wrong: Sequence[str]) -> tuple[State, str]:
    states = rolled(own, body.needs)
    needed = {to for need in body.needs for to in need.to}
    fronts = [part.name for part in body.parts if part.name not in needed]
    state = worst(states[front][0] for front in fronts) if fronts else worst(own.values())
    hit = [front for front in fronts if states[front][0] == state]
    if state == "ok" or not hit:
        verb = "is" if len(wrong) == 1 else "are"
        return "ok", f"nothing that its users meet: {_listed(wrong)} {verb} not well, and what needs that has others"
    path = _path(hit[0], body, states)
    because = f", because of {path[-1]}" if len(path) > 1 else ""
    word = {"critical": "critical", "silent": "not heard", "warning": "in warning"}.get(state, state)
    return state, f"{word} where its users meet it: {_listed(hit)}{because}"


def _path(part: str, body: ApplicationBody, states: dict[str, tuple[State, list[str]]]) -> list[str]:
    """From a part to what it needs that is as bad, as far as that goes."""
    path = [part]
    while True:
        needed = [to for need in body.needs if need.from_ == path[-1] for to in need.to if to not in path]
        bad = [to for to in needed if states[to][0] not in ("ok", "paused")]
        if not bad:
            return path
        path.append(min(bad, key=lambda one: STATES_WORST_FIRST.index(states[one][0])))


def _listed(names: Sequence[str], most: int = 3) -> str:
    """`a, b, c and 4 more`."""
    shown = ", ".join(names[:most])
    return f"{shown} and {len(names) - most} more" if len(names) > most else shown
