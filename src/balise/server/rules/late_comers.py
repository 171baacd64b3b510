"""What came late to rules: breaches that had begun, and those that were over before anybody could know of them."""

from __future__ import annotations

import json
import logging
import math
import time
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass, field

from sqlalchemy import select
from sqlalchemy.exc import OperationalError
from sqlalchemy.orm import Session

from balise.api.rules import RuleBody
from balise.core.rules.late import Span, joined
from balise.core.rules.rehearsal import Breach
from balise.server.alerts.book import AlertBook, Turn
from balise.server.errors import Refused
from balise.server.plans.held import HeldPlans
from balise.server.rules.packed import packed, unpacked
from balise.server.rules.rehearsals import Rehearsals, Run
from balise.server.rules.watch import Watch
from balise.store.state.store import StateStore
from balise.store.state.tables import Rule, RuleLate

log = logging.getLogger(__name__)
SETTLED = 15.0
"""Seconds without more after which what came late is looked at."""
LONGEST = 90.0
"""Seconds after which it is looked at although there is more."""
TURN = 1.0
"""Seconds after which what is due is left for the next time."""
FARTHEST = 7 * 86_400.0
"""How far back it is looked, seconds."""
MOST_LEARNT = 5_000
"""Alerts that were, and are kept of one look."""
FEW_HOSTS = 50
KINDS = ("above", "below", "outside", "unusual", "first_seen")
"""Limits that may have been breached by what came late; where things go, and what is missing, is told of now."""


@dataclass
class _Waiting:
    """Of one rule: by the key of a group the time it is about, and when the first and the last of it came."""

    spans: dict[str, Span] = field(default_factory=dict)
    first: float = 0.0
    last: float = 0.0


