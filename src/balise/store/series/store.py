"""The series store: accepts batches durably, keeps them readable at once, seals and forgets them in time."""

from __future__ import annotations

import asyncio
import logging
import math
import threading
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Connection, delete, func, select, text
from sqlalchemy.exc import IntegrityError

from balise.core.moments import NS, seconds_of
from balise.core.series.codec import BlockEncoder
from balise.core.series.steps import TIER_SECONDS, TIERS, TierName
from balise.store.database import delete_from, insert_into, insert_rows, open_engine
from balise.store.series import tables
from balise.store.series.catalogue import Catalogue
from balise.store.series.compactor import Compactor
from balise.store.series.door import Door
from balise.store.series.head import Batch, Head, Stripe
from balise.store.series.layouts import Layout
from balise.store.series.matrices import DAY
from balise.store.series.places import Key
from balise.store.series.reader import Reader
from balise.store.series.replay import Replay
from balise.store.series.scan import Scan
from balise.store.series.seal import BLOCK_SERIES, Sealed, Sealer
from balise.store.writer import GroupWriter, tell

I64 = NDArray[np.int64]
F64 = NDArray[np.float64]
log = logging.getLogger(__name__)

_INSERT = "INSERT INTO inbox (seq, layout, times, points) VALUES"
SEALED_UP_TO, NEXT_BLOCK = "sealed up to", "next block"
"""Notes: the highest row of the inbox that was sealed, and the number of the block after all that there were."""
_NOTE_MORE = (
    "INSERT INTO note (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = max(value, excluded.value)"
)
_NOTED = "SELECT coalesce((SELECT value FROM note WHERE name = ?), 0)"
LARGE_AT_ONCE = 64
"""Blocks and matrices of one statement, each up to some hundred kilobytes."""
SEAL_AFTER = 2 * 3600 * NS
SEAL_SETTLE = 300 * NS
"""How long before now sealing stops, so that the last minutes can still be put in order cheaply."""
MOST_A_SEALING, MOST_FOR_ROOM = 4_000_000, 2_000_000
"""Points that are sealed together; and at once for the sake of room, as no more is then sealed than must be."""
ASKED_MOST = 360 * NS
"""What is asked for most: the last five minutes, from the beginning of a step on. While a host's stay, nobody has to
look for them among its blocks."""
FEW_OF_A_HOST = 10
"""So many series of each host are worth a block, even if it is short."""
BAD_ROWS = (ValueError, TypeError, LookupError, ArithmeticError, IntegrityError)
"""What is raised when something is wrong with the points themselves."""
CROWDED, SPARE_ROOM = 0.9, 0.1
"""From which share of the series that a host may have room is made, and how much more than is needed."""
RAW_MARGIN = 2 * 3600 * NS
"""How much longer raw points stay than is told, so that the steps that a last late point changes can be summed up."""
QUEUE_POINTS = 2_000_000


@dataclass(frozen=True)
class Retention:
    """How many days each tier is kept."""

    raw: float = 14.0
    five_minutes: float = 90.0
    hour: float = 730.0


