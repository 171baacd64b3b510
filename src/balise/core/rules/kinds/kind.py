"""What a kind of limit has to say."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import ClassVar

import numpy as np
from numpy.typing import NDArray

from balise.api.limits import Limit
from balise.core.rules.look import Look
from balise.core.rules.room import Room

F64 = NDArray[np.float64]
Mask = NDArray[np.bool_]


class Kind(ABC):
    """One severity's limit of all rows. Every row has the rule's own, unless it was given another.

    A subclass names its numbers in `NUMBERS`, which become arrays [rows] of the same names.
    """

    NUMBERS: ClassVar[tuple[str, ...]]

    def __init__(self, limit: Limit, own: tuple[float, ...] | None = None) -> None:
        """`own` are the numbers of the limit where it does not say them itself."""
        vars(self).update({name: np.empty(0) for name in self.NUMBERS})
        self._begin(self.numbers(limit) if own is None else own)

    def _begin(self, own: tuple[float, ...]) -> None:
        self._own = own
        self._room = Room(dict(zip(self.NUMBERS, own, strict=True)))

    @staticmethod
    @abstractmethod
    def numbers(limit: Limit) -> tuple[float, ...]:
        """The numbers of a limit, in the order of `NUMBERS`."""

    @abstractmethod
    def breached(self, look: Look, rows: slice) -> Mask:
        """Which of some rows are in breach; `look` is of these rows alone. NaN is no breach."""

    @abstractmethod
    def cleared(self, look: Look, rows: slice) -> Mask:
        """Which of them are so far from breach that an alert ends."""

    def known(self, look: Look) -> Mask:
        """Of which rows there is anything to judge by."""
        return ~np.isnan(look.values)

    @abstractmethod
    def bound(self, look: Look | None, row: int) -> float:
        """The limit of a row, in the unit of what an alert tells."""

    @abstractmethod
    def nearness(self, look: Look, rows: slice) -> F64:
        """How near rows are to breach: 0 far away or not known, 1 at the limit, more beyond it."""

    def grow(self, rows: int) -> None:
        vars(self).update(self._room.grow(vars(self), rows))

    def set(self, row: int, limit: Limit) -> None:
        """Gives a row a limit of its own."""
        self._put(row, self.numbers(limit))

    def reset(self, row: int) -> None:
        """Gives a row the rule's own limit again."""
        self._put(row, self._own)

    def silence(self, row: int) -> None:
        """A row is never in breach."""
        self._put(row, self.never(self._own))

    def disable(self) -> None:
        """The rule itself has no such limit: only rows that are given one do."""
        self._begin(self.never(self._own))

    @staticmethod
    @abstractmethod
    def never(numbers: tuple[float, ...]) -> tuple[float, ...]:
        """Numbers like these, that nothing reaches."""

    def _put(self, row: int, numbers: tuple[float, ...]) -> None:
        for name, number in zip(self.NUMBERS, numbers, strict=True):
            getattr(self, name)[row] = number


def shares(distance: F64, scale: F64) -> F64:
    """`distance / scale`, at least 0; 0 where either is not known."""
    with np.errstate(all="ignore"):
        found = np.where(scale > 0, distance / scale, np.where(distance > 0, 2.0, 0.0))
    clean: F64 = np.nan_to_num(found, nan=0.0, posinf=1e9, neginf=0.0)
    return np.clip(clean, 0.0, 1e9)
