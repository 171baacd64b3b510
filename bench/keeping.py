"""Keeping and asking: bytes a sample on this host's own readings, and the times of typical questions."""

from __future__ import annotations

import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

from balise.collect.here import system_collectors
from balise.collect.readings import Reading
from balise.core.moments import NS
from balise.core.series.codec import BlockEncoder, decode_block
from balise.core.series.steps import Steps, steps_between
from balise.store.series.matrices import DAY
from balise.store.series.query import QueryEngine, Selector
from balise.store.series.store import SeriesStore
from report import Report, best

T0 = 1_800_000_000 * NS // DAY * DAY


def real_readings(samples: int = 480, pause: float = 0.04) -> np.ndarray:
    """This machine's own system metrics, read quickly one after the other, while something works. [series, samples]"""
    collectors = system_collectors()
    found: dict[str, list[float]] = {}
    for i in range(samples + 1):
        began = time.perf_counter()
        for c in collectors:
            for r in c.read(time.time()):
                if isinstance(r, Reading):
                    found.setdefault(f"{r.metric} {sorted(r.attributes.items())}", []).append(r.value)
        if i % 3 == 0:
            sum(x * x for x in range(60_000))
        time.sleep(max(0.0, pause - (time.perf_counter() - began)))
    return np.array([v[-samples:] for v in found.values() if len(v) >= samples])


def xor_bits(values: np.ndarray) -> float:
    """Bytes a value of the published XOR scheme: 1 bit for the same, else 2 bits with or without a new 11-bit window."""
    bits = values.view(np.uint64)
    total = 0
    for row in bits:
        lead_kept = trail_kept = -1
        total += 64
        for x in (row[1:] ^ row[:-1]).tolist():
            if x == 0:
                total += 1
                continue
            lead, trail = min(64 - x.bit_length(), 31), (x & -x).bit_length() - 1
            if lead_kept >= 0 and lead >= lead_kept and trail >= trail_kept:
                total += 2 + 64 - lead_kept - trail_kept
            else:
                lead_kept, trail_kept = lead, trail
                total += 2 + 11 + 64 - lead - trail
    return total / 8 / values.size


def codec(report: Report) -> None:
    report.title("Keeping: this host's own readings, blocks of 50 series x 480 samples")
    values = real_readings(report.size(480, 60))
    encoder = BlockEncoder()
    ids = np.arange(len(values))
    blocks = [encoder.encode(values[i : i + 50], ids[i : i + 50]) for i in range(0, len(values), 50)]
    size = sum(map(len, blocks)) / values.size
    xor = xor_bits(values)
    report.figure("series, of which constant", f"{len(values)}, {int((values == values[:, :1]).all(axis=1).sum())}")
    moving = values[~(values == values[:, :1]).all(axis=1)]
    report.figure("bytes a sample of series that move", f"{len(BlockEncoder().encode(moving)) / moving.size:.3f}")
    report.figure("XOR scheme on the same data, bytes a sample", f"{xor:.3f}")
    report.budget("bytes a sample", size, 1.0, most=True)
    report.budget("against the XOR scheme, ratio", size / xor, 0.5, most=True)

    def encode() -> None:
        for i in range(0, len(values), 50):
            encoder.encode(values[i : i + 50], ids[i : i + 50])

    report.budget("encode, M samples/s", values.size / best(encode) / 1e6, 10, most=False)
    report.budget(
        "decode, M samples/s", values.size / best(lambda: [decode_block(b) for b in blocks]) / 1e6, 30, most=False
    )


class Names:
    version = 1

    def attribute(self, host: int, name: str) -> object:
        return f"h{host}" if name == "host" else None

    def name(self, host: int) -> str | None:
        return f"h{host}"


def asking(report: Report) -> None:
    many = report.size(2000, 200)
    report.title(f"Asking: {many:,} series over 24 h at 15 s, 50 series over 30 days at 60 s")
    folder = Path(tempfile.mkdtemp())
    store = SeriesStore(folder)
    metric = store.catalogue.metric("busy", "1", "gauge", "")
    long = store.catalogue.metric("long", "1", "gauge", "")
    rng = np.random.default_rng(4)
    samples = 0
    times = T0 + np.arange(5760) * 15 * NS
    for at in range(0, many, 200):
        part = [np.array([store.catalogue.series_id(h, metric, (), "", "gauge")]) for h in range(at, at + 200)]
        walks = 0.4 + 0.1 * np.cumsum(rng.standard_normal((len(part), 1, 5760)), axis=2) / 40
        store.lay_down(part, [times] * 200, list(np.round(np.clip(walks, 0, 1), 4)))
        samples += 200 * 5760
    wide = T0 - 30 * DAY + np.arange(43_200) * 60 * NS
    ids = np.array([store.catalogue.series_id(5000, long, (("i", str(i)),), "", "gauge") for i in range(50)])
    store.lay_down([ids], [wide], [np.round(rng.random((50, 43_200)), 3)])
    samples += 50 * 43_200
    while store.compact(T0 + 5 * DAY):
        pass
    engine = QueryEngine(store.catalogue, store.reader, Selector(store.catalogue, Names()), store.kept_since)
    day = steps_between(T0 / NS, (T0 + DAY) / NS, step=None, points=800)
    fine, hour = Steps(T0, 300 * NS, 288), Steps(T0, 3600 * NS, 24)
    month = Steps(T0 - 30 * DAY, 3600 * NS, 720)
    store._write_connection.exec_driver_sql("PRAGMA wal_checkpoint(TRUNCATE)")
    store._write_connection.exec_driver_sql("VACUUM")
    store._write_connection.exec_driver_sql("PRAGMA wal_checkpoint(TRUNCATE)")
    report.budget("whole file, bytes a sample (random walks, 4 decimals)", store.size() / samples, 1.7, most=True)
    questions: tuple[tuple[str, float, Callable[[], object]], ...] = (
        (
            "one series, 24 h raw to 800 points, ms",
            5,
            lambda: engine.ask(metric, 'host eq "h77"', day, "avg", ["host"]),
        ),
        ("one series, 30 days, ms", 5, lambda: engine.ask(long, 'i eq "7"', month, "avg", ["i"])),
        ("top 10 of all over 24 h (1 h steps), ms", 10, lambda: engine.ask(metric, None, hour, "avg", ["host"])),
        ("average of all over 24 h (5 min steps), ms", 25, lambda: engine.ask(metric, None, fine, "avg", [])),
    )
    for name, budget, question in questions:
        question()
        report.budget(name, best(question, 7) * 1e3, budget, most=True)
    store.close()


def run(report: Report) -> None:
    codec(report)
    asking(report)