class SeriesStore:
    """All of series.db.

    `listeners` are called on the writer's thread with each group of batches written, from which all points that
    were there already are left out. `most_recent` is how many bytes of memory recent points may take, and `clock`
    answers the time in nanoseconds.
    """

    def __init__(
        self,
        folder: Path,
        *,
        retention: Retention | None = None,
        most_recent: int = 480 << 20,
        clock: Callable[[], int] = time.time_ns,
    ) -> None:
        self.path = folder / "series.db"
        self.retention = retention or Retention()
        self._most_recent = most_recent
        self._clock = clock
        # To look in the inbox for rows of a layout that goes would take a second for each; memory knows.
        self.engine = open_engine(self.path, cache_mib=16, foreign_keys=False)
        self._create()
        self.catalogue = Catalogue()
        self.head = Head()
        self.sealed_until: dict[int, int] = {}
        self._moment = threading.Lock()
        self._sealing = threading.Lock()
        self._encoder = BlockEncoder()
        self.reader = Reader(
            self.engine,
            catalogue=self.catalogue,
            head=self.head,
            moment=self._moment,
            sealed_until=self.sealed_until,
        )
        self.scan = Scan(self.engine, catalogue=self.catalogue, head=self.head, moment=self._moment)
        self._door = Door(self.catalogue, self.head, self.reader.stored_moments, self.reader.stored_until)
        self.listeners: list[Callable[[Sequence[Batch]], None]] = []
        self.repeated = 0
        self.late_for_series = 0
        self.forgotten = 0
        self.untold = 0
        """How often a listener failed."""
        self.points = 0
        self._seq = 0
        self._unseen: set[int] = set()
        """Layouts of rows that are written and not in memory: there was no room for them."""
        self._ending = False
        self._next_block = 1
        self._write_connection = self.engine.connect()
        self._replay()
        self._compactor = Compactor(self.engine, self.reader, self._encoder, self._sealing, self._swap)
        self._writer: GroupWriter[Batch] = GroupWriter("series-writer", self._commit, limit=QUEUE_POINTS)

    def _create(self) -> None:
        with self.engine.begin() as connection:
            form = connection.exec_driver_sql("PRAGMA user_version").scalar_one()
            if form > tables.FORM:
                raise RuntimeError(
                    f"{self.path} is of form {form}; this version reads form {tables.FORM}. "
                    "Start the version that wrote it."
                )
            # All of it or nothing, whenever this is killed.
            connection.exec_driver_sql("BEGIN IMMEDIATE")
            for step in range(max(form, 1), tables.FORM) if form else ():
                for statement in tables.UPGRADES[step]:
                    if isinstance(statement, str):
                        connection.exec_driver_sql(statement)
                    else:
                        statement(connection)
            tables.metadata.create_all(connection)
            if form != tables.FORM:
                connection.exec_driver_sql(f"PRAGMA user_version={tables.FORM}")

    def _replay(self) -> None:
        """Puts what is not sealed yet into memory again. What cannot be read is set aside, what repeats itself goes."""
        connection = self._write_connection
        self.catalogue.load(connection, tidy=True)
        rows = connection.execute(select(tables.block.c.host, func.max(tables.block.c.last)).group_by("host"))
        self.sealed_until.update((host, last) for host, last in rows)
        self._door.begin(self.sealed_until)
        self.reader.tails.begin(self.sealed_until)
        # Numbers of rows that were sealed are not given again.
        self._seq = int(connection.exec_driver_sql(_NOTED, (SEALED_UP_TO,)).scalar_one())
        blocks = connection.execute(select(func.coalesce(func.max(tables.block.c.id), 0))).scalar_one()
        self._next_block = max(blocks + 1, int(connection.exec_driver_sql(_NOTED, (NEXT_BLOCK,)).scalar_one()))
        with self.engine.connect() as reading:
            found = Replay(self.catalogue, self._door, self.head).run(reading, self._clock())
        self._seq = max(self._seq, found.last)
        self.catalogue.take_pending().write(connection, self.catalogue.series)
        self._set_aside(connection, found.bad)
        delete_from(connection, tables.inbox, "seq", found.repeated)
        connection.commit()

    def _set_aside(self, connection: Connection, bad: Sequence[tuple[int, str]]) -> None:
        """Takes rows out of the inbox that cannot be sealed, so that they hold up nothing else."""
        for seq, why in bad:
            log.error("row=%d of the inbox is set aside: %s", seq, why)
            connection.exec_driver_sql(
                "INSERT OR REPLACE INTO aside (seq, at, why, layout, times, points) SELECT seq, ?, ?, "
                "coalesce((SELECT series FROM layout WHERE layout.id = inbox.layout), x''), times, points "
                "FROM inbox WHERE seq = ?",
                (seconds_of(self._clock()), why[:500], seq),
            )
            connection.exec_driver_sql("DELETE FROM inbox WHERE seq = ?", (seq,))

    def count_set_aside(self) -> int:
        """How many rows were set aside because they could not be sealed."""
        with self.engine.connect() as connection:
            return int(connection.execute(select(func.count()).select_from(tables.aside)).scalar_one())

    # --- taking points in

    def accept(self, batch: Batch) -> asyncio.Future[None]:
        """A future of the running loop, done when the batch is durable and readable.

        Raises:
            Busy: too much waits to be written.
        """
        return self._writer.put(batch, len(batch.values))

    def accept_now(self, batch: Batch) -> None:
        """`accept` from an ordinary thread."""
        self._writer.write(batch, len(batch.values))

    def batch(self, layout: Layout, times: I64, values: F64) -> Batch:
        """A batch whose times are folded into one when they are all the same."""
        if len(times) > 1 and bool((times == times[0]).all()):
            times = times[:1]
        return Batch(layout, times, values)

    def _commit(self, batches: Sequence[Batch]) -> None:
        fresh: list[tuple[int, Batch]] = []
        self._door.open()
        for arrived in batches:
            batch = self._of_known_series(arrived)
            if batch is None:
                continue
            admitted = self._door.admit(batch)
            self.repeated += admitted.repeated
            if admitted.batch is None:
                continue
            own = admitted.batch
            if own.layout.id not in self.catalogue.layouts.by_id:
                own = Batch(self.catalogue.layouts.of(own.layout.series), own.times, own.values)
            fresh.append((self._seq + len(fresh) + 1, own))
        if not fresh:
            return
        pending = self.catalogue.take_pending()
        connection = self._write_connection
        try:
            pending.write(connection, self.catalogue.series)
            insert_rows(
                connection, _INSERT, [(seq, b.layout.id, b.times.tobytes(), b.values.tobytes()) for seq, b in fresh]
            )
            connection.commit()
        except Exception:
            connection.rollback()
            self.catalogue.restore(pending)
            raise
        now = self._clock()
        self._seq += len(fresh)
        try:
            for seq, batch in fresh:
                self.head.append(seq, batch, now)
                self.points += len(batch.values)
        except BaseException:
            self._unseen.update(batch.layout.id for _, batch in fresh)
            raise
        self.untold += tell(self.listeners, [batch for _, batch in fresh])

    def _of_known_series(self, batch: Batch) -> Batch | None:
        """A batch without series that were forgotten while it was on its way."""
        if batch.layout.id in self.catalogue.layouts.by_id:
            return batch
        known = self.catalogue.series.has(batch.layout.series)
        if known.all():
            return batch
        self.late_for_series += int((~known).sum())
        if not known.any():
            return None
        times = batch.times if len(batch.times) == 1 else batch.times[known]
        return Batch(self.catalogue.layouts.of(batch.layout.series[known]), times, batch.values[known])

    def newest(self, series: int) -> int | None:
        """About when a series was heard last, nanoseconds; None when it never was."""
        return self._door.newest(series)

    # --- keeping

    def seal_due(self, now: int) -> int:
        """Seals stripes that have stood for long, and some when recent points take too much memory. Answers how many
        points."""
        made_room = self._seal_for_room(now)
        due = [key for key, stripe in list(self.head.stripes.items()) if now - stripe.since > SEAL_AFTER]
        width = TIER_SECONDS["5m"] * NS
        return made_room + (self.seal((now - SEAL_SETTLE) // width * width, due) if due else 0)

    def _seal_for_room(self, now: int) -> int:
        """Seals while recent points take too much memory: what has stood for longest, a part at a time, so that what
        is sealed is long; the last minutes stay, as they are asked for most, unless that is not enough."""
        samples = 0
        if self.head.size <= self._most_recent:
            return samples
        for before, least in ((now - ASKED_MOST, ASKED_MOST), (now, 0)):
            standing = sorted((stripe.since, *key) for key, stripe in list(self.head.stripes.items()))
            waiting = [
                (layout, shared)
                for since, layout, shared in reversed(standing)
                if now - since >= least and (not least or self._makes_few_blocks((layout, shared)))
            ]
            while waiting and self.head.size > self._most_recent:
                samples += self.seal(before, self._next_part(waiting, MOST_FOR_ROOM))
        return samples

    def _makes_few_blocks(self, key: Key) -> bool:
        """Whether a stripe has not just a series or two of each of many hosts, which would be as many blocks."""
        stripe = self.head.stripes.get(key)
        if stripe is None or len(stripe.layout.series) <= BLOCK_SERIES * 10:
            return True
        hosts = np.unique(self.catalogue.series.hosts_of(stripe.layout.series))
        return len(hosts) * FEW_OF_A_HOST <= len(stripe.layout.series)

    def _next_part(self, waiting: list[Key], most: int) -> list[Key]:
        """Takes the last of the stripes that wait: so many as have `most` values, one at least."""
        part, weight = [], 0
        while waiting and weight < most:
            stripe = self.head.stripes.get(waiting[-1])
            part.append(waiting.pop())
            weight += stripe.values.size if stripe is not None else 0
        return part

    def seal(self, before: int, stripes: Sequence[Key] | None = None) -> int:
        """Moves what is wholly earlier than `before` from the inbox into blocks and matrices.

        Only of these stripes if they are named, together with those that have series in common with them.
        """
        samples = 0
        with self._sealing:
            waiting = list(self.head.stripes if stripes is None else stripes)
            done: set[Key] = set()
            while waiting and not self._ending:
                # Points of a series are sealed together: those of a part that came after them would be late.
                part = self.head.with_kin([key for key in self._next_part(waiting, MOST_A_SEALING) if key not in done])
                done.update(part)
                if part:
                    samples += self._seal_part([(key, self.head.stripes[key]) for key in part], before)
        return samples

    def _seal_part(self, part: Sequence[tuple[Key, Stripe]], before: int) -> int:
        """Seals some stripes; when that fails, each alone, and what fails alone is set aside row by row."""
        try:
            sealer = Sealer(self.catalogue, self._encoder, self.reader.tails)
            for key, stripe in part:
                sealer.take(key, stripe, before, alone=not self.head.shares(key))
            sealed = sealer.finish(self.reader.stored)
            if sealed.taken:
                self._writer.run(lambda: self._write_sealed(sealed))
            return sealed.samples
        except BAD_ROWS as error:
            # Nothing else is set aside: with a full disk, a locked file or too little memory the points are right.
            log.exception("stripes=%d cannot be sealed together", len(part))
            if len(part) > 1:
                return sum(self._seal_part([one], before) for one in part)
            self._put_away(*part[0], before, f"{type(error).__name__}: {error}")
            return 0

    def _put_away(self, key: Key, stripe: Stripe, before: int, why: str) -> None:
        mask = stripe.newest_first_time()[: stripe.rows] < before
        seqs = stripe.seqs[: len(mask)][mask].tolist()

        def write() -> None:
            connection = self._write_connection
            with self._moment:
                try:
                    self._set_aside(connection, [(seq, why) for seq in seqs])
                    connection.commit()
                except Exception:
                    connection.rollback()
                    raise
                self.head.drop([(key, mask)], self._clock())

        self._writer.run(write)

    def _swap(self, gone: Sequence[int], made: Sequence[dict[str, object]]) -> None:
        """Puts matrices in the place of others, all or none."""

        def write() -> None:
            connection = self._write_connection
            with self._moment:
                try:
                    delete_from(connection, tables.matrix, "id", gone)
                    insert_into(connection, tables.matrix, made, LARGE_AT_ONCE)
                    connection.commit()
                except Exception:
                    connection.rollback()
                    raise

        self._writer.run(write)

    def _write_sealed(self, sealed: Sealed) -> None:
        seqs = np.concatenate(sealed.seqs)
        emptied = self._emptied(sealed)
        connection = self._write_connection
        with self._moment:
            try:
                if sealed.blocks:
                    self._insert_blocks(sealed.blocks)
                insert_into(connection, tables.matrix, sealed.matrices, LARGE_AT_ONCE)
                delete_from(connection, tables.inbox, "seq", seqs.tolist())
                connection.exec_driver_sql(_NOTE_MORE, (SEALED_UP_TO, float(seqs.max())))
                delete_from(connection, tables.layout, "id", list(emptied))
                connection.commit()
            except Exception:
                connection.rollback()
                raise
            # Whoever finds them gone from memory has to know that they stand in blocks.
            self._note_sealed(sealed)
            self.head.drop(sealed.taken, self._clock())
            self.catalogue.layouts.forget(emptied)

    def _emptied(self, sealed: Sealed) -> set[int]:
        """Layouts of which no rows are left in the inbox."""
        gone = {key for key, rows in sealed.taken if self.head.stripes[key].rows == int(rows.sum())}
        return {
            number
            for number, _ in gone
            if all(key in gone or key not in self.head.stripes for key in ((number, False), (number, True)))
        } - self._unseen

    def _insert_blocks(self, blocks: Sequence[dict[str, object]]) -> None:
        """Numbers of blocks are never given again, so that whoever sends them on knows which are new."""
        numbered = [{**block, "id": self._next_block + place} for place, block in enumerate(blocks)]
        self._next_block += len(numbered)
        insert_into(self._write_connection, tables.block, numbered, LARGE_AT_ONCE)

    def _note_blocks(self) -> None:
        """Blocks are removed, those with the highest numbers among them."""
        self._write_connection.exec_driver_sql(_NOTE_MORE, (NEXT_BLOCK, float(self._next_block)))

    def _note_sealed(self, sealed: Sealed) -> None:
        for row in sealed.blocks:
            host, last = int(str(row["host"])), int(str(row["last"]))
            self.sealed_until[host] = max(self.sealed_until.get(host, 0), last)
        for series, times, values in sealed.tails:
            self.reader.tails.note(series, times, values)

    def lay_down(self, series: Sequence[I64], times: Sequence[I64], values: Sequence[F64]) -> None:
        """The bulk path: writes history as sealed blocks and matrices at once, without the inbox.

        Each element is series [s], their shared ascending times [n] and values [s, n]; a series is in one of them
        only. Points that are there already are left out.
        """
        with self._sealing:
            sealer = Sealer(self.catalogue, self._encoder, self.reader.tails)
            for ids, moments, part in zip(series, times, values, strict=True):
                self._lay_one(sealer, ids, moments, part)
            sealed = sealer.finish(self.reader.stored)
            self._writer.run(lambda: self._write_bulk(sealed))

    def _lay_one(self, sealer: Sealer, ids: I64, moments: I64, part: F64) -> None:
        if bool((moments[0] > self.reader.tails.of(ids).times).all()) and not self.head.any_of(ids):
            sealer.add(ids, moments, part)
            return
        for place, one in enumerate(ids.tolist()):
            same = np.full(len(moments), one)
            there = self.head.has(same, moments)
            there |= self.reader.stored_moments(self.catalogue.series[one].host, same, moments)
            if not there.all():
                sealer.keep(one, moments[~there], part[place][~there])

    def _write_bulk(self, sealed: Sealed) -> None:
        pending = self.catalogue.take_pending()
        connection = self._write_connection
        with self._moment:
            try:
                pending.write(connection, self.catalogue.series)
                if sealed.blocks:
                    self._insert_blocks(sealed.blocks)
                    insert_into(connection, tables.matrix, sealed.matrices, LARGE_AT_ONCE)
                connection.commit()
            except Exception:
                connection.rollback()
                self.catalogue.restore(pending)
                raise
            self._note_sealed(sealed)
            self._door.begin(self.sealed_until)

    def compact(self, now: int, longest: float = math.inf) -> int:
        """Puts together what is over of matrices, one metric a step, until all is or so many seconds are over.

        Answers how many steps were done.
        """
        return self._compactor.work(now, longest)

    def erase(self, host: int) -> int:
        """Removes every point of a host, from blocks and from matrices. Answers how many of its series there were.

        The series stay in the catalogue, empty: their numbers are never given to others.
        """
        self.seal(np.iinfo(np.int64).max)
        own = np.array(self.catalogue.of_host(host), np.int64)
        metrics = self.catalogue.metrics_of(host)

        def remove() -> None:
            with self._moment:
                self._write_connection.execute(delete(tables.block).where(tables.block.c.host == host))
                self._note_blocks()
                self._write_connection.commit()

        self._writer.run(remove)
        self._compactor.without(own, metrics)
        return len(own)

    def forget(self, now: int) -> None:
        """Removes what is older than its tier is kept."""
        block, matrix = tables.block, tables.matrix
        raw = self.kept_from("raw", now) - RAW_MARGIN

        def remove() -> None:
            connection = self._write_connection
            connection.execute(delete(block).where(block.c.last < raw))
            self._note_blocks()
            for tier in TIERS:
                old = self.kept_from(tier, now) // DAY
                over = (matrix.c.day < old) & (matrix.c.day + func.max(matrix.c.whole, 1) <= old)
                connection.execute(delete(matrix).where(matrix.c.tier == TIER_SECONDS[tier], over))
            connection.commit()

        self._writer.run(remove)

    def make_room(self, now: int) -> int:
        """Forgets series of hosts that have nearly as many as they may: those silent for longest, none that was heard
        within a day. Answers how many. What they measured goes with them."""
        gone: list[int] = []
        for host, too_many in self.catalogue.crowded(CROWDED):
            last = self._last_heard(host)
            old = sorted((at, number) for number, at in last.items() if at < now - DAY)
            gone += [number for _, number in old[: too_many + int(len(last) * SPARE_ROOM)]]
        for at in range(0, len(gone), 2000):
            part = gone[at : at + 2000]
            self._writer.run(lambda part=part: self._forget_series(part))  # type: ignore[misc]
        self.forgotten += len(gone)
        return len(gone)

    def _forget_series(self, numbers: list[int]) -> None:
        numbers = [n for n in numbers if n in self.catalogue.series and not self.head.any_of(np.array([n]))]
        if numbers:
            with self._moment:
                self.catalogue.forget(self._write_connection, numbers)

    def _last_heard(self, host: int) -> dict[int, int]:
        """When each series of a host was heard last, nanoseconds: now for those with recent points, the end of the last
        block that has it, 0 for those of which only rollups are left."""
        series = self.catalogue.of_host(host)
        last = dict.fromkeys(series, 0)
        query = select(tables.block.c.series, tables.block.c.last).where(tables.block.c.host == host)
        with self.engine.connect() as connection:
            for ids, end in connection.execute(query.order_by(tables.block.c.last)):
                last.update((n, end) for n in np.frombuffer(ids, np.int64).tolist() if n in last)
        last.update((n, self._clock()) for n in series if self.head.any_of(np.array([n])))
        return last

    # --- telling

    def kept_from(self, tier: TierName, now: int) -> int:
        """From when on a tier has everything that was sent, nanoseconds."""
        days = {"raw": self.retention.raw, "5m": self.retention.five_minutes, "1h": self.retention.hour}[tier]
        return now - int(days * DAY)

    def kept_since(self, tier: TierName) -> int:
        """`kept_from` as of now."""
        return self.kept_from(tier, self._clock())

    @property
    def waiting(self) -> int:
        return self._writer.waiting

    def size(self) -> int:
        """Bytes on disk, with what is still in the write-ahead log."""
        return sum(p.stat().st_size for p in self.path.parent.glob("series.db*"))

    def stored_samples(self) -> int:
        """How many samples stand in blocks."""
        with self.engine.connect() as connection:
            return int(connection.execute(text("SELECT coalesce(sum(samples), 0) FROM block")).scalar_one())

    def end_sealing(self) -> None:
        """No part is sealed any more after the one that is: what is not can be at the next start."""
        self._ending = True

    def close(self) -> None:
        self.end_sealing()
        self._writer.close()
        self._write_connection.close()
        self.engine.dispose()
