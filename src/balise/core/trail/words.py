"""The trail in words: what a suspect is, what it does, what follows from it, and why that is believed."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from balise.api.trail import BecauseKind
from balise.core.quantities import in_words
from balise.core.trail.evidence import Sign
from balise.core.trail.suspects import Effect, Suspect
from balise.core.trail.things import NARROW, Node, Sort, Thing
from balise.core.trail.weights import OF

Clock = Callable[[float], str]
"""How a moment is said, such as 18:03."""
CHAIN, LONGEST_QUOTED = 3, 60
"""Effects that a sentence names, and how long a line in it may be."""
MOST_BECAUSE = 12
SURE = 0.5
"""From which probability on the first suspect is called the likely cause."""
NOTHING = "No cause stands out"
WORTH_NAMING = 0.1
"""From which probability on what is nearest is named."""
_KINDS = {
    "query": "query", "session": "session", "process": "process", "user": "user", "change": "change",
    "volume": "volume", "certificate": "certificate", "address": "address", "link": "link", "machine": "machine",
}  # fmt: skip
_DOES: dict[Sort, tuple[str, str, str, str]] = {
    "latency": ("answers slowly", "answer slowly", "answers faster", "answer faster"),
    "errors": ("fails", "fail", "fails less", "fail less"),
    "waiting": ("waits", "wait", "waits less", "wait less"),
    "saturation": ("is busier", "are busier", "is less busy", "are less busy"),
    "traffic": ("does more", "do more", "does less", "do less"),
    "state": ("changed", "changed", "changed", "changed"),
    "other": ("changed", "changed", "changed", "changed"),
}
"""What one and several do since they departed upwards, and downwards."""


@dataclass(frozen=True)
class Because:
    """One reason: of which kind it is, in words, and when and how far, where it has that."""

    kind: BecauseKind
    text: str
    at: float | None = None
    deviation: float | None = None
    sign: Sign | None = None
    node: Node | None = None


def named(thing: Thing) -> str:
    """`named(Thing("volume", "/var/log", "gate-1")) == "volume /var/log on gate-1"`."""
    if thing.kind == "host" or (thing.kind == "machine" and thing.name == thing.host):
        return thing.name
    if thing.kind == "service":
        return f"{thing.name} on {thing.host}" if thing.host else thing.name
    said = f"{_KINDS[thing.kind]} {thing.name}"
    if thing.kind == "link" and thing.name == "network":
        said = "network link"
    joined = "of" if thing.kind in ("link", "certificate") else "against" if thing.kind == "address" else "on"
    return f"{said} {joined} {thing.host}" if thing.host else said


def node_named(node: Node) -> str:
    host, service = node
    return f"{service} on {host}" if host and service else host or service


def does(sign: Sign, *, many: bool = False) -> str:
    """`does(…) == "answers slowly"`: what a place does, or several do, since it departed."""
    if sign.source == "pattern":
        said = sign.line.about if sign.line is not None else sign.happening.text if sign.happening is not None else ""
        return f"{'log' if many else 'logs'} {_quoted(said)}"
    if sign.happening is not None:
        return sign.happening.text
    return _DOES[sign.sort][2 * (sign.deviation < 0) + many]


def _quoted(said: str) -> str:
    """A pattern in a sentence: without how it came about, and not longer than one reads."""
    text = said.removeprefix("says anew: ").removeprefix("says: ").strip("“”")
    return f"“{text if len(text) <= LONGEST_QUOTED else text[: LONGEST_QUOTED - 1] + '…'}”"


def what(suspect: Suspect, also: Sequence[str] = ()) -> str:
    """What a suspect does, by the clearest of what is known of it; `also` are hosts where it is the same."""
    more = f"; also on {', '.join(also[:3])}{f' and {len(also) - 3} more' if len(also) > 3 else ''}" if also else ""
    holding = [s.happening for s in suspect.shown.signs if s.happening is not None]
    if holding:
        best = max(holding, key=lambda one: (one.share, bool(one.holds)))
        text = best.text.removeprefix(f"{suspect.thing.name}: ").removeprefix(f"{suspect.thing.name} ")
        return f"{text}{f'; {best.holds}' if best.holds else ''}{more}"
    worst = max(suspect.shown.signs, key=lambda sign: (sign.worse, abs(sign.deviation)))
    return moved(worst) + more


def moved(sign: Sign) -> str:
    """`moved(…) == "processor busy went from 21.0 % to 94.2 %"`."""
    if sign.line is None:
        return does(sign)
    name = sign.line.about or sign.line.metric
    unit = sign.line.unit
    return f"{name} went from {in_words(sign.before, unit)} to {in_words(sign.during, unit)}"


def sentence(one: Suspect, does_: str, sure: float, departed: int, clock: Clock) -> str:
    """The first suspect, what it does and what follows from it; or that nothing stands out, and what is nearest."""
    said = named(one.thing)
    if sure < SURE:
        if sure < WORTH_NAMING:
            return nothing(departed)
        left = f"{departed} {'thing' if departed == 1 else 'things'} left their usual"
        return f"{NOTHING}: {left}; nearest is {said}, {sure:.0%} likely."
    start = f"{'The ' if one.thing.kind in _KINDS and said != one.thing.name else ''}{said}"
    return f"{start}: {does_}, since {clock(one.first.at)}{_chain(one)}."


def nothing(departed: int) -> str:
    """What is said when there is no suspect at all."""
    return (
        f"{NOTHING}: nothing left its usual." if not departed else f"{NOTHING} among {departed} that left their usual."
    )


def _chain(one: Suspect) -> str:
    """What follows elsewhere, in the order in which it did; what several places do is said once."""
    effects = [e for e in one.followed if e.worst.worse]
    places: dict[str, list[Effect]] = {}
    for effect in effects:
        if effect.node[0] != one.thing.host:
            key = "log" if effect.worst.source == "pattern" else does(effect.worst)
            places.setdefault(key, []).append(effect)
    said = [f"{_first_of(found)} {does(found[0].worst, many=len(found) > 1)}" for found in places.values()]
    return "".join(f", then {text}" for text in said[:CHAIN])


def _first_of(effects: Sequence[Effect]) -> str:
    more = len({e.node for e in effects}) - 1
    return f"{node_named(effects[0].node)}{f' and {more} more' if more else ''}"


def because(suspect: Suspect, others: int) -> list[Because]:
    """Why it is believed, the strongest first; what speaks against it last."""
    found = [
        Because(sign.source, told(sign), sign.at, None if sign.deviation != sign.deviation else sign.deviation, sign,
                sign.thing.node)
        for sign in sorted(suspect.shown.signs, key=lambda sign: -sign.strength)[:MOST_BECAUSE - 4]
    ]  # fmt: skip
    after = suspect.followed
    if after:
        names = ", ".join(node_named(e.node) for e in after[:4])
        more = f" and {len(after) - 4} more" if len(after) > 4 else ""
        how = after[0].way.last.tie if after[0].way.last else "needs"
        text = f"{len(after)} of {others} other places that departed did so after it and depend on it: {names}{more}"
        found.append(Because("shared" if how in ("shares", "runs on") else "edge", text, node=after[0].node))
    blamed = suspect.blamed
    if blamed is not None and suspect.features["explained"] >= 0.2:
        text = f"although {node_named(blamed.node)} left its usual before it, and it depends on that"
        found.append(Because("edge", text, blamed.sign.at, node=blamed.node))
    return found[:MOST_BECAUSE]


def told(sign: Sign) -> str:
    """What departed, in words; what is a part of its place or happens there is named."""
    if sign.happening is None:
        return moved(sign)
    held = f"; {sign.happening.holds}" if sign.happening.holds else ""
    named_ = f"{_KINDS[sign.thing.kind]} {sign.thing.name}: " if sign.thing.kind in NARROW else ""
    return f"{named_}{sign.happening.text}{held}"


_LESS = {
    "strength": "it went less far from its usual",
    "earlier": "more departed before it than after",
    "felt": "less of what it does reaches where this is felt",
    "explained": "another that it depends on departed before it",
    "sources": "it shows in fewer kinds of evidence",
    "only effects": "it only does less, as what is asked less of does",
    "follows": "less departed there soon after it",
    "narrower": "something narrower there departed before it",
    "takes": "fewer of those beside it wait since it took more",
    "share": "less of what is suffered there is its doing",
    "apart": "nothing else departed where it is",
}
MOST_LESS = 2
WORTH = 0.3
"""By how much, in log odds, one has to speak against it to be named."""


def less_likely(one: Suspect, first: Suspect) -> str:
    """Why one is less likely than the first: what weighs most against it beside that."""
    weighs = {name: OF[name] * (one.features[name] - first.features[name]) for name in _LESS}
    worst = sorted((weight, name) for name, weight in weighs.items() if weight < -WORTH)
    return " and ".join(_LESS[name] for _, name in worst[:MOST_LESS])
