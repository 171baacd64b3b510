"""Rules about alerts: which rule may feed which, and that none feeds itself."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from balise.api.rules import RuleBody
from balise.core import filters
from balise.core.filters import Both, Compare, Either, Filter, Negated, Present

Outcomes = frozenset[bool]
EITHER: Outcomes = frozenset((True, False))


def may_feed(name: str, body: RuleBody, where: Filter) -> bool:
    """Whether an alert of a rule might pass a filter, as far as that can be known of the rule alone."""
    levels = (("warning", body.limits.warning), ("critical", body.limits.critical))
    facts: dict[str, list[Any]] = {
        "rule": [name],
        "severity": [severity for severity, limit in levels if limit is not None],
        "metric": [body.measure.metric],
        "kind": [body.limits.kind],
        "state": ["open"],
    }
    return True in _outcomes(where, facts)


def _outcomes(node: Filter, facts: Mapping[str, list[Any]]) -> Outcomes:
    if isinstance(node, Both | Either):
        join = all if isinstance(node, Both) else any
        left, right = _outcomes(node.left, facts), _outcomes(node.right, facts)
        return frozenset(join((a, b)) for a in left for b in right)
    if isinstance(node, Negated):
        return frozenset(not outcome for outcome in _outcomes(node.inner, facts))
    return _of_term(node, facts)


def _of_term(term: Compare | Present, facts: Mapping[str, list[Any]]) -> Outcomes:
    values = facts.get(filters.fold_name(term.attribute))
    if values is None:
        return EITHER
    return frozenset(filters.matches(term, lambda _name, value=value: value) for value in values)  # type: ignore[misc]


def feeders(rules: Mapping[str, RuleBody]) -> dict[str, list[str]]:
    """Of each rule about alerts, the rules about alerts whose alerts it may count."""
    about = {name: body for name, body in rules.items() if body.measure.alerts is not None}
    wheres = {name: filters.parse(body.measure.alerts or "") for name, body in about.items()}
    return {name: [other for other, body in about.items() if may_feed(other, body, wheres[name])] for name in about}


def ring_of(name: str, rules: Mapping[str, RuleBody]) -> list[str] | None:
    """The rules by which a rule would feed itself, from it back to it; None when it does not."""
    feeds = feeders(rules)
    seen: set[str] = set()
    ways = [[name]]
    while ways:
        way = ways.pop()
        for other in feeds.get(way[-1], ()):
            if other == name:
                return [*way, name]
            if other not in seen:
                seen.add(other)
                ways.append([*way, other])
    return None


def in_turn(rules: Mapping[str, RuleBody]) -> list[str]:
    """Rules about alerts in an order in which each comes after those that it counts."""
    feeds = feeders(rules)
    order: list[str] = []
    waiting = dict(feeds)
    while waiting:
        ready = [
            name for name, others in waiting.items() if not any(other in waiting and other != name for other in others)
        ]
        # There are no rings; if an older version kept one, it must not stop the others.
        for name in ready or list(waiting):
            order.append(name)
            del waiting[name]
    return order
