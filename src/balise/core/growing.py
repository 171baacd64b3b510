"""How large what is kept will be, from what a day of it takes and how long it stays."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass


@dataclass(frozen=True)
class Kept:
    """One kind of what is kept: bytes that a day of it takes, days that it stays, and days of it that are here."""

    kind: str
    per_day: float
    days: float
    here: float

    def size(self, ahead: float) -> float:
        """Bytes in so many days, if each is like this one.

        >>> Kept("points", 1e6, 14, 3).size(4) / 1e6, Kept("points", 1e6, 14, 3).size(40) / 1e6
        (7.0, 14.0)
        """
        return self.per_day * min(self.days, self.here + ahead)


def forecast(kinds: Iterable[Kept], other: float, ahead: float) -> float:
    """Bytes of everything in so many days; `other` is what does not grow."""
    return other + sum(kind.size(ahead) for kind in kinds)


def stored_size(payload: float, page: int) -> float:
    """Bytes that a row of SQLite takes of pages of so many bytes: a long one fills pages of its own, and each but the
    last wholly (https://www.sqlite.org/fileformat2.html#cell_payload_overflow_pages).

    >>> stored_size(100, 4096), stored_size(20_000, 4096), stored_size(20_000, 8192)
    (100, 20016, 20008)
    """
    largest, least = page - 35, (page - 12) * 32 // 255 - 23
    if payload <= largest:
        return payload
    local = least + (payload - least) % (page - 4)
    if local > largest:
        local = least
    pages = -(-(payload - local) // (page - 4))
    return local + pages * page