class LateComers:
    """Plays rules over the time of which something came late. It delays nothing: it has a thread of its own.

    What is breached still goes on from when that began. What began and ended is kept as an alert that was, with its
    times; nobody is told of it, as it is over. It is written first what is to be looked at: a kill loses nothing.
    """

    def __init__(
        self, *, watch: Watch, rehearsals: Rehearsals, alerts: AlertBook, state: StateStore, plans: HeldPlans
    ) -> None:
        self._watch = watch
        self._rehearsals = rehearsals
        self._alerts = alerts
        self._state = state
        self._plans = plans
        rows = state.read(lambda s: list(s.scalars(select(RuleLate))))
        self._waiting = {row.rule: _Waiting(unpacked(row.content, _read) or {}) for row in rows}

    @property
    def waiting(self) -> int:
        """Rules to which something came late that was not looked at yet."""
        return len(self._waiting)

    def work(self, now: float) -> None:
        """Takes note of what came late, and looks at what is due."""
        self._collect(now)
        began, looked = time.perf_counter(), 0
        for name, waiting in list(self._waiting.items()):
            settled = now - waiting.last >= SETTLED or now - waiting.first >= LONGEST
            if not settled or (looked and time.perf_counter() - began > TURN):
                continue
            looked += 1
            try:
                self._look(name, waiting.spans, now)
            except Refused as error:
                log.warning("rule=%s what came late cannot be looked at: %s", name, error.detail)
            except OperationalError:
                raise
            except Exception:
                # One rule that fails holds up no other, nor itself for ever.
                log.exception("rule=%s what came late cannot be looked at", name)
            del self._waiting[name]
            self._state.write(lambda s, name=name: _forget(s, name))  # type: ignore[misc]

    def _collect(self, now: float) -> None:
        fresh: list[str] = []
        with self._watch.lock:
            for name, rule in self._watch.rules.items():
                spans = rule.late.take()
                if not spans or rule.kind not in KINDS or rule.alerts is not None:
                    continue
                waiting = self._waiting.setdefault(name, _Waiting(first=now))
                waiting.last = now
                for group, span in spans.items():
                    key = rule.groups[group].key
                    waiting.spans[key] = joined(waiting.spans.get(key), span)
                fresh.append(name)
        rows = [(name, packed(self._waiting[name].spans)) for name in fresh]
        if rows:
            self._state.write(lambda s: _keep(s, rows))

    def _look(self, name: str, spans: Mapping[str, Span], now: float) -> None:
        row = self._state.read(lambda s: s.get(Rule, name))
        rule = self._watch.rules.get(name)
        if row is None or rule is None:
            return
        before = rule.over + max(rule.holds, default=0.0)
        # A rule has found nothing before it was there, in this form.
        since = max(now - FARTHEST, row.updated_at)
        spans = {key: span for key, span in spans.items() if span[1] + before > since}
        if not spans:
            return
        start = max(min(first for first, _ in spans.values()) - before, since)
        body = self._narrowed(rule.body, spans)
        run = self._rehearsals.played(body, start, now, lambda _rule, host: self._plans.limits_of(name, host))
        mine = [b for b in run.breaches if _concerns(b, run, spans, before)]
        over = [(_turn(name, rule.body, run, b), b.recovered_at) for b in mine if b.recovered_at is not None]
        if len(over) > MOST_LEARNT:
            log.warning("rule=%s of %d breaches that were over, the last %d are kept", name, len(over), MOST_LEARNT)
        self._alerts.learn(over[-MOST_LEARNT:], now)
        self._go_on(name, run, spans)

    def _narrowed(self, body: RuleBody, spans: Mapping[str, Span]) -> RuleBody:
        """The rule for those hosts alone that something came late of, if they are few and no group is of several."""
        hosts = sorted({str(json.loads(key).get("host", "")) for key in spans})
        if "host" not in body.measure.each or len(hosts) > FEW_HOSTS or not all(hosts):
            return body
        some = " or ".join(f"host eq {json.dumps(host, ensure_ascii=False)}" for host in hosts)
        return body.model_copy(update={"hosts": f"({body.hosts}) and ({some})" if body.hosts else some})

    def _go_on(self, name: str, run: Run, keys: Iterable[str]) -> None:
        """What is breached now has been since it began by what is known by now."""
        with self._watch.lock:
            rule = self._watch.rules.get(name)
            if rule is None:
                return
            for key in keys:
                number, played = rule.groups.numbers.get(key), run.rule.groups.numbers.get(key)
                if number is not None and played is not None and not rule.machine.level[number]:
                    since = zip(rule.machine.breaches_of(number), run.rule.machine.breaches_of(played), strict=True)
                    rule.machine.resume(number, [_earlier(*pair) for pair in since])


def _concerns(breach: Breach, run: Run, spans: Mapping[str, Span], before: float) -> bool:
    """Whether what came late may have made a breach."""
    span = spans.get(run.rule.groups[breach.group].key)
    if span is None:
        return False
    return breach.opened_at <= span[1] + before and (breach.recovered_at or math.inf) >= span[0]


def _turn(name: str, body: RuleBody, run: Run, breach: Breach) -> Turn:
    group = run.rule.groups[breach.group]
    return Turn(
        rule=name,
        body=body,
        unit=run.rule.told_unit,
        key=group.key,
        host=group.host,
        host_name=group.host_name,
        attributes=group.attributes,
        level=breach.level,
        value=breach.worst_value,
        bound=breach.bound,
        since=breach.opened_at,
        worse=max,
    )


def _earlier(own: float, found: float) -> float:
    """Since when a breach has been that is one now; NaN for none, as far as is known by now."""
    return own if math.isnan(own) or math.isnan(found) else min(own, found)


def _keep(session: Session, rows: Sequence[tuple[str, bytes]]) -> None:
    there = set(session.scalars(select(Rule.name).where(Rule.name.in_([name for name, _ in rows]))))
    for name, content in rows:
        if name in there:
            session.merge(RuleLate(rule=name, content=content))


def _forget(session: Session, name: str) -> None:
    row = session.get(RuleLate, name)
    if row is not None:
        session.delete(row)


def _read(told: dict[str, list[float]]) -> dict[str, Span]:
    return {str(key): (float(start), float(end)) for key, (start, end) in told.items()}
