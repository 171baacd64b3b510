"""Which events a rule is about, and what each has of the rule's `each`."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from balise.api.events import SEVERITIES
from balise.api.rules import RuleBody
from balise.core import filters
from balise.core.events.new_event import NewEvent
from balise.core.filters import Both, Filter
from balise.core.moments import nanos, seconds_of
from balise.server.hosts.clocks import Clocks
from balise.server.hosts.directory import Directory
from balise.server.rules.event_feed import Found
from balise.store.events.pattern_book import PatternBook
from balise.store.events.words import WordMatch

CHEAP = frozenset({"host", "source", "severity", "group"})
MOST_REMEMBERED = 50_000


@dataclass(frozen=True)
class Said:
    """An event as rules look at it; what it has as attributes is read once, when the first of them asks."""

    event: NewEvent
    pattern: int
    id: str = ""

    @cached_property
    def attributes(self) -> dict[str, Any]:
        return filters.by_name(json.loads(self.event.attributes).items()) if self.event.attributes else {}


class Matching:
    """Compares events with one rule. What depends on host, source and severity alone is decided once for each."""

    def __init__(self, body: RuleBody, *, directory: Directory, clocks: Clocks, book: PatternBook) -> None:
        measure = body.measure
        self._directory = directory
        self._clocks = clocks
        self._book = book
        self._each = [(name, filters.fold_name(name)) for name in measure.each]
        self._of = filters.fold_name(measure.of) if measure.of else ""
        self._pattern = measure.pattern
        self._over = body.windows
        self._words = WordMatch(measure.text) if measure.text and measure.text.strip() else None
        self._hosts = filters.parse(body.hosts) if body.hosts else None
        terms = _terms(filters.parse(measure.events)) if measure.events else []
        self._cheap = [term for term in terms if _is_cheap(term)]
        self._other = [term for term in terms if not _is_cheap(term)]
        self._decided: dict[tuple[str, str, int], bool] = {}
        self._version = directory.version

    def found(self, said: Sequence[Said]) -> list[Found]:
        """Those that the rule is about."""
        if self._directory.version != self._version:
            self._decided.clear()
            self._version = self._directory.version
        return [one for event in said if (one := self._one(event)) is not None]

    def _one(self, said: Said) -> Found | None:
        event = said.event
        key = (event.host, event.source, event.severity)
        wanted = self._decided.get(key)
        if wanted is None:
            if len(self._decided) >= MOST_REMEMBERED:
                self._decided.clear()
            wanted = self._decided[key] = self._decide(said)
        if not wanted or (self._pattern == "new" and not self._is_new(said)):
            return None
        if self._words is not None and not self._words(event.body):
            return None
        lookup = self.lookup(said)
        if not all(filters.matches(term, lookup) for term in self._other):
            return None
        value = ""
        if self._of:
            held = lookup(self._of)
            if not filters.is_present(held):
                return None
            value = filters.text_of(held)
        values = {
            name: filters.text_of(held) for name, folded in self._each if filters.is_present(held := lookup(folded))
        }
        if len(values) < len(self._each):
            return None
        known = self._directory.find(event.host)
        host = known.id if known is not None else None
        # By our clock: of a host whose own is behind it happened later than it says.
        at = seconds_of(event.time) + (max(self._clocks.behind(host), 0.0) if host is not None else 0.0)
        return Found(at, values, host, value, id=said.id)

    def _decide(self, said: Said) -> bool:
        lookup = self.lookup(said)
        if not all(filters.matches(term, lookup) for term in self._cheap):
            return False
        hosts = self._hosts
        return hosts is None or filters.matches(hosts, lambda n: self._directory.attribute_of(said.event.host, n))

    def _is_new(self, said: Said) -> bool:
        """Whether the pattern of an event is younger than the rule looks back."""
        held = self._book.root(said.pattern)
        return held is not None and held.first_seen >= said.event.time - nanos(self._over)

    def lookup(self, said: Said) -> Callable[[str], Any]:
        """What a filter may ask of an event."""

        def of(name: str) -> Any:
            event = said.event
            if name == "severity":
                return SEVERITIES[event.severity]
            if name in ("host", "source", "body"):
                return getattr(event, name)
            if name == "pattern":
                held = self._book.root(said.pattern)
                return str(held.id if held is not None else said.pattern)
            if filters.is_of_host(name):
                found = self._directory.attribute_of(event.host, name)
                return found[0] if isinstance(found, list | tuple) and len(found) == 1 else found
            return said.attributes.get(name)

        return of


def _terms(node: Filter) -> list[Filter]:
    """What has to hold all together."""
    return [*_terms(node.left), *_terms(node.right)] if isinstance(node, Both) else [node]


def _is_cheap(node: Filter) -> bool:
    return all(name in CHEAP or name.startswith("label.") for name in filters.attributes_of(node))


def said_of(day: int, ids: Sequence[int], events: Sequence[NewEvent], patterns: Sequence[int]) -> list[Said]:
    """What was written to a day."""
    return [
        Said(event, pattern, f"{day}-{number}") for number, event, pattern in zip(ids, events, patterns, strict=True)
    ]
