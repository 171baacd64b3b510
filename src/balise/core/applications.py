"""Where the parts of an application stand, and how states roll up along what they need."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence

from balise.api.applications import Need
from balise.api.hosts import State
from balise.core.health import worst


def ranks(parts: Sequence[str], needs: Iterable[Need]) -> dict[str, int]:
    """How far each part is from the users: 0 for what no other needs, else one more than whoever needs it most.

    An edge that closes a ring is passed over.
    """
    below: dict[str, list[str]] = {part: [] for part in parts}
    for need in needs:
        below[need.from_] += [to for to in need.to if to in below]
    order, rings = _order(below)
    found = dict.fromkeys(parts, 0)
    for part in order:
        for to in below[part]:
            if (part, to) not in rings:
                found[to] = max(found[to], found[part] + 1)
    return found


def _order(below: Mapping[str, Sequence[str]]) -> tuple[list[str], set[tuple[str, str]]]:
    """Parts so that each comes before what it needs, and the edges that close rings."""
    done: list[str] = []
    state: dict[str, int] = {}
    rings: set[tuple[str, str]] = set()
    for start in below:
        if start in state:
            continue
        stack = [(start, iter(below[start]))]
        state[start] = 1
        while stack:
            part, rest = stack[-1]
            for to in rest:
                if state.get(to) == 1:
                    rings.add((part, to))
                elif to not in state:
                    state[to] = 1
                    stack.append((to, iter(below[to])))
                    break
            else:
                state[part] = 2
                done.append(part)
                stack.pop()
    return done[::-1], rings


def rolled(own: Mapping[str, State], needs: Sequence[Need]) -> dict[str, tuple[State, list[str]]]:
    """Each part's state with what it needs, and the parts that make it worse than its own.

    A part is critical when fewer of what it needs are left than it must have, and in warning when enough are left but
    some are lost or in warning.
    """
    below: dict[str, list[str]] = {part: [] for part in own}
    for need in needs:
        below[need.from_] += [to for to in need.to if to in own]
    order, rings = _order(below)
    found: dict[str, tuple[State, list[str]]] = {}
    for part in reversed(order):
        states, because = [own[part]], list[str]()
        for need in (n for n in needs if n.from_ == part):
            held = [
                (to, found[to][0] if to in found and (part, to) not in rings else own[to])
                for to in need.to
                if to in own
            ]
            lost = [to for to, state in held if state in ("critical", "silent")]
            unwell = [to for to, state in held if state == "warning"]
            least = need.at_least or len(need.to)
            if len(held) - len(lost) < least:
                states.append("critical" if any(state == "critical" for _, state in held) else "silent")
                because += lost
            elif lost or unwell:
                states.append("warning")
                because += lost + unwell
        state = worst(states)
        found[part] = (state, because if state != own[part] else [])
    return found
