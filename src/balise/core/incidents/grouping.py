"""Which alerts are one incident, and which of them is the cause of which. Times are unix seconds."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from itertools import islice
from typing import Any

from balise.core.incidents.around import Around, Breached, Node

WINDOW, LONGEST = 300.0, 1800.0
"""Seconds after the last of an incident's alerts within which another belongs to it: half as long as it has gone on, in
these bounds."""
AT_ONCE = 120.0
FEW = 3
"""Alerts of one thing that are looked at: those before them are together with them."""
MANY = 3
"""The same rule on so many hosts within `AT_ONCE` seconds is one thing."""


@dataclass(frozen=True)
class Placed:
    """Where an alert belongs: its incident and why, and under which other alert it is held and why, if it is.

    `joined` are incidents that are part of this one from now on; `held` are alerts that were there and are held under
    this one from now on, with the reason.
    """

    incident: int
    is_new: bool
    why: str
    held_under: int | None = None
    why_held: str = ""
    joined: tuple[int, ...] = ()
    held: dict[int, str] = field(default_factory=dict)


@dataclass
class _Incident:
    number: int
    begun: float
    last: float
    members: set[int] = field(default_factory=set)

    def takes(self, at: float) -> bool:
        """Whether it is near enough in time for an alert that opened then."""
        return self.begun - LONGEST <= at and at - self.last <= min(max(WINDOW, (at - self.begun) / 2), LONGEST)


class _Recent:
    """The alerts of one rule that opened lately: the last of each host, in order of time as they came."""

    def __init__(self) -> None:
        self.of_host: dict[str, int] = {}
        self.are_many = False
        self._opened: deque[tuple[float, str, int]] = deque()

    def add(self, alert: Breached) -> None:
        self.of_host.pop(alert.host, None)
        self.of_host[alert.host] = alert.number
        self._opened.append((alert.opened_at, alert.host, alert.number))
        self.are_many = len(self.of_host) >= MANY

    def forget_before(self, at: float) -> None:
        while self._opened and self._opened[0][0] < at:
            _, host, number = self._opened.popleft()
            self._drop(host, number)

    def without(self, alert: Breached) -> bool:
        """Forgets one; answers whether any is left."""
        self._drop(alert.host, alert.number)
        return bool(self.of_host)

    def _drop(self, host: str, number: int) -> None:
        if self.of_host.get(host) == number:
            del self.of_host[host]
            self.are_many = len(self.of_host) >= MANY


@dataclass(frozen=True)
class _Link:
    """A reason to be together with another alert; `up` when that is the cause, `down` when it is caused by this one."""

    other: int
    why: str
    up: bool = False
    down: bool = False


class Grouping:
    """The open incidents with their alerts. Whoever keeps them hands in each alert as it opens, in any order."""

    def __init__(self, around: Around, new: Callable[[Breached], int]) -> None:
        """`new` answers the number of the incident that an alert without others opens, or opens again."""
        self._around = around
        self._new = new
        self._alerts: dict[int, Breached] = {}
        self._incident_of: dict[int, int] = {}
        self._incidents: dict[int, _Incident] = {}
        self._held: dict[int, int] = {}
        self._places: dict[int, list[tuple[dict[Any, list[int]], Any]]] = {}
        """Where each alert is found again."""
        self._at: dict[Node, list[int]] = {}
        self._on: dict[str, list[int]] = {}
        self._waiting: dict[Node, list[int]] = {}
        """By node the alerts of whatever needs it."""
        self._guests: dict[str, list[int]] = {}
        """By host the alerts of the virtual machines on it."""
        self._silent: dict[tuple[str, str], list[int]] = {}
        self._probes: dict[str, list[int]] = {}
        self._rules: dict[str, _Recent] = {}
        self._apart: dict[int, set[int]] = {}
        """By incident those that somebody has parted from it: no link joins them again."""

    # --- what is there

    def incident_of(self, alert: int) -> int | None:
        return self._incident_of.get(alert)

    def held_under(self, alert: int) -> int | None:
        return self._held.get(alert)

    def incidents(self) -> list[int]:
        """The numbers of those that are open."""
        return list(self._incidents)

    def members(self, incident: int) -> set[int]:
        """The alerts of an incident; none when there is no such open one."""
        held = self._incidents.get(incident)
        return set(held.members) if held is not None else set()

    # --- an alert opens

    def place(self, alert: Breached) -> Placed:
        """Puts an alert where it belongs."""
        links = [link for link in self._links(alert) if self._is_near(link.other, alert.opened_at)]
        numbers = sorted({self._incident_of[link.other] for link in links})
        is_new = not numbers
        chosen = self._incidents[numbers[0]] if numbers else self._opened(self._new(alert), alert.opened_at)
        apart = self._apart.get(chosen.number, set())
        joined = tuple(number for number in numbers[1:] if number not in apart)
        for number in joined:
            self.join(chosen.number, number)
        links = [link for link in links if self._incident_of[link.other] == chosen.number]
        self._enter(alert, chosen)
        under, why_held = self._cause(alert, links)
        held = self._caused(links, self._chain(under))
        for other in held:
            self._held[other] = alert.number
        if under is not None:
            self._held[alert.number] = under
        why = links[0].why if links else "nothing else is wrong near it"
        return Placed(chosen.number, is_new, why, under, why_held, joined, held)

    def _cause(self, alert: Breached, links: Iterable[_Link]) -> tuple[int | None, str]:
        """The alert that is the cause of one: of several the one that has none itself, the oldest first."""
        up = [link for link in links if link.up]
        if not up:
            return None, ""
        best = min(up, key=lambda link: (link.other in self._held, self._alerts[link.other].opened_at, link.other))
        return best.other, best.why

    def _caused(self, links: Iterable[_Link], causes: set[int]) -> dict[int, str]:
        """The alerts that a new one is the cause of, with the reason: not those that are its own cause, nor those whose
        cause is known already, unless that is caused by the new one as well."""
        down = {link.other: link.why for link in links if link.down and link.other not in causes}
        return {other: why for other, why in down.items() if self._held.get(other, other) in down}

    def _chain(self, alert: int | None) -> set[int]:
        """An alert and all that it is held under."""
        found: set[int] = set()
        while alert is not None and alert not in found:
            found.add(alert)
            alert = self._held.get(alert)
        return found

    def _is_near(self, other: int, at: float) -> bool:
        held = self._incidents.get(self._incident_of.get(other, -1))
        return held is not None and held.takes(at)

    def _opened(self, number: int, at: float) -> _Incident:
        return self._incidents.setdefault(number, _Incident(number, at, at))

    # --- by hand, and after a start

    def restore(self, incident: int, apart: Iterable[int], alerts: Iterable[tuple[Breached, int | None]]) -> None:
        """Takes in an incident as it was kept, each alert with the one that it is held under."""
        for number in apart:
            self._keep_apart(incident, number)
        for alert, under in alerts:
            self._enter(alert, self._opened(incident, alert.opened_at))
            if under is not None:
                self._held[alert.number] = under

    def join(self, incident: int, other: int) -> None:
        """From now on all alerts of another incident are of this one."""
        gone = self._incidents.pop(other, None)
        if gone is None:
            return
        for number in self._apart.pop(other, set()) - {incident}:
            self._apart[number].discard(other)
            self._keep_apart(incident, number)
        self._apart.get(incident, set()).discard(other)
        self._merge(self._opened(incident, gone.begun), gone)

    def hold_again(self, incident: int) -> dict[int, tuple[int, str]]:
        """Where incidents were joined by hand, one of their alerts may be the cause of another: those that are held
        under none are looked at anew. Answers under what each is held from now on, and why."""
        found: dict[int, tuple[int, str]] = {}
        held = self._incidents.get(incident)
        loose = [self._alerts[n] for n in (held.members if held is not None else ()) if n not in self._held]
        for alert in sorted(loose, key=lambda one: (one.opened_at, one.number)):
            here = (link for link in self._links(alert) if self._incident_of[link.other] == incident)
            links = [link for link in here if alert.number not in self._chain(link.other)]
            under, why = self._cause(alert, links)
            if under is not None:
                self._held[alert.number] = under
                found[alert.number] = (under, why)
        return found

    def part(self, incident: int, number: int, alerts: Iterable[int]) -> None:
        """Some alerts of an incident are one of their own from now on, with a new number."""
        mine = self._incidents[incident]
        for alert in sorted(set(alerts) & mine.members):
            one = self._alerts[alert]
            mine.members.discard(alert)
            other = self._opened(number, one.opened_at)
            other.members.add(alert)
            other.begun, other.last = min(other.begun, one.opened_at), max(other.last, one.opened_at)
            self._incident_of[alert] = number
        for alert, under in list(self._held.items()):
            if self._incident_of.get(alert) != self._incident_of.get(under):
                del self._held[alert]
        self._keep_apart(incident, number)

    def _keep_apart(self, one: int, other: int) -> None:
        self._apart.setdefault(one, set()).add(other)
        self._apart.setdefault(other, set()).add(one)

    def _merge(self, into: _Incident, other: _Incident) -> None:
        for member in other.members:
            self._incident_of[member] = into.number
        into.members |= other.members
        into.begun, into.last = min(into.begun, other.begun), max(into.last, other.last)

    # --- what belongs together

    def _links(self, alert: Breached) -> Iterator[_Link]:
        """The reasons to be together with others, the strongest first."""
        yield from self._by_needs(alert)
        yield from self._by_machine(alert)
        yield from self._by_host(alert)
        yield from self._by_silence(alert)
        yield from self._by_probe(alert)
        yield from self._by_rule(alert)

    def _by_needs(self, alert: Breached) -> Iterator[_Link]:
        if not alert.host:
            return
        for node in self._around.needs(alert.node):
            for other in self._at.get(node, ()):
                yield _Link(other, f"{_named(alert.node)} needs {_named(node)}", up=True)
        for other in self._waiting.get(alert.node, ()):
            yield _Link(other, f"{_named(self._alerts[other].node)} needs {_named(alert.node)}", down=True)

    def _by_machine(self, alert: Breached) -> Iterator[_Link]:
        if not alert.host:
            return
        machine = self._around.machine(alert.host)
        for other in self._on.get(machine, ()) if machine else ():
            yield _Link(other, f"{alert.host} runs on {machine}", up=True)
        for other in self._guests.get(alert.host, ()):
            yield _Link(other, f"{self._alerts[other].host} runs on {alert.host}", down=True)

    def _by_host(self, alert: Breached) -> Iterator[_Link]:
        mine = self._on.get(alert.host, []) if alert.host else []
        # Those before are together already, unless long ago: the first of them that are silent, and the last.
        chosen = [n for n in mine[:FEW] if self._alerts[n].silence] + mine[-FEW:]
        for other in dict.fromkeys(chosen):
            before = self._alerts[other]
            # A probe fails because its host is gone, whichever was noticed first.
            probed = alert.silence and bool(before.probe)
            yield _Link(other, f"on {alert.host} as well", up=before.silence and not alert.silence, down=probed)

    def _by_silence(self, alert: Breached) -> Iterator[_Link]:
        for kind, name in (("site", alert.site), ("relay", alert.relay)):
            if alert.silence and name and self._around.all_silent(kind, name):
                for other in self._silent.get((kind, name), [])[:1]:
                    yield _Link(other, f"nothing is heard of the whole {kind} {name}", up=True)
                for other in self._silent.get((kind, name), [])[1:][-FEW:]:
                    yield _Link(other, f"nothing is heard of the whole {kind} {name}")

    def _by_probe(self, alert: Breached) -> Iterator[_Link]:
        mine = self._probes.get(alert.probe, []) if alert.probe else []
        for other in dict.fromkeys([*mine[:1], *mine[-FEW:]]):
            yield _Link(other, f"the probe {alert.probe} fails from several places", up=other == mine[0])

    def _by_rule(self, alert: Breached) -> Iterator[_Link]:
        recent = self._rules.setdefault(alert.rule, _Recent())
        recent.forget_before(alert.opened_at - AT_ONCE)
        hosts = len(recent.of_host) + (alert.host not in recent.of_host)
        if hosts >= MANY:
            # Once they are many, those before are together already.
            others = reversed(recent.of_host.values())
            for other in islice(others, 1 if recent.are_many else None):
                yield _Link(other, f"{alert.rule} on {hosts} hosts at once")

    # --- keeping

    def _enter(self, alert: Breached, incident: _Incident) -> None:
        number = alert.number
        self._alerts[number] = alert
        self._incident_of[number] = incident.number
        incident.members.add(number)
        incident.begun, incident.last = min(incident.begun, alert.opened_at), max(incident.last, alert.opened_at)
        self._places[number] = list(self._places_of(alert))
        for held, key in self._places[number]:
            held.setdefault(key, []).append(number)
        self._rules.setdefault(alert.rule, _Recent()).add(alert)

    def _places_of(self, alert: Breached) -> Iterator[tuple[dict[Any, list[int]], Any]]:
        """Where an alert has to be found again: which table, and under what."""
        if alert.host:
            yield self._at, alert.node
            yield self._on, alert.host
            for node in self._around.needs(alert.node):
                yield self._waiting, node
            if machine := self._around.machine(alert.host):
                yield self._guests, machine
        if alert.silence:
            for kind, name in (("site", alert.site), ("relay", alert.relay)):
                if name:
                    yield self._silent, (kind, name)
        if alert.probe:
            yield self._probes, alert.probe

    def leave(self, alert: int) -> None:
        """An alert is over for good: nothing that opens belongs to it any more. An incident without alerts ends."""
        one = self._alerts.pop(alert, None)
        if one is None:
            return
        incident = self._incidents[self._incident_of.pop(alert)]
        incident.members.discard(alert)
        if not incident.members:
            del self._incidents[incident.number]
            for number in self._apart.pop(incident.number, ()):
                self._apart[number].discard(incident.number)
        self._held.pop(alert, None)
        for held, key in self._places.pop(alert):
            held[key].remove(alert)
            if not held[key]:
                del held[key]
        recent = self._rules.get(one.rule)
        if recent is not None and not recent.without(one):
            del self._rules[one.rule]


def _named(node: Node) -> str:
    host, service = node
    return f"{service} on {host}" if service else host
