"""Compressing blocks: one host's series over a run of time, with shared timestamps.

For every series one of four exact forms is chosen: constant; integer at a decimal scale over a common divisor;
rational p/q (a share of CPU time is a ratio of ticks); XOR with the value before. Integers are kept as the
difference to the smallest or to the one before, whichever is narrower, in as few bytes as they need; bytes are
shuffled so that equal places lie together; zstd does the rest. Series of the same form and width share one zstd
frame, so a single series is read without unpacking the whole block.

Every form is bit for bit exact: NaN payloads, infinities and negative zero come back as they were. Every frame has a
checksum, which is looked at whenever it is read.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import zstandard
from numpy.typing import NDArray

from balise.core.series.portions import in_weight

F64 = NDArray[np.float64]
I64 = NDArray[np.int64]
U8 = NDArray[np.uint8]

CONSTANT, INTEGER, RATIONAL, FLOAT = 0, 1, 2, 3
LEVEL = 3
TOGETHER = 1 << 16
"""Values that are worked through together."""
_MAX_EXACT = 2.0**52
_MAX_DENOMINATOR = 1 << 20
_SCALES = np.array([0, 1, 2, 3, 4, 6], np.uint8)
_POWERS = np.array([float(f"1e{power}") for power in range(256)])
"""Powers of ten, each as exact as can be."""
_HEAD = np.dtype(
    [
        ("form", "u1"),
        ("scale", "u1"),
        ("mode", "u1"),
        ("width", "u1"),
        ("base", "<i8"),
        ("first", "<i8"),
        ("divisor", "<i8"),
        ("mode2", "u1"),
        ("width2", "u1"),
        ("base2", "<i8"),
        ("first2", "<i8"),
    ]
)
_FRAME = np.dtype([("form", "u1"), ("width", "u1"), ("second", "u1"), ("size", "<u4")])
_OFFSET, _DELTA = 0, 1
_ONE = 2
"""One, as zigzag: what moments with the same step between them begin with, before nothing but zeros."""


class CodecError(ValueError):
    """The bytes are no block of this codec."""


def _packer() -> zstandard.ZstdCompressor:
    return zstandard.ZstdCompressor(level=LEVEL, write_content_size=True, write_checksum=True)


def _unpack(raw: bytes) -> bytes:
    try:
        return zstandard.ZstdDecompressor().decompress(raw)
    except zstandard.ZstdError as error:
        raise CodecError(f"a block cannot be unpacked: {error}") from None


def encode_times(times: I64) -> bytes:
    """Ascending nanoseconds [n] as bytes: second differences over their common divisor."""
    steps = np.diff(times)
    divisor = int(np.gcd.reduce(steps)) if len(steps) else 1
    divisor = max(divisor, 1)
    turns = np.diff(steps // divisor, prepend=0)
    zigzag = ((turns << 1) ^ (turns >> 63)).astype("<u8")
    head = np.array([len(times), int(times[0]) if len(times) else 0, divisor], "<i8").tobytes()
    return _packer().compress(head + _shuffle(zigzag.view(np.uint8).reshape(1, -1, 8)).tobytes())


def decode_times(blob: bytes) -> I64:
    """The nanoseconds that `encode_times` was given."""
    raw = _unpack(blob)
    n, first, divisor = (int(v) for v in np.frombuffer(raw, "<i8", 3))
    if n == 0:
        return np.empty(0, np.int64)
    if n > 1 and len(raw) == 16 + 8 * n and raw[24] == _ONE and raw.count(0, 25) == len(raw) - 25:
        return first + divisor * np.arange(n)
    body = np.frombuffer(raw, np.uint8, offset=24).reshape(1, 8, n - 1)
    zigzag = _unshuffle(body).reshape(n - 1, 8).view("<u8")[:, 0]
    turns = (zigzag >> np.uint64(1)).astype(np.int64) ^ -(zigzag & np.uint64(1)).astype(np.int64)
    out = np.empty(n, np.int64)
    out[0] = first
    np.cumsum(np.cumsum(turns) * divisor, out=out[1:])
    out[1:] += first
    return out


def _shuffle(raw: U8) -> U8:
    """[rows, n, width] to [rows, width, n]."""
    return np.ascontiguousarray(raw.transpose(0, 2, 1))


def _unshuffle(raw: U8) -> U8:
    return np.ascontiguousarray(raw.transpose(0, 2, 1))


@dataclass
class _Integers:
    """Rows of integers made narrow. `kept` uint64 [rows, n]; the rest one a row."""

    kept: NDArray[np.uint64]
    mode: U8
    width: U8
    base: I64
    first: I64


def _narrow(rows: I64) -> _Integers:
    """Each row as its difference to its minimum or to the value before, whichever is smaller on average."""
    low = rows.min(axis=1)
    offset = (rows - low[:, None]).view(np.uint64)
    steps = np.diff(rows, axis=1, prepend=rows[:, :1])
    zigzag = ((steps << 1) ^ (steps >> 63)).view(np.uint64)
    by_delta = _log2(zigzag).mean(axis=1) < _log2(offset).mean(axis=1) - 0.5
    kept = np.where(by_delta[:, None], zigzag, offset)
    top = kept.max(axis=1)
    width = np.select([top < 1 << 8, top < 1 << 16, top < 1 << 32], [1, 2, 4], 8).astype(np.uint8)
    return _Integers(kept, by_delta.astype(np.uint8), width, low, rows[:, 0].copy())


def _log2(rows: NDArray[np.uint64]) -> F64:
    """About the binary logarithm of one more than each: a float's own bits tell it to within 0.09."""
    told: F64 = (1.0 + rows).view(np.int64) / 2.0**52 - 1023.0
    return told


