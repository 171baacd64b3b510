"""What a rule measures: the windows of its series put together into one value for each group.

The same for the rules at work and for rehearsals, and by the same definitions as a metric question with one step.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from balise.api.metrics import Take
from balise.core.rules.room import Room
from balise.core.rules.windows import Windows, kinds_of
from balise.core.series.combine import combine, combine_growth, combine_rates
from balise.core.series.growth import told_growth
from balise.core.series.percentiles import QUANTILES, bucket_of, bucket_percentiles, percentiles_by, with_lower_bounds
from balise.core.series.portions import distinct, has_any
from balise.core.series.wire import PointKind

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
Mask = NDArray[np.bool_]
GROUPS_AT_ONCE = 4096
"""Groups whose points are looked at together."""
MANY = 4
"""Where more than one series in so many changed, all groups are worked out."""
OUT = -1
"""The group of a series that no longer belongs to the rule."""


@dataclass(frozen=True)
class Row:
    """One series of a rule: its group, and for a part of a histogram which histogram it belongs to."""

    kind: PointKind
    group: int
    part: str = ""
    family: object = None


class Measuring:
    """Series as rows, groups as numbers from 0 up. Times are unix seconds."""

    def __init__(self, take: Take, over: float) -> None:
        self._take = take
        self.windows = Windows(over, take)
        self._of_parts = False
        self._rows: list[Row] = []
        """Of a histogram or summary, its parts; of all else nothing, as what a row is stands in the arrays."""
        self.group_of = np.empty(0, np.int64)
        self._room = Room({"group_of": OUT})
        self.groups = 0
        self._regrouped = True
        self._known = np.empty(0)
        """What each group was when it was worked out last."""
        self._stale = True
        """Whether that is to be worked out anew for all of them, as more changed than the points of some."""
        self._inside = np.empty(0, np.int64)
        self._each_alone = False
        self._present = self._local = np.empty(0, np.int64)
        self._bounds: F64 | None = None
        self._parts: dict[str, I64] = {}
        """The rows of parts, by name."""

    def add(self, rows: Sequence[Row]) -> None:
        """Adds series, and the groups that they name."""
        if any(row.part for row in rows) and not self._of_parts:
            self._take_parts()
        if self._of_parts:
            self._rows.extend(rows)
        kinds = [row.kind for row in rows]
        self._grow(*_counting(kinds), np.array([row.group for row in rows], np.int64))

    def add_plain(self, counters: Mask, deltas: Mask, groups: I64) -> None:
        """Adds series that are no parts of others, [n]: whether each is a counter, whether it tells amounts since the
        point before, and its group."""
        if self._of_parts:
            kinds = kinds_of(counters, deltas)
            self._rows.extend(Row(kind, group) for kind, group in zip(kinds, groups.tolist(), strict=True))
        self._grow(counters, deltas, groups)

    def _grow(self, counters: Mask, deltas: Mask, groups: I64) -> None:
        self.windows.grow(counters, deltas)
        vars(self).update(self._room.grow(vars(self), len(groups)))
        self.group_of[len(self.group_of) - len(groups) :] = groups
        self.groups = max(self.groups, int(groups.max(initial=OUT)) + 1)
        self._regrouped = True
        # A bucket that is new tells where the next begins.
        self._stale = self._stale or self._of_parts

    def move(self, row: int, group: int) -> None:
        """A series belongs to another group now, or to none (`OUT`); what its window holds stays."""
        self.group_of[row] = group
        self.groups = max(self.groups, group + 1)
        self._regrouped = self._stale = True

    def _regroup(self) -> None:
        self._regrouped = False
        if self._stale:
            self._known = np.empty(0)
        # New groups have nothing, and new series nothing but points that change what theirs are.
        self._known = np.concatenate([self._known, np.full(self.groups - len(self._known), np.nan)])
        self._bounds = None
        self._parts = {}
        every = np.arange(len(self.group_of))
        self._each_alone = len(every) == self.groups and not has_any(self.group_of != every)
        if self._each_alone:
            self._inside = self._present = self._local = every
            return
        self._inside = (self.group_of >= 0).nonzero()[0]
        self._present = groups = self.group_of[self._inside]
        self._local = every[: len(groups)]
        if len(groups) and np.bincount(groups).max() > 1:
            self._present, self._local = distinct(groups)

    def _take_parts(self) -> None:
        """The metric is a histogram: counts and buckets grow, whatever is taken of them."""
        self._of_parts = self._stale = True
        kinds = self.windows.kinds
        self.windows = Windows(self.windows.over, "avg", growing=True)
        self.windows.grow(*_counting(kinds))
        self._rows = [Row(kind, group) for kind, group in zip(kinds, self.group_of.tolist(), strict=True)]

    def observe(self, rows: I64, times: F64, values: F64, came_at: float) -> None:
        self.windows.observe(rows, times, values, came_at)

    def values(self, now: float, behind: F64 | float = 0.0) -> F64:
        """What each group measures at `now`; NaN where there is nothing.

        `behind` is by how many seconds the clock of all or each of the rows is behind ours.
        """
        if self._regrouped:
            self._regroup()
        changed = self.windows.turn_to(now, behind)
        if self._take in QUANTILES:
            return self._percentiles(changed)
        if not self._of_parts:
            return self._of_touched(changed)
        if self._take in ("min", "max"):
            return self._combined(self._part(self._take), self._whole)
        if self._take in ("count", "sum"):
            return self._combined(self._part(self._take), self._grown)
        if self._take == "rate":
            return self._combined(self._part("count"), self._rates)
        with np.errstate(invalid="ignore", divide="ignore"):
            return self._combined(self._part("sum"), self._grown) / self._combined(self._part("count"), self._grown)

    def _of_touched(self, changed: I64) -> F64:
        """Values of all groups; worked out anew are those of which the windows of some rows changed."""
        if self.windows.newest_only:
            return self._combined(self._inside, self._whole)
        if self._stale or MANY * len(changed) > len(self.group_of):
            self._stale = False
            self._known = self._combined(self._inside, self._whole)
        elif len(changed):
            # A row without a group looks at the last place, which is kept free.
            mine = np.zeros(self.groups + 1, bool)
            mine[self.group_of[changed]] = True
            mine[OUT] = False
            groups = np.flatnonzero(mine)
            rows = np.flatnonzero(mine[self.group_of])
            self._known[groups] = self._whole(rows, np.searchsorted(groups, self.group_of[rows]))
        return self._known.copy()

    def _part(self, name: str) -> I64:
        if name not in self._parts:
            wanted = np.array([row.part == name for row in self._rows], bool)
            self._parts[name] = np.flatnonzero(wanted & (self.group_of >= 0))
        return self._parts[name]

    def _combined(self, rows: I64, how: Callable[[I64, I64], F64]) -> F64:
        """Values of all groups, from those of the given rows."""
        out = np.full(self.groups, np.nan)
        if self._each_alone and len(rows) == self.groups and len(rows):
            return how(rows, self.group_of)
        present, local = self._present, self._local
        if rows is not self._inside:
            present, local = distinct(self.group_of[rows])
        if len(rows):
            out[present] = how(rows, local)
        return out

    def _whole(self, rows: I64, groups: I64) -> F64:
        if self._take == "rate":
            return self._rates(rows, groups)
        if self._take == "change":
            summary = self.windows.summary
            return combine_growth(summary.grown[rows], summary.count[rows].astype(np.float64), groups)[:, 0]
        summary = self.windows.summary if len(rows) == len(self.windows) else self.windows.summary.rows(rows)
        return combine(summary, self.windows.delta[rows], groups, self._take)[:, 0].copy()

    def _rates(self, rows: I64, groups: I64) -> F64:
        return combine_rates(*self._growth(rows), groups)[:, 0]

    def _grown(self, rows: I64, groups: I64) -> F64:
        return combine_growth(*self._growth(rows), groups)[:, 0]

    def _growth(self, rows: I64) -> tuple[F64, F64]:
        summary, delta = self.windows.summary, self.windows.delta[rows]
        if not delta.any():
            return summary.grown[rows], summary.seen[rows]
        return told_growth(summary.rows(rows), delta, self.windows.over)

    def _percentiles(self, changed: I64) -> F64:
        touched = self.group_of[changed] if not self._stale else self.group_of
        self._stale = False
        quantile = QUANTILES[self._take]
        if not self._of_parts:
            for groups in _in_parts(np.unique(touched[touched >= 0])):
                self._see_percentiles(groups, quantile)
            return self._known.copy()
        answer = self._of_buckets if any(bucket_of(row.part) for row in self._rows) else self._told
        order = np.argsort(self.group_of, kind="stable")
        for group in np.unique(touched[touched >= 0]).tolist():
            lo, hi = np.searchsorted(self.group_of, [group, group + 1], sorter=order)
            self._known[group] = answer(order[lo:hi], quantile)
        return self._known.copy()

    def _see_percentiles(self, groups: I64, quantile: float) -> None:
        """Works out anew what the points of some groups give."""
        self._known[groups] = np.nan
        rows = np.flatnonzero(np.isin(self.group_of, groups))
        places, values = self.windows.points_of(rows)
        present, found = percentiles_by(self.group_of[rows][places], values, quantile)
        self._known[present] = found

    def _told(self, rows: I64, quantile: float) -> float:
        """What the summaries of a group say themselves."""
        mine = np.array([r for r in rows.tolist() if self._rows[r].part == f"q:{quantile!r}"], np.int64)
        count = self.windows.summary.count[mine].sum()
        return float(self.windows.summary.total[mine].sum() / count) if count else float("nan")

    def _of_buckets(self, rows: I64, quantile: float) -> float:
        if self._bounds is None:
            told = [bucket_of(row.part) or (np.nan, np.inf) for row in self._rows]
            families = [row.family if bucket_of(row.part) else None for row in self._rows]
            self._bounds = with_lower_bounds(told, families)
        mine = np.array([r for r in rows.tolist() if bucket_of(self._rows[r].part)], np.int64)
        grown, _ = self._growth(mine)
        return float(bucket_percentiles(self._bounds[mine], grown, quantile)[0])

    def silent(self, now: float, behind: F64 | float = 0.0) -> Mask:
        """Groups all of whose series have stopped."""
        quiet = self.windows.silent(now, behind) | (self.group_of < 0)
        heard: I64 = np.bincount(self.group_of[~quiet], minlength=self.groups)
        return np.asarray(heard == 0, bool)


def _counting(kinds: Sequence[PointKind]) -> tuple[Mask, Mask]:
    """Of kinds, [n], which are counters, and which tell amounts."""
    return np.array([kind == "counter" for kind in kinds], bool), np.array([kind == "delta" for kind in kinds], bool)


def _in_parts(groups: I64) -> Iterator[I64]:
    return (groups[at : at + GROUPS_AT_ONCE] for at in range(0, len(groups), GROUPS_AT_ONCE))
