"""Reading series: recent points, blocks and matrices put together as of one moment."""

from __future__ import annotations

import json
import threading
from collections import OrderedDict
from collections.abc import Collection, Iterable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import replace
from hashlib import blake2b
from itertools import groupby, pairwise

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Connection, Engine

from balise.core.moments import NS, seconds_of
from balise.core.series.codec import decode_block, decode_times
from balise.core.series.growth import MAX_GAP, Before, increases, plain_growth, revised
from balise.core.series.portions import in_weight
from balise.core.series.steps import TIER_SECONDS, Steps, TierName
from balise.core.series.summary import FIELDS, Flat, Summary, summarise_flat
from balise.core.series.wire import PointKind
from balise.store.series.catalogue import Catalogue
from balise.store.series.head import Head
from balise.store.series.matrices import DAY, LONGEST_RUN, REPLACED
from balise.store.series.recent import Asked, Points, Recent, in_order, spread, together
from balise.store.series.seal import ordered_once
from balise.store.series.tails import Tails
from balise.store.series.unpacked import Unpacked

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
Piece = tuple[I64, F64]

_OF_HOSTS = (
    "FROM json_each(?) AS wanted CROSS JOIN block ON host = wanted.value ->> 0 AND last >= ? AND first < ? "
    "AND low_series <= wanted.value ->> 2 AND high_series >= wanted.value ->> 1"
)
"""Blocks of many hosts, host by host: of each its number and the lowest and highest series that is wanted of it."""
_BLOCKS = f"SELECT wanted.key, block.id, series, times, data {_OF_HOSTS}"
_MOMENTS = (
    "SELECT series, times FROM block WHERE host = ? AND last >= ? AND first <= ? "
    "AND low_series <= ? AND high_series >= ?"
)
_UNTIL = "SELECT series, last FROM block WHERE host = ? AND last >= ?"
_EACH = "wanted.key AS place, low_series AS low, high_series AS high, sum(samples * 8 / length(series)) AS count"
_COUNTS = (
    "SELECT json_group_array(json_array(place, low, high, count)) "  # noqa: S608  fixed words
    f"FROM (SELECT {_EACH} {_OF_HOSTS} GROUP BY place, low, high)"
)
"""As one row: other threads are let in with each."""
MATRICES_OF = "FROM matrix WHERE tier = ? AND metric = ? AND day BETWEEN ? AND ? AND day + max(whole, 1) > ?"
MATRICES_ORDER = "ORDER BY whole DESC, id"
"""What was put together first, then the pieces that came since in their order."""
_ONLY = " AND id IN (SELECT value FROM json_each(?))"
DAY_OF_HOURS, LONG_ROW = 24, 300
"""Of rows with more steps than five minutes of a day only the days that are wanted are unpacked."""
UNPACKED = 48 << 20
"""Bytes of what was unpacked and is kept, as it is asked for again."""
FEW = 64
"""Series whose blocks are kept unpacked: of more they would only push out everything else."""
MOST_ASKED, STANDING = 256, 32 << 20
"""Questions of which it is kept where their series stand, and bytes of that of all together."""
RECENT_AT_ONCE = 500_000
"""Points that are not sealed yet and are put together at once."""


