"""The series store: accepts batches durably, keeps them readable at once, seals and forgets them in time."""

from __future__ import annotations

import asyncio
import logging
import threading
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import delete, func, insert, select, text

from balise.core.series.codec import BlockEncoder
from balise.core.series.steps import NS, TIER_SECONDS, Steps, Summary
from balise.store.database import open_engine
from balise.store.series import tables
from balise.store.series.catalogue import Catalogue, Layout
from balise.store.series.head import Batch, Head
from balise.store.series.reader import Reader
from balise.store.series.seal import DAY, TIERS, Sealed, Sealer, matrix_rows
from balise.store.writer import GroupWriter

I64 = NDArray[np.int64]
F64 = NDArray[np.float64]
log = logging.getLogger(__name__)

_INSERT = "INSERT INTO inbox (seq, layout, times, points) VALUES (?, ?, ?, ?)"
SEAL_AFTER = 2 * 3600 * NS
SEAL_SETTLE = 300 * NS
"""How long before now sealing stops, so that the last minutes can still be put in order cheaply."""
MOST_A_SEALING = 4_000_000
QUEUE_POINTS = 2_000_000


@dataclass(frozen=True)
class Retention:
    """How many days each tier is kept."""

    raw: float = 14.0
    five_minutes: float = 90.0
    hour: float = 730.0


