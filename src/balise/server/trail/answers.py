"""The trail as it is answered."""

from __future__ import annotations

import math
from collections.abc import Callable, Collection, Mapping, Sequence

from balise.api.spans import rfc3339
from balise.api.trail import Because, Departure, Explained, LookedAt, SuspectThing, Trail, TrailSuspect
from balise.core.trail import trail as core
from balise.core.trail import words
from balise.core.trail.advice import advice_for
from balise.core.trail.evidence import Sign
from balise.core.trail.suspects import Effect, Suspect
from balise.core.trail.things import Node, Thing
from balise.server.trail import links
from balise.server.trail.gather import Gathered

MOST_DEPARTED, MOST_EXPLAINED = 200, 20
USUALLY = 3.0
"""Deviations on either side within which something mostly is."""
AdviceOf = Callable[[str], str]
"""What a rule on a metric advises; empty for none."""


def trail_answer(found: core.Trail, gathered: Gathered, *, now: float, seconds: float, advice: AdviceOf) -> Trail:
    """What was found, for people. `seconds` is how long it took altogether."""
    case = gathered.case
    suspects = [
        _suspect(rank, one, found.suspects[0].suspect, advice) for rank, one in enumerate(found.suspects, start=1)
    ]
    ranks: dict[Thing, int] = {}
    for rank, one in enumerate(found.suspects, start=1):
        ranks.setdefault(one.suspect.thing, rank)
    following = _following(found.suspects[0].suspect) if found.suspects else set()
    return Trail(
        sentence=found.sentence,
        sure=_short(found.sure),
        from_=rfc3339(case.start),
        to=rfc3339(case.end),
        made_at=rfc3339(now),
        suspects=suspects,
        departed=[_departure(sign, ranks, following) for sign in _shown(found.departed, ranks)],
        departed_count=len(found.departed),
        looked_at=LookedAt(
            hosts=gathered.hosts,
            series=gathered.series,
            events=gathered.events,
            left_out=gathered.left_out,
            seconds=round(seconds, 3),
        ),
        leaning={kind: _short(by) for kind, by in case.leaning.items() if by},
    )


def _shown(departed: Sequence[Sign], ranks: Mapping[Thing, int]) -> list[Sign]:
    """As many as are shown: those of suspects and those that went farthest, in the order in which they departed."""
    if len(departed) <= MOST_DEPARTED:
        return list(departed)
    by_weight = sorted(departed, key=lambda sign: (sign.thing not in ranks, not sign.worse, -sign.strength))
    return sorted(by_weight[:MOST_DEPARTED], key=lambda sign: sign.at)


def _suspect(rank: int, one: core.Ranked, first: Suspect, advice: AdviceOf) -> TrailSuspect:
    suspect = one.suspect
    thing = suspect.thing
    metrics = [sign.line.metric for sign in suspect.shown.signs if sign.line is not None]
    said = next((text for metric in metrics if (text := advice(metric))), "")
    return TrailSuspect(
        rank=rank,
        sure=_short(one.sure),
        thing=SuspectThing(kind=thing.kind, name=thing.name, host=thing.host or None, service=thing.service or None),
        title=words.named(thing),
        what=one.what,
        since=rfc3339(suspect.first.at),
        until=rfc3339(one.until) if one.until is not None else None,
        uncertainty_seconds=_short(suspect.first.uncertainty),
        explains=[_explained(effect) for effect in suspect.followed[:MOST_EXPLAINED]],
        because=[_because(reason, thing, suspect.first.at) for reason in one.because],
        advice=" ".join(filter(None, [advice_for(thing), said])),
        less=words.less_likely(suspect, first) if rank > 1 else "",
        measures={name: _short(value) for name, value in suspect.features.items()},
    )


def _explained(effect: Effect) -> Explained:
    return Explained(
        place=words.node_named(effect.node),
        text=words.does(effect.worst),
        at=rfc3339(effect.sign.at),
        likely_after=_short(effect.after),
        strength=_short(effect.way.strength),
    )


def _because(reason: words.Because, thing: Thing, at: float) -> Because:
    if reason.sign is not None:
        link = links.of_sign(reason.sign)
    else:
        host = reason.node[0] if reason.node else thing.host
        link = links.of_thing(Thing("host", host, host), reason.at or at)
    deviation = reason.deviation if reason.deviation is not None else math.nan
    return Because(
        kind=reason.kind,
        text=reason.text,
        at=rfc3339(reason.at) if reason.at is not None else None,
        deviation=None if math.isnan(deviation) else _short(deviation),
        link=link,
    )


def _following(first: Suspect) -> set[Node]:
    """The places that follow from the first suspect, and its own."""
    return {first.thing.node, (first.thing.host, ""), *(effect.node for effect in first.followed)}


def _departure(sign: Sign, ranks: Mapping[Thing, int], following: Collection[Node]) -> Departure:
    line = sign.line
    low, high = _usual(sign)
    return Departure(
        host=sign.thing.host or None,
        metric=line.metric if line is not None and line.metric else None,
        pattern=_pattern(sign),
        attributes=dict(line.attributes) if line is not None else {},
        text=words.told(sign),
        at=rfc3339(sign.at),
        uncertainty_seconds=_short(sign.uncertainty),
        deviation=None if math.isnan(sign.deviation) else _short(sign.deviation),
        kind=sign.sort,
        take=links.take_of(line) if line is not None and line.metric else None,
        usual_low=low,
        usual_high=high,
        of=ranks.get(sign.thing),
        follows=sign.thing.node in following,
        link=links.of_sign(sign),
    )


def _usual(sign: Sign) -> tuple[float | None, float | None]:
    """Between what it mostly was before; nothing for what has no line."""
    if sign.line is None or math.isnan(sign.before) or math.isnan(sign.varied):
        return None, None
    wide = USUALLY * sign.varied
    return sign.before - wide, sign.before + wide


def _pattern(sign: Sign) -> str | None:
    if sign.source != "pattern":
        return None
    return sign.line.about if sign.line is not None else sign.happening.text if sign.happening is not None else None


def _short(value: float) -> float:
    return round(float(value), 3)