class Reader:
    """Answers for stretches of time. `moment` keeps sealing away while a view of both places is taken."""

    def __init__(
        self,
        engine: Engine,
        *,
        catalogue: Catalogue,
        head: Head,
        moment: threading.Lock,
        sealed_until: dict[int, int],
    ) -> None:
        self._engine = engine
        self._sealed_until = sealed_until
        self._catalogue = catalogue
        self._head = head
        self._moment = moment
        self._unpacked = Unpacked(UNPACKED)
        self._asking = threading.Lock()
        self._asked_before: OrderedDict[bytes, Asked] = OrderedDict()
        self.tails = Tails(catalogue, self.stored, 2 * MAX_GAP)

    def let_go(self) -> None:
        """Memory is short."""
        self._unpacked.clear()
        with self._asking:
            self._asked_before.clear()

    def _asked(self, series: I64) -> Asked:
        """Series with what is known of where they stand, from others who asked for the same."""
        key = blake2b(series.tobytes(), digest_size=16).digest()
        with self._asking:
            found = self._asked_before.pop(key, None)
            if found is None:
                found = Asked(series)
            held = sum(one.size for one in self._asked_before.values())
            while self._asked_before and (held + found.size > STANDING or len(self._asked_before) >= MOST_ASKED):
                held -= self._asked_before.popitem(last=False)[1].size
            self._asked_before[key] = found
        return found

    @contextmanager
    def _snapshot(self, series: I64, *, tails: bool = False) -> Iterator[tuple[Connection, Recent, Before]]:
        """The recent points of series, ascending and each once, their tails if they are wanted, and a connection whose
        view is of the very same moment."""
        if tails:
            # Those that have to be read are, before anybody waits.
            self.tails.of(series)
        asked = self._asked(series)
        with self._engine.connect() as connection:
            with self._moment:
                connection.exec_driver_sql("BEGIN")
                connection.exec_driver_sql("SELECT count(*) FROM note").fetchone()
                seen = asked.seen(self._head)
                before = self.tails.of(series) if tails else Before.nothing(len(series))
            yield connection, Recent(seen, len(series)), before
            connection.rollback()

    def raw(self, series: Sequence[int] | I64, start: int, end: int) -> list[Piece]:
        """Times and values of each series within [start, end) nanoseconds, in order of time, each moment once."""
        ids, places = _each_once(series)
        rows, times, values = self._once(ids, start, end)
        bounds = np.searchsorted(rows, np.arange(len(ids) + 1)).tolist()
        pieces = [(times[lo:hi], values[lo:hi]) for lo, hi in pairwise(bounds)]
        return [pieces[place] for place in places.tolist()]

    def flat(self, series: Sequence[int] | I64, start: int, end: int) -> Flat:
        """The numbers of each series within [start, end) nanoseconds; its rows are places in `series`."""
        ids, places = _each_once(series)
        rows, times, values = self._once(ids, start, end)
        if len(ids) != len(places) or (np.diff(places) < 0).any():
            lows = np.searchsorted(rows, ids_range := np.arange(len(ids)))
            sizes = np.searchsorted(rows, ids_range, side="right") - lows
            rows, taken = spread(lows[places], sizes[places])
            times, values = times[taken], values[taken]
        return Flat.told(rows, times, values)

    def summed(self, series: I64, steps: Steps, fields: Collection[str]) -> Summary:
        """What happened in each step, of the points themselves: [series, steps]; only `fields` are filled."""
        ids, places = _each_once(series)
        seen = self._asked(ids).seen(self._head)
        if len(ids) == len(places) and not len(self._sealed_since(ids, steps.start)[0]):
            found = Recent(seen, len(ids)).summed(steps, fields)
            if found is not None:
                return found if ids is series else found.rows(places)
        return summarise_flat(self.flat(series, steps.start, steps.end), len(series), steps, fields)

    def _once(self, ids: I64, start: int, end: int) -> Points:
        """All points of series within [start, end), by series and time, each moment once."""
        return in_order(together(self._pieces(ids, start, end)))

    def _pieces(self, ids: I64, start: int, end: int) -> list[Points]:
        """All points of series within [start, end), piece by piece, as of one moment.

        Where nothing of them was sealed of that time they are all in memory: then nobody waits for what is sealed
        meanwhile, of which it is noted until when before it leaves memory.
        """
        seen = self._asked(ids).seen(self._head)
        if not len(self._sealed_since(ids, start)[0]):
            return Recent(seen, len(ids)).points(start, end)
        with self._snapshot(ids) as (connection, recent, _):
            return [*self._inside(connection, ids, start, end), *recent.points(start, end)]

    def since(self, series: Sequence[int] | I64, start: int, end: int = np.iinfo(np.int64).max) -> Points:
        """All points of many series within [start, end), in no order and as often as they came: places in `series`,
        times, values, each [n]."""
        ids, first = np.unique(np.array(series, np.int64), return_index=True)
        rows, times, values = together(self._pieces(ids, start, end))
        return first[rows], times, values

    def _inside(self, connection: Connection, ids: I64, start: int, end: int) -> list[Points]:
        """What is stored of series within [start, end), piece by piece."""
        sealed, _ = self._sealed_since(ids, start)
        found: list[Points] = []
        for places, times, values in self._stored(connection, ids[sealed].tolist(), start, end):
            lo, hi = times.searchsorted((start, end)).tolist()
            if lo < hi:
                inside = values[:, lo:hi].reshape(-1)
                found.append((sealed[places].repeat(hi - lo), np.tile(times[lo:hi], len(places)), inside))
        return found

    def _sealed_since(self, ids: I64, start: int) -> tuple[I64, I64]:
        """The places of the series whose hosts have points that are sealed and not earlier than `start`, and their
        hosts."""
        # Of many, all hosts at once are looked at sooner than their own.
        if len(ids) > FEW and max(list(self._sealed_until.values()), default=0) < start:
            return np.empty(0, np.int64), np.empty(0, np.int64)
        hosts = self._catalogue.series.hosts_of(ids)
        late = [host for host in np.unique(hosts).tolist() if self._sealed_until.get(host, 0) >= start]
        places = np.flatnonzero(np.isin(hosts, late)) if late else np.empty(0, np.int64)
        return places, hosts[places]

    def _stored(
        self, connection: Connection, series: Sequence[int], start: int, end: int
    ) -> Iterator[tuple[I64, I64, F64]]:
        """What blocks hold of series, block by block: the places of those that it has, [k], its times, [rows], and
        their values, [k, rows]."""
        few = len(series) <= FEW
        by_host: dict[int, list[int]] = {}
        for place, host in enumerate(self._catalogue.series.hosts_of(series).tolist()):
            by_host.setdefault(host, []).append(place)
        of_hosts = [sorted(places, key=lambda p: series[p]) for places in by_host.values()]
        asked = _asked(by_host, [(series[places[0]], series[places[-1]]) for places in of_hosts])
        found = connection.exec_driver_sql(_BLOCKS, (asked, start, end))
        for key, rows_of_host in groupby(found, key=lambda row: row[0]):
            places = np.array(of_hosts[key])
            wanted = np.array([series[p] for p in of_hosts[key]])
            # What came later stands behind what it may replace.
            for _, _, ids_blob, times_blob, data in sorted(rows_of_host, key=lambda row: row[1]):
                ids = np.frombuffer(ids_blob, np.int64)
                rows = np.searchsorted(ids, wanted)
                rows[rows == len(ids)] = 0
                here = np.flatnonzero(ids[rows] == wanted)
                if len(here):
                    times = (self._unpacked.times if few else decode_times)(times_blob)
                    values = (self._unpacked.block if few else decode_block)(data, rows[here])
                    yield places[here], times, values

    def count(self, series: Sequence[int] | I64, start: int, end: int) -> I64:
        """At most how many points each series has within [start, end) nanoseconds, without reading them: [series]."""
        ids, places = _each_once(series)
        out = Recent(self._asked(ids).seen(self._head), len(ids)).counts_within(start, end)
        of_hosts: dict[int, list[int]] = {}
        for place, host in zip(*(some.tolist() for some in self._sealed_since(ids, start)), strict=True):
            of_hosts.setdefault(host, []).append(place)
        held = [np.array(mine, np.int64) for mine in of_hosts.values()]
        asked = _asked(of_hosts, [(int(ids[mine[0]]), int(ids[mine[-1]])) for mine in held])
        if not held:
            return out[places]
        with self._engine.connect() as connection:
            found = json.loads(connection.exec_driver_sql(_COUNTS, (asked, start, end)).scalar_one())
        for key, low, high, rows in found:
            mine = held[key]
            own = ids[mine]
            out[mine[(own >= low) & (own <= high)]] += rows
        return out[places]

    def oldest(self, tier: TierName, metric: int, series: I64, start: int) -> int | None:
        """From when on there may be anything of some series of a metric in a tier, nanoseconds; None for nothing.

        What is before `start` need not be told apart.
        """
        with self._engine.connect() as connection:
            query = "SELECT min(day) FROM matrix WHERE tier = ? AND metric = ?"
            day = connection.exec_driver_sql(query, (TIER_SECONDS[tier], metric)).scalar()
        found = [int(day) * DAY] if day is not None else []
        if found and found[0] <= start:
            return found[0]
        found += [stripe.oldest for stripe in self._head.of_any(series) if stripe.rows]
        return min(found, default=None)

    def earliest(self, metric: int) -> int:
        """Before this moment, nanoseconds, there is nothing of any series of a metric."""
        # First what is recent: what is sealed meanwhile is found where it stands then.
        recent = self._head.oldest
        query = "SELECT min(day) FROM matrix WHERE tier = ? AND metric = ?"
        with self._engine.connect() as connection:
            days = [connection.exec_driver_sql(query, (tier, metric)).scalar() for tier in TIER_SECONDS.values()]
        return min([recent, *(int(day) * DAY for day in days if day is not None)])

    def stored(self, series: Sequence[int], start: int, end: int) -> list[Piece]:
        """What blocks alone hold of each series within [start, end), in order of time."""
        with self._engine.connect() as connection:
            return self._of_blocks(connection, series, start, end)

    def _of_blocks(self, connection: Connection, series: Sequence[int], start: int, end: int) -> list[Piece]:
        pieces: list[list[Piece]] = [[] for _ in series]
        for places, times, values in self._stored(connection, series, start, end):
            for place, own in zip(places.tolist(), values, strict=True):
                pieces[place].append((times, own))
        return [_joined(own, start, end) for own in pieces]

    def stored_moments(self, host: int, series: I64, times: I64) -> NDArray[np.bool_]:
        """Whether each of these points, [n] series of one host and moments, has a twin in blocks."""
        out = np.zeros(len(series), bool)
        first, last = int(times.min()), int(times.max())
        if first > self._sealed_until.get(host, 0):
            return out
        bounds = (host, first, last, int(series.max()), int(series.min()))
        with self._engine.connect() as connection:
            for ids_blob, times_blob in connection.exec_driver_sql(_MOMENTS, bounds):
                mine = np.isin(series, np.frombuffer(ids_blob, np.int64))
                if mine.any():
                    out |= mine & np.isin(times, decode_times(times_blob))
        return out

    def stored_until(self, series: I64, since: int) -> I64:
        """Until when each of some series, each once, has points in blocks, or somewhat later: at least just before
        `since`."""
        until = np.full(len(series), since - 1)
        hosts = np.unique(self._catalogue.series.hosts_of(series))
        with self._engine.connect() as connection:
            for host in hosts[[self._sealed_until.get(host, 0) >= since for host in hosts.tolist()]].tolist():
                for ids_blob, last in connection.exec_driver_sql(_UNTIL, (host, since)):
                    mine = np.isin(series, np.frombuffer(ids_blob, np.int64))
                    until[mine] = np.maximum(until[mine], last)
        return until

    def rolled(
        self, tier: TierName, metric: int, series: Sequence[int] | I64, steps: Steps, fields: set[str]
    ) -> Summary:
        """What happened in each step of a tier. `steps` must be of the tier's width; only `fields` are filled."""
        if steps.width != TIER_SECONDS[tier] * NS or steps.start % steps.width:
            raise ValueError(f"steps of {steps.width} ns from {steps.start} asked of tier {tier}")
        wanted = np.array(series, np.int64)
        order = np.argsort(wanted)
        ids = wanted[order]
        if (np.diff(ids) == 0).any():
            ids, places = np.unique(wanted, return_inverse=True)
            return self.rolled(tier, metric, ids.tolist(), steps, fields).rows(places)
        with self._snapshot(ids, tails=True) as (connection, recent, tails):
            out = Summary.room(len(series), steps.count, set(FIELDS) if recent.counts.any() else fields)
            self._merge_matrices(connection, tier, metric, ids, order, steps, out, fields)
            for fresh in in_weight(np.flatnonzero(recent.counts), recent.counts, RECENT_AT_ONCE):
                self._add_recent(connection, ids, recent, tails, fresh, order, steps, out)
        return out

    def _add_recent(
        self,
        connection: Connection,
        ids: I64,
        recent: Recent,
        tails: Before,
        places: I64,
        rows_of: NDArray[np.intp],
        steps: Steps,
        out: Summary,
    ) -> None:
        """Adds what is not sealed yet of the series in some places of `ids`, each a row of `out`: points after the
        tails as they are, late ones by looking at the whole step."""
        low, high = int(places[0]), int(places[-1]) + 1
        rows, times, values = in_order(together(recent.points(0, steps.end, low=low, high=high)))
        rows = rows - low
        before = Before(tails.times[low:high], tails.values[low:high])
        kinds = self._catalogue.series.kinds_of(ids[low:high])
        late = times <= before.times[rows]
        fresh = (rows[~late], times[~late], values[~late])
        summary = summarise_flat(Flat.told(*fresh), high - low, steps)
        # Growth starts at the tail, which comes before all that is later.
        tail = (np.arange(high - low), before.times, before.values)
        grown_from = in_order(together([tail, fresh]))
        delta = np.array([k == "delta" for k in kinds])[:, None]
        grown, seen = (np.where(delta, 0.0, a) for a in increases(Flat.told(*grown_from), kinds, steps))
        where = rows_of[low:high]
        out.add(where, slice(0, steps.count), replace(summary, grown=grown, seen=seen))
        for row in np.unique(rows[late]).tolist():
            own = slice(*np.searchsorted(rows, [row, row + 1]))
            moments = times[own][late[own]]
            start = max(steps.start, int(moments[0]) // steps.width * steps.width)
            there = self._of_blocks(connection, [int(ids[low + row])], start - MAX_GAP, steps.end)[0]
            whole = _joined([there, (times[own], values[own])], start - MAX_GAP, steps.end)
            mine = slice(row, row + 1)
            out.replace(where[mine], slice(0, steps.count), revised([whole], [moments], kinds[mine], steps))

    def stored_rollup(
        self, tier: TierName, metric: int, series: I64, steps: Steps, out: Summary, of: Sequence[int] | None = None
    ) -> None:
        """Fills `out` with what the matrices alone hold, or some of them by their numbers; `series` ascending."""
        order, fields = np.arange(len(series)), set(FIELDS)
        with self._engine.connect() as connection:
            self._merge_matrices(connection, tier, metric, series, order, steps, out, fields, of)

    def _merge_matrices(
        self,
        connection: Connection,
        tier: TierName,
        metric: int,
        wanted: I64,
        order: NDArray[np.intp],
        steps: Steps,
        out: Summary,
        fields: set[str],
        of: Sequence[int] | None = None,
    ) -> None:
        wanted_names = [name for name in FIELDS if name in fields or name == "count"]
        growing = "grown" in fields
        names = [name for name in wanted_names if name not in ("grown", "last", "seen")]
        names += ["last", "seen", "extra"] if growing else [name for name in ("last", "seen") if name in fields]
        kinds = dict(zip(wanted.tolist(), self._catalogue.series.kinds_of(wanted), strict=True)) if growing else {}
        found = connection.exec_driver_sql(
            f"SELECT day, step, steps, late, series, {', '.join(names)} {MATRICES_OF}"
            f"{'' if of is None else _ONLY} {MATRICES_ORDER}",
            (*matrices_of(tier, metric, steps), *(() if of is None else (json.dumps(list(of)),))),
        )
        for day, step, count, late, ids_blob, *blobs in found:
            ids = np.frombuffer(ids_blob, np.int64)
            rows = np.searchsorted(ids, wanted)
            rows[rows == len(ids)] = 0
            here = np.flatnonzero(ids[rows] == wanted)
            offset = (day * DAY - steps.start) // steps.width + step
            lo, hi = max(0, -offset), min(count, steps.count - offset)
            if not len(here) or lo >= hi:
                continue
            chosen = None if len(here) == len(ids) and (np.diff(rows[here]) == 1).all() else rows[here]
            packed = dict(zip(names, blobs, strict=True))
            # Growth is known from the first step of a row on.
            since, until = (0 if growing else lo // DAY_OF_HOURS * DAY_OF_HOURS), -(-hi // DAY_OF_HOURS) * DAY_OF_HOURS
            some = slice(since, min(until, count)) if count > LONG_ROW else slice(0, count)
            whole = {n: self._unpacked.block(packed[n], chosen, some) for n in names if packed[n]}
            if growing and "extra" in whole:
                whole["grown"] = plain_growth(whole["last"], whole["count"], whole["seen"]) + whole["extra"]
            elif growing:
                own_kinds = [kinds[s] for s in wanted[here].tolist()]
                last, points = whole["last"], whole["count"]
                whole["grown"], whole["seen"] = _derived_growth(last, points, own_kinds, seconds_of(steps.width))
            part = {name: whole[name][:, lo - some.start : hi - some.start] for name in wanted_names}
            _merge_part(out, _as_slice(order[here]), slice(offset + lo, offset + hi), part, how=late)


def _as_slice(rows: NDArray[np.intp]) -> NDArray[np.intp] | slice:
    """Rows that follow each other as a slice, which numpy takes without copying."""
    if len(rows) == int(rows[-1]) - int(rows[0]) + 1 and bool((np.diff(rows) == 1).all()):
        return slice(int(rows[0]), int(rows[-1]) + 1)
    return rows


def _merge_part(out: Summary, rows: NDArray[np.intp] | slice, at: slice, part: dict[str, F64], *, how: int) -> None:
    """Adds decoded fields, or puts them in the place of what is there; steps that were empty hold zeros there."""
    some = part["count"] > 0
    place = (rows, at)
    if how == REPLACED:
        for name, new in part.items():
            field = getattr(out, name)
            field[place] = np.where(some, new, field[place])
        return
    before = out.count[place]
    fresh = not before.any()
    for name, put in (("low", np.fmin), ("high", np.fmax)):
        if name in part:
            new = np.where(some, part[name], np.nan)
            field = getattr(out, name)
            field[place] = new if fresh else put(field[place], new)
    if "last" in part:
        take = some & (before == 0) if how == _LATE_ONCE else some
        out.last[place] = np.where(take, part["last"], out.last[place])
    for name in ("total", "grown", "seen"):
        if name in part:
            getattr(out, name)[place] += part[name]
    out.count[place] = before + part["count"]


_LATE_ONCE = 1
"""Late points as the first form of the file kept them: added to what was there."""


def _derived_growth(last: F64, count: F64, kinds: list[PointKind], width_seconds: float) -> tuple[F64, F64]:
    """Growth and the time it was seen over as earlier forms of the file let one know them: from each step's last
    value to the next."""
    grown, seen = np.zeros_like(last), np.zeros_like(last)
    for row, kind in enumerate(kinds):
        have = np.flatnonzero(count[row] > 0)
        if kind == "delta" or len(have) < 2:
            continue
        values = last[row, have]
        change = np.diff(values)
        grown[row, have[1:]] = np.where((kind == "counter") & (change < 0), values[1:], change)
        seen[row, have[1:]] = np.diff(have) * width_seconds
    return grown, seen


def matrices_of(tier: TierName, metric: int, steps: Steps) -> tuple[int, int, int, int, int]:
    """The parameters of `MATRICES_OF`: rows of a metric that have something of these steps."""
    first, last = steps.start // DAY, (steps.end - 1) // DAY
    longest = LONGEST_RUN if tier == "1h" else 1
    return TIER_SECONDS[tier], metric, first - longest + 1, last, first


def _each_once(series: Sequence[int] | I64) -> tuple[I64, I64]:
    """Series ascending and each once, and of each that was given its place among them."""
    given = np.asarray(series, np.int64)
    if bool((given[1:] > given[:-1]).all()):
        return given, np.arange(len(given))
    ids, places = np.unique(given, return_inverse=True)
    return ids, places


def _joined(pieces: list[Piece], start: int, end: int) -> Piece:
    if not pieces:
        return np.empty(0, np.int64), np.empty(0)
    if len(pieces) == 1:
        times, values = pieces[0]
    else:
        times = np.concatenate([t for t, _ in pieces])
        values = np.concatenate([v for _, v in pieces])
    times, values = ordered_once(times, values)
    lo, hi = np.searchsorted(times, [start, end])
    return times[lo:hi], values[lo:hi]


def _asked(hosts: Iterable[int], bounds: Sequence[tuple[int, int]]) -> str:
    """Hosts with the lowest and highest series wanted of each, as one parameter of a statement."""
    return json.dumps([(host, low, high) for host, (low, high) in zip(hosts, bounds, strict=True)])
