"""What may be the cause, and what speaks for and against each: numbers that can be recomputed from what is shown."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from balise.core.trail.case import Case
from balise.core.trail.evidence import Evidence, Shown, Sign, after, later
from balise.core.trail.graph import Way
from balise.core.trail.things import ACTING, NARROW, Kind, Node, Thing
from balise.core.trail.weights import OF

F64 = NDArray[np.float64]
FEATURES = tuple(OF)
"""Of a suspect, each between 0 and 1 (`explained` and `apart` speak against it)."""
MOST = 400
"""Things that are weighed at the most: those that went farthest."""
MOST_NODES = 600
LONGEST_DELAY = 1800.0
"""Seconds after which nothing is an effect any more by its time alone."""
PLAUSIBLE = 1200.0
"""Seconds in which effects mostly follow: what comes much later is less likely one."""
LIKELY, REACHES = 0.5, 0.15
"""Of an effect, how likely it came after, and how strong the way to it is, at the least."""
CALLED_WITHIN = 15.0
"""Seconds within which a moment and that of a call are the same."""
SOON = 600.0
"""Seconds within which what a change breaks, or a session holds, shows mostly."""
_WHAT: dict[Kind, str] = {
    "process": "process", "session": "session", "user": "session", "query": "session", "change": "changed",
    "volume": "part", "certificate": "part", "address": "part", "link": "part", "machine": "machine", "host": "host",
}  # fmt: skip


@dataclass(frozen=True)
class Effect:
    """A node that departed and that a suspect explains: how strongly, and how likely after it."""

    node: Node
    way: Way
    after: float
    sign: Sign
    worst: Sign
    """What tells best what it suffers; `sign` is the first."""


@dataclass(frozen=True)
class Suspect:
    """One thing that may be the cause."""

    thing: Thing
    shown: Shown
    first: Sign
    features: dict[str, float]
    effects: Sequence[Effect]
    blamed: Effect | None
    """The node that explains this one better than the other way about, if any does."""

    @cached_property
    def followed(self) -> list[Effect]:
        """Its effects that are more likely than not, in the order in which they departed."""
        found = [e for e in self.effects if e.after >= LIKELY and e.way.strength >= REACHES]
        return sorted(found, key=lambda effect: effect.sign.at)


def suspects_of(case: Case, evidence: Evidence) -> list[Suspect]:
    """Everything that departed or began, with what speaks for each."""
    nodes = dict(sorted(evidence.nodes.items(), key=lambda item: -item[1].strength)[:MOST_NODES])
    firsts = {node: shown.first() for node, shown in nodes.items()}
    things = sorted(evidence.things, key=lambda thing: -evidence.things[thing].strength)[:MOST]
    ways = {node: case.graph.reached(node) for node in {*nodes, *(thing.node for thing in things)}}
    weighing = _Weighing(case, evidence, nodes, firsts, ways)
    return [weighing.weigh(thing) for thing in things]


@dataclass(frozen=True)
class _Weighing:
    case: Case
    evidence: Evidence
    nodes: dict[Node, Shown]
    firsts: dict[Node, Sign]
    ways: Mapping[Node, Mapping[Node, Way]]

    def weigh(self, thing: Thing) -> Suspect:
        shown = self.evidence.things[thing]
        first = shown.first()
        effects = self._effects(thing, first)
        blamed = self._blamed(thing, first)
        features = {
            "strength": shown.strength,
            "earlier": self._earlier(thing, first),
            "explains": self._explains(thing, effects),
            "felt": self._felt(thing, first, effects),
            "explained": blamed.way.strength * blamed.after * blamed.sign.strength if blamed else 0.0,
            "sources": min(1.0, (len(self._sources(thing, shown)) - 1) / 2),
            "only effects": float(not shown.worse),
            "follows": self._follows(thing, first),
            "narrower": max(self._narrower(thing, first), self._guest(thing)),
            "takes": self._takes(thing.host, first) if shown.takes else 0.0,
            "share": max((s.happening.share for s in shown.signs if s.happening), default=0.0),
            **{sort: float(any(s.sort == sort and s.worse for s in shown.signs))
               for sort in ("errors", "waiting", "saturation")},
            "apart": self._apart(thing),
            **{what: float(_WHAT.get(thing.kind) == what)
               for what in ("process", "session", "changed", "part", "machine", "host")},
        }  # fmt: skip
        return Suspect(thing, shown, first, features, effects, blamed)

    def _effects(self, thing: Thing, first: Sign) -> list[Effect]:
        found = []
        for node, way in self.ways[thing.node].items():
            if node in self.firsts and node != thing.node:
                sign = self.firsts[node]
                late = max(0.0, sign.at - first.at - sign.uncertainty - first.uncertainty)
                likely = later(first, sign) * math.exp(-late / PLAUSIBLE)
                found.append(Effect(node, way, likely, sign, self.nodes[node].worst()))
        return sorted(found, key=lambda effect: -effect.way.strength * effect.after)

    def _blamed(self, thing: Thing, first: Sign) -> Effect | None:
        """Who else would explain it: a node that it suffers with, which departed before it."""
        best: Effect | None = None
        for node, sign in self.firsts.items():
            way = self.ways[node].get(thing.node)
            if way is None or node == thing.node or first.at - sign.at > LONGEST_DELAY:
                continue
            back = self.ways[thing.node].get(node)
            strength = way.strength - (back.strength if back else 0.0) * 0.5
            one = Effect(node, Way(max(0.0, strength), way.hops, way.last), later(sign, first), sign, sign)
            if best is None or _weight(one) > _weight(best):
                best = one
        return best if best is not None and _weight(best) > 0.02 else None

    def _earlier(self, thing: Thing, first: Sign) -> float:
        """Of all that departed elsewhere, by strength, how much departed after it."""
        others = [(sign, self.nodes[node].strength) for node, sign in self.firsts.items() if node != thing.node]
        total = sum(weight for _, weight in others)
        return sum(weight * later(first, sign) for sign, weight in others) / total if total else 0.5

    def _explains(self, thing: Thing, effects: Sequence[Effect]) -> float:
        total = sum(shown.strength for node, shown in self.nodes.items() if node != thing.node)
        got = sum(self.nodes[e.node].strength * e.way.strength * e.after for e in effects)
        return got / total if total else 0.0

    def _felt(self, thing: Thing, first: Sign, effects: Sequence[Effect]) -> float:
        in_time = self._in_time(first)
        if self._called:
            return in_time * max(self._reaches(thing, first, sign) for sign in self._called)
        if not self.case.felt or thing.node in self.case.felt:
            return in_time
        hit = [e.way.strength * e.after for e in effects if e.node in self.case.felt]
        way = max((w.strength for n, w in self.ways[thing.node].items() if n in self.case.felt), default=0.0)
        return in_time * max([*hit, 0.5 * way])

    def _in_time(self, first: Sign) -> float:
        """Whether it departed before people were called."""
        if self.case.called is None:
            return 1.0
        return min(1.0, 2 * after(self.case.called, first.at, max(first.uncertainty, CALLED_WITHIN)))

    @cached_property
    def _called(self) -> list[Sign]:
        """What people were called for, as it departed: the first of each."""
        found: dict[tuple[str, str], Sign] = {}
        for sign in self.evidence.signs:
            if sign.line is not None and (sign.thing.host, sign.line.metric) in self.case.about:
                found.setdefault((sign.thing.host, sign.line.metric), sign)
        return list(found.values())

    def _reaches(self, thing: Thing, first: Sign, sign: Sign) -> float:
        """How likely a thing is why something else departed: by the way there, and as it came before it."""
        ways = self.ways[thing.node]
        places = (sign.thing.node, (sign.thing.host, ""))
        way = (
            1.0 if thing.host == sign.thing.host else max((ways[p].strength for p in places if p in ways), default=0.0)
        )
        return way * min(1.0, 2 * later(first, sign))

    def _sources(self, thing: Thing, shown: Shown) -> set[str]:
        """In how many kinds of evidence it shows: its own, and those of where it is."""
        found: set[str] = set(shown.sources)
        if thing.node in self.nodes:
            found |= self.nodes[thing.node].sources
        return found

    def _follows(self, thing: Thing, first: Sign) -> float:
        """Of what is a part of a place: how much departed there soon after it, by strength."""
        if thing.kind not in NARROW:
            return 0.0
        found = 0.0
        for sign in self._there(thing):
            if sign.thing != thing:
                soon = math.exp(-max(0.0, sign.at - first.at - sign.uncertainty) / SOON)
                found = max(found, sign.strength * later(first, sign) * soon)
        return found

    def _narrower(self, thing: Thing, first: Sign) -> float:
        """Of a place: whether a part of it, or what happened there, may be why, as it departed before it; of a part,
        whether what happened there may."""
        if thing.kind in ACTING:
            return 0.0
        found = 0.0
        for other, at in self._parts.get(thing.host, ()):
            if thing.kind in NARROW and other.kind not in ACTING:
                continue
            soon = math.exp(-max(0.0, first.at - at.at - first.uncertainty) / SOON)
            found = max(found, self.evidence.things[other].strength * later(at, first) * soon)
        return found

    def _takes(self, host: str, first: Sign) -> float:
        """Of those on the same machine, how many wait since this one took more."""
        beside = self.case.graph.beside((host, ""))
        waits = [self._waits(node) for node in beside]
        return sum(later(first, sign) for sign in waits if sign is not None) / len(beside) if beside else 0.0

    def _guest(self, thing: Thing) -> float:
        """Of a machine, whether one of those on it takes from the others."""
        if thing.kind != "machine":
            return 0.0
        guests = [(host, self.nodes.get((host, ""))) for host, _ in self.case.graph.on(thing.node)]
        return max((self._takes(host, shown.first()) for host, shown in guests if shown and shown.takes), default=0.0)

    def _waits(self, node: Node) -> Sign | None:
        shown = self.nodes.get(node)
        waiting = [s for s in shown.signs if s.sort == "waiting" and s.worse and s.line] if shown else []
        return max(waiting, key=lambda sign: sign.strength, default=None)

    @cached_property
    def _parts(self) -> dict[str, list[tuple[Thing, Sign]]]:
        """By host what is a part of it, or happened there, and when first."""
        found: dict[str, list[tuple[Thing, Sign]]] = {}
        for other, shown in self.evidence.things.items():
            if other.kind in NARROW and other.host:
                found.setdefault(other.host, []).append((other, shown.first()))
        return found

    def _there(self, thing: Thing) -> list[Sign]:
        found = list(self.nodes[thing.node].signs) if thing.node in self.nodes else []
        if not thing.service:
            found += [s for node, shown in self.nodes.items() if node[0] == thing.host for s in shown.signs]
        return found

    def _apart(self, thing: Thing) -> float:
        """Whether nothing departed where it is, besides a change."""
        return float(thing.node not in self.nodes)


def _weight(effect: Effect) -> float:
    return effect.way.strength * effect.after * effect.sign.strength


def matrix(suspects: Sequence[Suspect]) -> F64:
    """The features, [suspects, features]."""
    return np.array([[one.features[name] for name in FEATURES] for one in suspects]).reshape(-1, len(FEATURES))