class SeriesStore:
    """All of series.db. `listeners` are called on the writer's thread with each group of batches written."""

    def __init__(self, folder: Path, *, retention: Retention | None = None, most_recent: int = 30_000_000) -> None:
        self.path = folder / "series.db"
        self.retention = retention or Retention()
        self._most_recent = most_recent
        self._engine = open_engine(self.path, cache_mib=16)
        self._create()
        self.catalogue = Catalogue()
        self.head = Head()
        self.sealed_until: dict[int, int] = {}
        self._moment = threading.Lock()
        self._sealing = threading.Lock()
        self._encoder = BlockEncoder()
        self.reader = Reader(
            self._engine,
            catalogue=self.catalogue,
            head=self.head,
            moment=self._moment,
            sealed_until=self.sealed_until,
        )
        self.listeners: list[Callable[[Sequence[Batch]], None]] = []
        self.repeated = 0
        self.points = 0
        self._seq = 0
        self._replay()
        self._write_connection = self._engine.connect()
        self._writer: GroupWriter[Batch] = GroupWriter("series-writer", self._commit, limit=QUEUE_POINTS)

    def _create(self) -> None:
        with self._engine.begin() as connection:
            form = connection.exec_driver_sql("PRAGMA user_version").scalar_one()
            if form not in (0, tables.FORM):
                raise RuntimeError(
                    f"{self.path} is of form {form}; this version reads form {tables.FORM}. "
                    "Start the version that wrote it."
                )
            if form == 0:
                connection.exec_driver_sql("PRAGMA page_size=8192")
            tables.metadata.create_all(connection)
            connection.exec_driver_sql(f"PRAGMA user_version={tables.FORM}")

    def _replay(self) -> None:
        with self._engine.connect() as connection:
            self.catalogue.load(connection)
            rows = connection.execute(select(tables.block.c.host, func.max(tables.block.c.last)).group_by("host"))
            self.sealed_until.update((host, last) for host, last in rows)
            for seq, layout, times, points in connection.exec_driver_sql(
                "SELECT seq, layout, times, points FROM inbox ORDER BY seq"
            ):
                batch = Batch(
                    self.catalogue.layout_by_id[layout],
                    np.frombuffer(times, np.int64),
                    np.frombuffer(points, np.float64),
                )
                if not self.head.holds(batch):
                    self.head.append(seq, batch)
                self._seq = seq

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
        for batch in batches:
            if self.head.holds(batch):
                self.repeated += 1
                continue
            if batch.layout.id not in self.catalogue.layout_by_id:
                batch = Batch(self.catalogue.layout(batch.layout.series), batch.times, batch.values)
            self._seq += 1
            fresh.append((self._seq, batch))
        if not fresh:
            return
        pending = self.catalogue.take_pending()
        connection = self._write_connection
        try:
            Catalogue.write(connection, pending)
            connection.exec_driver_sql(
                _INSERT, [(seq, b.layout.id, b.times.tobytes(), b.values.tobytes()) for seq, b in fresh]
            )
            connection.commit()
        except Exception:
            connection.rollback()
            self.catalogue.restore(pending)
            raise
        for seq, batch in fresh:
            self.head.append(seq, batch)
            self.points += len(batch.values)
        taken = [batch for _, batch in fresh]
        for listener in self.listeners:
            listener(taken)

    # --- keeping

    def seal_due(self, now: int) -> int:
        """Seals when the oldest recent point is old, or too many are recent. Answers how many were sealed."""
        if self.head.samples > self._most_recent:
            return self.seal(now)
        oldest = min((int(s.newest_first_time()[0]) for s in list(self.head.stripes.values()) if s.rows), default=now)
        width = TIER_SECONDS["5m"] * NS
        return self.seal((now - SEAL_SETTLE) // width * width) if now - oldest > SEAL_AFTER else 0

    def seal(self, before: int) -> int:
        """Moves what is wholly earlier than `before` from the inbox into blocks and matrices."""
        samples = 0
        with self._sealing:
            waiting = list(self.head.stripes)
            while waiting:
                sealer = Sealer(self.catalogue, self._encoder, self.sealed_until)
                weight = 0
                while waiting and weight < MOST_A_SEALING:
                    key = waiting.pop()
                    stripe = self.head.stripes[key]
                    weight += stripe.values.size
                    sealer.take(key, stripe, before)
                sealed = sealer.finish(self.reader.stored_times)
                if sealed.taken:
                    self._writer.run(lambda sealed=sealed: self._write_sealed(sealed))  # type: ignore[misc]
                    samples += sealed.samples
        return samples

    def _write_sealed(self, sealed: Sealed) -> None:
        seqs = np.concatenate(sealed.seqs)
        gone: list[int] = []
        taken_rows = {key: int(mask.sum()) for key, mask in sealed.taken}
        for key in taken_rows:
            both = [(key[0], True), (key[0], False)]
            left = sum(self.head.stripes[k].rows - taken_rows.get(k, 0) for k in both if k in self.head.stripes)
            if not left:
                gone.append(key[0])
        connection = self._write_connection
        with self._moment:
            try:
                if sealed.blocks:
                    connection.execute(insert(tables.block), sealed.blocks)
                if sealed.matrices:
                    connection.execute(insert(tables.matrix), sealed.matrices)
                connection.exec_driver_sql("DELETE FROM inbox WHERE seq = ?", [(s,) for s in seqs.tolist()])
                if gone:
                    connection.exec_driver_sql("DELETE FROM layout WHERE id = ?", [(g,) for g in set(gone)])
                connection.commit()
            except Exception:
                connection.rollback()
                raise
            self.head.drop(sealed.taken)
            self.catalogue.forget_layouts(gone)
            self._note_sealed(sealed.blocks)

    def _note_sealed(self, blocks: Iterable[dict[str, object]]) -> None:
        for row in blocks:
            host, last = int(str(row["host"])), int(str(row["last"]))
            self.sealed_until[host] = max(self.sealed_until.get(host, 0), last)

    def lay_down(self, series: Sequence[I64], times: Sequence[I64], values: Sequence[F64]) -> None:
        """The bulk path: writes history as sealed blocks and matrices at once, without the inbox.

        Each element is series [s], their shared ascending times [n] and values [s, n]. Points that are there
        already are left out.
        """
        with self._sealing:
            sealer = Sealer(self.catalogue, self._encoder, self.sealed_until)
            for ids, moments, part in zip(series, times, values, strict=True):
                sealer.add(ids, moments, part)
            sealed = sealer.finish(self.reader.stored_times)
            self._writer.run(lambda: self._write_bulk(sealed))

    def _write_bulk(self, sealed: Sealed) -> None:
        pending = self.catalogue.take_pending()
        connection = self._write_connection
        try:
            Catalogue.write(connection, pending)
            connection.execute(insert(tables.block), sealed.blocks)
            connection.execute(insert(tables.matrix), sealed.matrices)
            connection.commit()
        except Exception:
            connection.rollback()
            self.catalogue.restore(pending)
            raise
        self._note_sealed(sealed.blocks)

    def compact(self, now: int) -> int:
        """Puts the pieces of ended days together, one metric a step. Answers how many metrics were done."""
        ended = now // DAY - (1 if now % DAY < 3 * 3600 * NS else 0)
        with self._engine.connect() as connection:
            found = connection.execute(
                select(tables.matrix.c.tier, tables.matrix.c.metric, tables.matrix.c.day)
                .where(tables.matrix.c.day < ended, tables.matrix.c.whole == 0)
                .distinct()
                .limit(500)
            ).all()
        for tier, metric, day in found:
            self._compact_one(tier, metric, day)
        return len(found)

    def erase(self, host: int) -> int:
        """Removes every point of a host, from blocks and from matrices. Answers how many of its series there were.

        The series stay in the catalogue, empty: their numbers are never given to others.
        """
        self.seal(np.iinfo(np.int64).max)
        own = np.array([s.id for s in self.catalogue.series.values() if s.host == host], np.int64)
        metrics = {s.metric for s in self.catalogue.series.values() if s.host == host}

        def remove() -> None:
            with self._moment:
                self._write_connection.execute(delete(tables.block).where(tables.block.c.host == host))
                self._write_connection.commit()

        self._writer.run(remove)
        matrix = tables.matrix.c
        with self._engine.connect() as connection:
            query = select(matrix.tier, matrix.metric, matrix.day).where(matrix.metric.in_(metrics)).distinct()
            found = connection.execute(query).all()
        for tier, metric, day in found:
            self._compact_one(tier, metric, day, without=own)
        return len(own)

    def _compact_one(self, tier_seconds: int, metric: int, day: int, without: I64 | None = None) -> None:
        tier = next(t for t in TIERS if TIER_SECONDS[t] == tier_seconds)
        with self._sealing:
            where = (
                (tables.matrix.c.tier == tier_seconds)
                & (tables.matrix.c.metric == metric)
                & (tables.matrix.c.day == day)
            )
            with self._engine.connect() as connection:
                rows = connection.execute(select(tables.matrix.c.id, tables.matrix.c.series).where(where)).all()
            series = np.unique(np.concatenate([np.frombuffer(ids, np.int64) for _, ids in rows]))
            if without is not None:
                series = np.setdiff1d(series, without)
            width = tier_seconds * NS
            steps = Steps(day * DAY, width, DAY // width)
            summary = Summary.empty(len(series), steps.count)
            self.reader.stored_rollup(tier, metric, series, steps, summary)
            ended = without is None
            made = list(matrix_rows(self._encoder, tier, metric, day, 0, series, summary, whole=ended))

            def swap() -> None:
                connection = self._write_connection
                with self._moment:
                    try:
                        connection.exec_driver_sql("DELETE FROM matrix WHERE id = ?", [(i,) for i, _ in rows])
                        if made:
                            connection.execute(insert(tables.matrix), made)
                        connection.commit()
                    except Exception:
                        connection.rollback()
                        raise

            self._writer.run(swap)

    def forget(self, now: int) -> None:
        """Removes what is older than its tier is kept."""
        block, matrix = tables.block, tables.matrix
        raw = now - int(self.retention.raw * DAY)
        days = {"5m": self.retention.five_minutes, "1h": self.retention.hour}

        def remove() -> None:
            connection = self._write_connection
            connection.execute(delete(block).where(block.c.last < raw))
            for tier in TIERS:
                old = (now - int(days[tier] * DAY)) // DAY
                connection.execute(delete(matrix).where(matrix.c.tier == TIER_SECONDS[tier], matrix.c.day < old))
            connection.commit()

        self._writer.run(remove)

    # --- telling

    @property
    def waiting(self) -> int:
        return self._writer.waiting

    def size(self) -> int:
        """Bytes on disk, with what is still in the write-ahead log."""
        return sum(p.stat().st_size for p in self.path.parent.glob("series.db*"))

    def stored_samples(self) -> int:
        """How many samples stand in blocks."""
        with self._engine.connect() as connection:
            return int(connection.execute(text("SELECT coalesce(sum(samples), 0) FROM block")).scalar_one())

    def close(self) -> None:
        self._writer.close()
        self._write_connection.close()
        self._engine.dispose()
