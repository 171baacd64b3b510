"""What in a rule matches nothing, and what was probably meant."""

from __future__ import annotations

import difflib
from collections.abc import Iterable, Iterator

from balise.api.rules import RuleBody
from balise.core import filters
from balise.core.filters import Both, Compare, Either, Filter, Negated
from balise.server.hosts.directory import Directory
from balise.store.series.catalogue import Catalogue

OF_HOST = ("host", "name", "group")
CHEAP_NAMES = 5000
MOST_HELD = 200
MOST_KINDS, MOST_MEANT = 20, 1000
"""Kinds of names of which it is remembered what was probably meant, and names of each."""


class Doubts:
    """Looks at names, hosts and attributes in a rule's filters; answers sentences."""

    def __init__(self, *, catalogue: Catalogue, directory: Directory) -> None:
        self._catalogue = catalogue
        self._directory = directory
        self._version = -1
        self._held: dict[str, set[str]] = {}
        self._near: dict[str, tuple[tuple[str, ...], dict[str, str]]] = {}
        """By kind the names that there were, and what was probably meant by others."""

    def of(self, body: RuleBody) -> list[str]:
        """What matches nothing now. It may yet come: this is no error."""
        found: list[str] = []
        for part in body.measure.parts.values():
            metric = self._catalogue.metrics.get(part.metric)
            if metric is None:
                found.append(
                    f"no metric {part.metric} has arrived yet" + self._meant("", part.metric, self._catalogue.metrics)
                )
                continue
            known = {filters.fold_name(name) for name in metric.attributes}
            for attribute in sorted(_attributes([part.where])):
                if not _of_host(attribute) and attribute not in known:
                    found.append(f"no series of {part.metric} has {attribute}" + _nearest(attribute, known))
        measure = body.measure
        texts = [body.hosts, measure.events, measure.alerts, *(part.where for part in measure.parts.values())]
        for term in _terms(texts):
            found += self._of_term(term)
        return list(dict.fromkeys(found))[:10]

    def _meant(self, kind: str, name: str, known: Iterable[str]) -> str:
        """`_nearest` of the names of a kind: an attribute of hosts, or a metric where it is empty. Among thousands that
        takes a tenth of a second, so it is remembered as long as there are the same."""
        there = tuple(known)[:CHEAP_NAMES]
        before, said = self._near.get(kind, ((), {}))
        if there != before or len(said) >= MOST_MEANT:
            if len(self._near) >= MOST_KINDS:
                self._near.clear()
            said = {}
            self._near[kind] = there, said
        if name not in said:
            said[name] = _nearest(name, there)
        return said[name]

    def _of_term(self, term: Compare) -> Iterator[str]:
        name = filters.fold_name(term.attribute)
        if term.comparison != "eq" or not isinstance(term.value, str) or not _of_host(name):
            return
        held = self._values(name)
        if term.value not in held:
            named = "is called" if name in ("host", "name") else f"has {name}" if name != "group" else "is in the group"
            yield f"no host {named} {term.value}" + self._meant(name, term.value, held)

    def _values(self, name: str) -> set[str]:
        """What hosts have of an attribute; looked for once for each form of the fleet."""
        if self._version != self._directory.version:
            self._version = self._directory.version
            self._held.clear()
        if name not in self._held and len(self._held) < MOST_HELD:
            self._held[name] = self._look_for(name)
        return self._held.get(name) or self._look_for(name)

    def _look_for(self, name: str) -> set[str]:
        if name == "group":
            return set(self._directory.groups)
        found: set[str] = set()
        for known in self._directory.all():
            value = self._directory.attribute(known.id, name)
            found.update(str(one) for one in (value if isinstance(value, list | tuple) else [value]) if one is not None)
        return found


def _of_host(name: str) -> bool:
    return name in OF_HOST or name.startswith("label.")


def _attributes(texts: Iterable[str | None]) -> set[str]:
    return {name for text in texts if text for name in filters.attributes_of(filters.parse(text))}


def _terms(texts: Iterable[str | None]) -> Iterator[Compare]:
    for text in texts:
        if text:
            yield from _compared(filters.parse(text))


def _compared(node: Filter) -> Iterator[Compare]:
    if isinstance(node, Both | Either):
        yield from _compared(node.left)
        yield from _compared(node.right)
    elif isinstance(node, Negated):
        yield from _compared(node.inner)
    elif isinstance(node, Compare):
        yield node


def _nearest(name: str, known: Iterable[str]) -> str:
    """`; did you mean southquay?`, or nothing."""
    near = difflib.get_close_matches(name, list(known)[:CHEAP_NAMES], 1, 0.7)
    return f"; did you mean {near[0]}?" if near else ""