def _common_divisor(rows: I64) -> I64:
    """The greatest common divisor of each row, at least 1. A few of a row mostly tell already that it is 1."""
    found: I64 = np.gcd.reduce(rows[:, :: max(1, rows.shape[1] // 8)], axis=1)
    open_ = np.flatnonzero(found != 1)
    if len(open_):
        found[open_] = np.gcd.reduce(rows[open_], axis=1)
    return np.maximum(found, 1)


def _widen(kept: NDArray[np.uint64], mode: U8, base: I64, first: I64, since: int = 0) -> I64:
    rows = kept[:, since:].view(np.int64) + base[:, None]
    delta = np.flatnonzero(mode == _DELTA)
    if len(delta):
        zigzag = kept if len(delta) == len(kept) else kept[delta]
        steps = (zigzag >> np.uint64(1)).view(np.int64) ^ -(zigzag & np.uint64(1)).view(np.int64)
        rows[delta] = np.cumsum(steps, axis=1)[:, since:] + first[delta][:, None]
    return rows


def _bytes_of(kept: NDArray[np.uint64], width: int) -> bytes:
    narrow = kept.astype(f"<u{width}")
    return _shuffle(narrow.view(np.uint8).reshape(*narrow.shape, width)).tobytes()


def _rows_of(raw: bytes, rows: int, n: int, width: int, until: int) -> NDArray[np.uint64]:
    if len(raw) != rows * n * width:
        raise CodecError("a block's frame has the wrong size")
    plain = _unshuffle(np.frombuffer(raw, np.uint8).reshape(rows, width, n)[:, :, :until])
    return plain.reshape(rows, until * width).view(f"<u{width}").astype(np.uint64)


def _exact_integers(values: F64) -> tuple[NDArray[np.bool_], U8, I64]:
    """Rows that are integers at a decimal scale: which, the scale, and the integers."""
    rows, n = values.shape
    done = np.zeros(rows, bool)
    scale = np.zeros(rows, np.uint8)
    integers = np.zeros((rows, n), np.int64)
    bits = values.view(np.int64)
    # A few samples settle most rows: only the scales that those pass are worked through.
    probe = values[:, :: max(1, n // 8), None]
    powers = _POWERS[_SCALES]
    with np.errstate(over="ignore", invalid="ignore"):
        near = np.rint(probe * powers)
        worth = ((near / powers == probe) & (np.abs(near) < _MAX_EXACT)).all(axis=1)
    worth &= np.isfinite(values).all(axis=1, keepdims=True)
    left = np.flatnonzero(worth.any(axis=1))
    while len(left):
        smallest = worth[left].argmax(axis=1)
        worth[left, smallest] = False
        power = powers[smallest][:, None]
        with np.errstate(over="ignore"):
            near = np.rint(values[left] * power)
        good = (np.abs(near) < _MAX_EXACT).all(axis=1)
        whole = np.where(good[:, None], near, 0.0).astype(np.int64)
        # Through the integer, so that a negative zero does not pass for zero.
        good &= ((whole / power).view(np.int64) == bits[left]).all(axis=1)
        chosen = left[good]
        done[chosen] = True
        scale[chosen] = _SCALES[smallest[good]]
        integers[chosen] = whole[good]
        left = left[~good]
        left = left[worth[left].any(axis=1)]
    return done, scale, integers


def _rationals(values: F64) -> tuple[I64, I64, NDArray[np.bool_]]:
    """p and q with p / q == value exactly, by continued fractions; and which values have such a pair."""
    good = np.isfinite(values) & (np.abs(values) < 1e6)
    x = np.where(good, values, 0.0).ravel()
    p, q = np.floor(x), np.ones_like(x)
    found = p == x
    # Of those that are not yet found: the last two convergents, and what is left over.
    left = np.flatnonzero(~found)
    p1, rest = p[left], x[left] - p[left]
    p0, q0, q1 = np.ones_like(p1), np.zeros_like(p1), np.ones_like(p1)
    with np.errstate(divide="ignore", invalid="ignore", over="ignore"):
        for _ in range(12):
            if not len(left):
                break
            flipped = 1.0 / rest
            a = np.floor(flipped)
            p0, q0, p1, q1 = p1, q1, a * p1 + p0, a * q1 + q0
            rest = flipped - a
            hit = p1 / q1 == x[left]
            usable = (q1 <= _MAX_DENOMINATOR) & (np.abs(p1) < _MAX_EXACT)
            there = hit & usable
            at = left[there]
            p[at], q[at], found[at] = p1[there], q1[there], True
            on = usable & ~hit & (rest != 0)
            left, rest = left[on], rest[on]
            p0, q0, p1, q1 = p0[on], q0[on], p1[on], q1[on]
    over, under = (kept.astype(np.int64).reshape(values.shape) for kept in (p, q))
    back = (over / under).view(np.int64) == values.view(np.int64)
    return over, under, found.reshape(values.shape) & good & back


@dataclass(frozen=True)
class _Lane:
    """What rows of one form keep: `rows` says which, ascending, `width` in how many bytes, and `kept` uint64 [rows, n]
    what."""

    form: int
    second: int
    rows: NDArray[np.intp]
    width: U8
    kept: NDArray[np.uint64]

    def frames(self, start: int, end: int, packer: zstandard.ZstdCompressor) -> Iterator[tuple[int, int, int, bytes]]:
        """Those of the rows within [start, end): form, width, second, and the packed bytes."""
        lo, hi = np.searchsorted(self.rows, [start, end]).tolist()
        if lo == hi:
            return
        widths, kept = self.width[lo:hi], self.kept[lo:hi]
        for width in sorted(set(widths.tolist())):
            same = widths == width
            mine = kept if same.all() else kept[same]
            yield self.form, width, self.second, packer.compress(_bytes_of(mine, width))


class BlockEncoder:
    """Encodes blocks; remembers which series were rational so that the search is made only where it pays."""

    def __init__(self) -> None:
        self._hints: dict[int, bool] = {}

    def encode(self, values: F64, series: I64 | None = None) -> bytes:
        """`values` float64 [series, n] as bytes; `series` ids [series] are only hints for the search."""
        return self.encode_many([values], None if series is None else [series])[0]

    def encode_many(self, blocks: Sequence[F64], series: Sequence[I64] | None = None) -> list[bytes]:
        """Each block as bytes, as `encode` gives them: blocks of the same length are worked through together, which
        takes a fraction of the time where they are small."""
        out = [b""] * len(blocks)
        waiting: dict[int, list[int]] = {}
        for place, block in enumerate(blocks):
            waiting.setdefault(block.shape[1], []).append(place)
        sizes = np.array([block.size for block in blocks], np.int64)
        for same in waiting.values():
            for part in in_weight(np.array(same), sizes, TOGETHER):
                places = part.tolist()
                values = np.concatenate([blocks[place] for place in places])
                ids = None if series is None else np.concatenate([series[place] for place in places])
                ends = np.cumsum([len(blocks[place]) for place in places]).tolist()
                for place, made in zip(places, self._together(values, ids, ends), strict=True):
                    out[place] = made
        return out

    def _together(self, values: F64, series: I64 | None, ends: Sequence[int]) -> Iterator[bytes]:
        """The bytes of blocks whose rows stand one after the other and end at `ends`."""
        n = values.shape[1]
        head, lanes = self._forms(values, series)
        packer = _packer()
        for start, end in zip([0, *ends], ends, strict=False):
            frames = [frame for lane in lanes for frame in lane.frames(start, end, packer)]
            index = np.array([(f, w, s, len(raw)) for f, w, s, raw in frames], _FRAME)
            packed_head = packer.compress(head[start:end].tobytes())
            sizes = np.array([end - start, n, len(frames), len(packed_head)], "<u4").tobytes()
            yield sizes + packed_head + index.tobytes() + b"".join(raw for *_, raw in frames)

    def _forms(self, values: F64, series: I64 | None) -> tuple[NDArray[np.void], list[_Lane]]:
        """The form of each row: the heads [rows], and what is kept of them."""
        rows, n = values.shape
        head = np.zeros(rows, _HEAD)
        bits = values.view(np.int64)
        constant = (bits == bits[:, :1]).all(axis=1) if n else np.ones(rows, bool)
        head["form"] = FLOAT
        head["form"][constant] = CONSTANT
        if n:
            head["first"][constant] = bits[constant, 0]
        lanes: list[_Lane] = []
        left = np.flatnonzero(~constant)
        done, scale, integers = _exact_integers(values[left])
        if done.any():
            lanes.append(self._integers(head, left[done], scale[done], integers[done]))
        left = left[~done]
        left = self._try_rationals(head, lanes, values, left, series)
        if len(left):
            crossed = bits[left].copy()
            crossed[:, 1:] ^= bits[left, :-1]
            head["width"][left] = 8
            lanes.append(_Lane(FLOAT, 0, left, np.full(len(left), 8, np.uint8), crossed.view(np.uint64)))
        return head, lanes

    @staticmethod
    def _integers(head: NDArray[np.void], rows: NDArray[np.intp], scale: U8, integers: I64) -> _Lane:
        low = integers.min(axis=1)
        above = integers - low[:, None]
        divisor = _common_divisor(above)
        coarse = np.flatnonzero(divisor > 1)
        above[coarse] //= divisor[coarse, None]
        narrow = _narrow(above)
        head["form"][rows], head["scale"][rows] = INTEGER, scale
        head["mode"][rows], head["width"][rows] = narrow.mode, narrow.width
        head["base"][rows], head["first"][rows], head["divisor"][rows] = low, narrow.first, divisor
        return _Lane(INTEGER, 0, rows, narrow.width, narrow.kept)

    def _try_rationals(
        self,
        head: NDArray[np.void],
        lanes: list[_Lane],
        values: F64,
        left: NDArray[np.intp],
        series: I64 | None,
    ) -> NDArray[np.intp]:
        """Rows that are such: adds what they keep to `lanes`, and answers the others."""
        if not len(left):
            return left
        ids = series[left].tolist() if series is not None else [-1] * len(left)
        worth = np.array([self._hints.get(i, True) for i in ids])
        tried = left[worth]
        if not len(tried):
            return left
        n = values.shape[1]
        probe = values[tried][:, :: max(1, n // 16)]
        *_, found = _rationals(probe)
        tried = tried[found.all(axis=1)]
        p, q, found = _rationals(values[tried])
        whole = found.all(axis=1)
        rows = tried[whole]
        if series is not None:
            if len(self._hints) > 1_000_000:
                self._hints.clear()
            self._hints.update(dict.fromkeys(series[left].tolist(), False))
            self._hints.update(dict.fromkeys(series[rows].tolist(), True))
        if len(rows):
            upper, lower = _narrow(p[whole]), _narrow(q[whole])
            head["form"][rows] = RATIONAL
            head["mode"][rows], head["width"][rows] = upper.mode, upper.width
            head["base"][rows], head["first"][rows] = upper.base, upper.first
            head["mode2"][rows], head["width2"][rows] = lower.mode, lower.width
            head["base2"][rows], head["first2"][rows] = lower.base, lower.first
            lanes += [_Lane(RATIONAL, second, rows, part.width, part.kept) for second, part in ((0, upper), (1, lower))]
        return np.setdiff1d(left, rows, assume_unique=True)


_EVERY = slice(None)


@dataclass(frozen=True)
class _Opened:
    head: NDArray[np.void]
    n: int
    since: int
    until: int
    """Which of the `n` columns are wanted."""
    frames: dict[tuple[int, int, int], bytes]


def _open(blob: bytes, columns: slice) -> _Opened:
    if len(blob) < 16:
        raise CodecError("a block is cut")
    rows, n, count, head_size = (int(v) for v in np.frombuffer(blob, "<u4", 4))
    head = np.frombuffer(_unpack(blob[16 : 16 + head_size]), _HEAD)
    if len(head) != rows:
        raise CodecError("a block's head has the wrong size")
    at = 16 + head_size
    index = np.frombuffer(blob, _FRAME, count, at)
    at += index.nbytes
    frames = {}
    for form, width, second, size in index.tolist():
        frames[(form, width, second)] = blob[at : at + size]
        at += size
    since, until, _ = columns.indices(n)
    return _Opened(head, n, since, max(since, until), frames)


def decode_block(blob: bytes, rows: NDArray[np.intp] | None = None, columns: slice = _EVERY) -> F64:
    """The values of a block, float64 [rows, n]; all of them, or only the given rows in their order, and only some
    columns, which lie side by side.

    Raises:
        CodecError: the bytes are damaged or no block.
    """
    block = _open(blob, columns)
    width = block.until - block.since
    wanted = np.arange(len(block.head)) if rows is None else rows
    out = np.empty((len(wanted), width), np.float64)
    bits = out.view(np.int64)
    form = block.head["form"][wanted]
    constant = form == CONSTANT
    if constant.any():
        bits[constant] = block.head["first"][wanted[constant]][:, None]
    for code in (INTEGER, RATIONAL, FLOAT):
        places = np.flatnonzero(form == code)
        if len(places):
            chosen = wanted[places]
            if code == INTEGER:
                out[places] = _decode_integers(block, chosen)
            elif code == RATIONAL:
                upper = _decode_narrow(block, RATIONAL, chosen, 0)
                out[places] = upper / _decode_narrow(block, RATIONAL, chosen, 1)
            else:
                crossed = _frame_rows(block, FLOAT, 8, 0, chosen)
                bits[places] = np.bitwise_xor.accumulate(crossed.view(np.int64), axis=1)[:, block.since :]
    return out


def _decode_integers(block: _Opened, rows: NDArray[np.intp]) -> F64:
    head = block.head[rows]
    small = _decode_narrow(block, INTEGER, rows, 0)
    whole = small * head["divisor"][:, None] + head["base"][:, None]
    out: F64 = whole / _POWERS[head["scale"]][:, None]
    return out


def _decode_narrow(block: _Opened, form: int, rows: NDArray[np.intp], second: int) -> I64:
    mark = "2" if second else ""
    head = block.head
    out = np.empty((len(rows), block.until - block.since), np.int64)
    widths = head["width" + mark][rows]
    for width in np.unique(widths).tolist():
        places = np.flatnonzero(widths == width)
        chosen = rows[places]
        kept = _frame_rows(block, form, width, second, chosen)
        base = np.zeros(len(chosen), np.int64) if form == INTEGER else head["base" + mark][chosen]
        out[places] = _widen(kept, head["mode" + mark][chosen], base, head["first" + mark][chosen], block.since)
    return out


def _frame_rows(block: _Opened, form: int, width: int, second: int, rows: NDArray[np.intp]) -> NDArray[np.uint64]:
    mark = "2" if second else ""
    members = np.flatnonzero((block.head["form"] == form) & (block.head["width" + mark] == width))
    raw = _unpack(block.frames[(form, width, second)])
    if len(rows) == len(members):
        return _rows_of(raw, len(members), block.n, width, block.until)[np.searchsorted(members, rows)]
    size = block.n * width
    parts = [raw[p * size : (p + 1) * size] for p in np.searchsorted(members, rows).tolist()]
    return _rows_of(b"".join(parts), len(rows), block.n, width, block.until)
