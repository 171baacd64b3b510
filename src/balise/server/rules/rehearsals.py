"""Rehearsing a rule: what it would have done over the stored history, and which limits would suit."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import datetime, tzinfo

import numpy as np
from numpy.typing import NDArray

from balise.api.limits import Limit, Limits
from balise.api.rules import Compared, HostOpened, Line, Points, Rehearsal, RehearsedAlert, RuleBody, Suggestion
from balise.core.rules.kinds.unusual import Unusual
from balise.core.rules.limits import LEVEL_NAMES, WARNING
from balise.core.rules.look import Look
from balise.core.rules.rehearsal import Breach, Rehearsing
from balise.core.rules.suggesting import suggested
from balise.server.errors import bad_field
from balise.server.hosts.directory import Directory
from balise.server.metrics.questions import Metrics, plain
from balise.server.rules.playing import Played, Playing
from balise.server.rules.watched import LimitsOf, Watched
from balise.store.series.catalogue import Catalogue

F64 = NDArray[np.float64]
MOST_REHEARSED = 500
MOST_LINES, MOST_SHOWN = 5, 400
MOST_KEPT = 6_000_000
"""Values that are kept for lines and suggestions."""
MOST_MOMENTS = 3000
"""Moments that suggestions look at."""
DAY = 86_400.0


@dataclass
class Run:
    """What came of playing a rule: its breaches, and some of what was measured."""

    rule: Watched
    breaches: list[Breach]
    how: Played
    end: float
    times: list[float] = field(default_factory=list)
    values: list[F64] = field(default_factory=list)
    bands: list[tuple[F64, F64]] = field(default_factory=list)

    @property
    def open_seconds(self) -> float:
        return sum((breach.recovered_at or self.end) - breach.opened_at for breach in self.breaches)

    def shown(self) -> F64:
        """What was kept, [groups, times]."""
        out = np.full((len(self.rule.groups), len(self.values)), np.nan)
        for i, values in enumerate(self.values):
            out[: len(values), i] = values
        return out


class Rehearsals:
    """Finds when a rule would have opened. `zone` is where the hours of the week are those on the wall."""

    def __init__(
        self,
        *,
        catalogue: Catalogue,
        metrics: Metrics,
        directory: Directory,
        playing: Playing,
        zone: tzinfo,
        absences: Callable[[], Sequence[tuple[float, float]]],
    ) -> None:
        self._absences = absences
        self._catalogue = catalogue
        self._metrics = metrics
        self._directory = directory
        self._playing = playing
        self._zone = zone

    def run(
        self, body: RuleBody, start: float, end: float, limits_of: LimitsOf, in_force: RuleBody | None = None
    ) -> Rehearsal:
        """The rule over [start, end), unix seconds, beside the one that is in force.

        As far back as single points are kept it is asked at moments `step_seconds` apart with the very windows that it
        has at work; for longer spans the steps that are kept have to do.
        """
        run = self.played(body, start, end, limits_of)
        compared = None
        if in_force is not None:
            before = run if _same(in_force, body) else self.played(in_force, start, end, limits_of)
            compared = _compared(before, run)
        return self._answer(run, start, end, compared)

    def totals(
        self, body: RuleBody, start: float, end: float, limits_of: LimitsOf, hosts: set[int]
    ) -> tuple[int, float, list[str]]:
        """How often the rule would have opened on some hosts, for how many seconds all together, and what could not be
        known of that."""
        run = self.played(body, start, end, limits_of, shown=1)
        mine = [breach for breach in run.breaches if run.rule.groups[breach.group].host in hosts]
        return len(mine), sum((breach.recovered_at or end) - breach.opened_at for breach in mine), run.how.notes

    def made(self, body: RuleBody, limits_of: LimitsOf) -> Watched:
        """A rule with its groups, not at work."""
        rule = Watched(
            "",
            body,
            catalogue=self._catalogue,
            directory=self._directory,
            limits_of=limits_of,
            absences=self._absences(),
        )
        for part in body.measure.parts.values():
            if self._metrics.metric(part.metric) is None:
                raise bad_field("rule.measure.metric", f"no metric {part.metric!r} has arrived yet")
        rule.find_series()
        return rule

    def played(self, body: RuleBody, start: float, end: float, limits_of: LimitsOf, shown: int = MOST_SHOWN) -> Run:
        """The rule over [start, end), unix seconds: its breaches, and about `shown` moments of what was measured."""
        rule = self.made(body, limits_of)
        how = Played()
        rehearsing = Rehearsing(rule.machine, _worse(rule))
        run = Run(rule, [], how, end)
        kept_at = -math.inf
        every = (end - start) / max(1, min(shown, MOST_KEPT // max(1, len(rule.groups))))
        for at, look in self._playing.play(rule, start, end, how):
            values = look.quiet if rule.kind == "missing_for" and look.quiet is not None else look.values
            rehearsing.take(at, look, values)
            if at - kept_at >= every - 1e-6:
                kept_at = at
                run.times.append(at)
                run.values.append(values.copy())
                run.bands.append(_band(rule, look))
        run.breaches = rehearsing.breaches()
        return run

    def _answer(self, run: Run, start: float, end: float, compared: Compared | None) -> Rehearsal:
        rule = run.rule
        items = [
            RehearsedAlert(
                host=rule.groups[breach.group].host_name,
                attributes=rule.groups[breach.group].attributes,
                severity=LEVEL_NAMES[breach.level],
                opened_at=breach.opened_at,
                recovered_at=breach.recovered_at,
                worst_value=breach.worst_value if math.isfinite(breach.worst_value) else 0.0,
            )
            for breach in run.breaches
        ]
        hosts = Counter(item.host for item in items if item.host)
        return Rehearsal(
            groups=len(rule.groups),
            step_seconds=run.how.step,
            unit=rule.told_unit,
            items=items[-MOST_REHEARSED:],
            left_out=max(0, len(items) - MOST_REHEARSED),
            opened=len(items),
            a_day=len(items) / max((end - start) / DAY, 1e-9),
            open_seconds=run.open_seconds,
            by_hour=self._by_hour([item.opened_at for item in items]),
            hosts=[HostOpened(host=host, opened=count) for host, count in hosts.most_common(10)],
            compared=compared,
            points=_points(run),
            notes=list(dict.fromkeys(run.how.notes)),
        )

    def _by_hour(self, opened: Sequence[float]) -> list[int]:
        counts = [0] * 168
        for at in opened:
            there = datetime.fromtimestamp(at, self._zone)
            counts[there.weekday() * 24 + there.hour] += 1
        return counts

    # --- which limits would suit

    def suggest(
        self, body: RuleBody, start: float, end: float, at_most_a_week: float, limits_of: LimitsOf
    ) -> Suggestion:
        """Limits that would have opened no more often than `at_most_a_week`, and critical ones a quarter as often.

        Raises Refused 422 for limits that are no number.
        """
        if body.limits.kind not in ("above", "below", "unusual"):
            raise bad_field("rule.limits", "limits are suggested of above, below and unusual: choose such a one")
        open_limits = body.model_copy(update={"limits": _never(body.limits)})
        run = self.played(open_limits, start, end, limits_of, shown=MOST_MOMENTS)
        values = run.shown()
        sign = -1.0 if body.limits.kind == "below" else 1.0
        if body.limits.kind == "unusual":
            values = _deviations(run, body.limits.any)
        hold = max(run.rule.holds, default=0.0)
        weeks = max((end - start) / (7 * DAY), 1e-9)
        found = suggested(np.array(run.times), sign * values, hold, at_most_a_week * weeks, at_most_a_week * weeks / 4)
        if found is None:
            raise bad_field("from", "nothing was measured in the span: take another one")
        warning, critical = (_limit(body.limits, sign * bound) for bound in (found.warning, found.critical))
        known = sign * values[~np.isnan(values)]
        ranks = {"middle": 0.5, "p90": 0.9, "p99": 0.99, "p99.9": 0.999, "worst": 1.0}
        return Suggestion(
            warning=warning,
            critical=critical if critical != warning else None,
            would_open=found.opened,
            separates=found.separates,
            values={name: float(sign * np.quantile(known, rank)) for name, rank in ranks.items()},
            unit=run.rule.unit,
        )


def _same(one: RuleBody, other: RuleBody) -> bool:
    keys = {"hosts", "measure", "limits"}
    return one.model_dump(include=keys) == other.model_dump(include=keys)


def _compared(before: Run, now: Run) -> Compared:
    return Compared(
        opened=len(before.breaches),
        open_seconds=before.open_seconds,
        groups=len({breach.group for breach in before.breaches}),
        same=sum(any(_overlap(before, one, now, other) for other in now.breaches) for one in before.breaches),
    )


def _overlap(before: Run, one: Breach, now: Run, other: Breach) -> bool:
    if before.rule.groups[one.group].key != now.rule.groups[other.group].key:
        return False
    ends = (one.recovered_at or math.inf), (other.recovered_at or math.inf)
    return one.opened_at <= ends[1] and other.opened_at <= ends[0]


def _worse(rule: Watched) -> Callable[[float, float], float]:
    """The worse of two values of any group, as far as that does not depend on the hour."""
    return rule.worse(Look(np.empty(0)), 0)


def _band(rule: Watched, look: Look) -> tuple[F64, F64]:
    kind = rule.machine.kind(WARNING) or rule.machine.kind(2)
    if look.usual is None or not isinstance(kind, Unusual):
        return np.empty(0), np.empty(0)
    width = kind.widths(look.usual)
    return look.usual.middle - width, look.usual.middle + width


def _points(run: Run) -> Points | None:
    """The lines of the groups that were open longest, else of those that were nearest to it."""
    if not run.times:
        return None
    values = run.shown()
    open_for: dict[int, float] = {}
    for breach in run.breaches:
        stayed = 1 + (breach.recovered_at or run.times[-1]) - breach.opened_at
        open_for[breach.group] = open_for.get(breach.group, 0.0) + stayed
    chosen = sorted(open_for, key=lambda group: -open_for[group])[:MOST_LINES]
    with np.errstate(all="ignore"):
        highest = np.nan_to_num(np.fmax.reduce(values, axis=1) if values.size else np.empty(0), nan=-np.inf)
    sign = -1.0 if _worse(run.rule) is min else 1.0
    rest = [int(group) for group in np.argsort(-sign * highest, kind="stable") if int(group) not in chosen]
    chosen += rest[: max(0, MOST_LINES - len(chosen))]
    banded = bool(run.bands and len(run.bands[0][0]))
    lines = []
    for group in chosen:
        low, high = (
            [plain(np.array([band[side][group] if group < len(band[side]) else np.nan]))[0] for band in run.bands]
            if banded
            else None
            for side in (0, 1)
        )
        one = run.rule.groups[group]
        lines.append(
            Line(host=one.host_name, attributes=one.attributes, values=plain(values[group]), low=low, high=high)
        )
    return Points(times=run.times, lines=lines)


def _never(limits: Limits) -> Limits:
    """Limits of the same kind that nothing reaches."""
    limit = limits.any
    if limit.kind == "unusual":
        return Limits(warning=Limit(unusual=100, side=limit.side, by=limit.by, hold=limit.hold))
    far = {"above": 1e300} if limit.kind == "above" else {"below": -1e300}
    return Limits(warning=Limit(**far, hold=limit.hold))  # type: ignore[arg-type]


def _deviations(run: Run, limit: Limit) -> F64:
    """By how many deviations each value was unusual [groups, times]; the bands of the run are 100 wide."""
    out = np.full((len(run.rule.groups), len(run.values)), np.nan)
    for i, (values, (low, high)) in enumerate(zip(run.values, run.bands, strict=True)):
        count = min(len(values), len(low))
        middle, spread = (low[:count] + high[:count]) / 2, (high[:count] - low[:count]) / 200
        away = values[:count] - middle
        away = away if limit.side == "above" else -away if limit.side == "below" else np.abs(away)
        with np.errstate(all="ignore"):
            out[:count, i] = np.where(away > (limit.by or 0.0), away / spread, 0.0)
    return np.where(np.isfinite(out), out, np.nan)


def _limit(limits: Limits, bound: float) -> Limit:
    limit = limits.any
    said: dict[str, object] = {limit.kind: min(max(bound, 0.5), 100.0) if limit.kind == "unusual" else bound}
    if limit.kind == "unusual":
        said |= {"side": limit.side, "by": limit.by}
    return Limit.model_validate({**said, "hold": limit.hold})
