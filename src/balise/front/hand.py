"""What is in hand: bodies that came and were not handed on yet, never more bytes of them than there is room for."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

SMALL, MOST_SMALL = 256 << 10, 64 << 20
"""Small bodies have room of their own, so that ordinary deliveries go on beside large ones."""


class NoRoom(Exception):
    """Too much is in hand already."""


class InHand:
    """`most_large` is of how many bytes all large bodies may be."""

    def __init__(self, most_large: int) -> None:
        self._most_large = most_large
        self._large = self._small = 0

    @contextmanager
    def holding(self, size: int) -> Iterator[None]:
        """While a body is worked on. A large one alone is always taken.

        Raises:
            NoRoom: there is too much already.
        """
        if size <= SMALL:
            if self._small + size > MOST_SMALL:
                raise NoRoom
            self._small += size
            try:
                yield
            finally:
                self._small -= size
            return
        if self._large and self._large + size > self._most_large:
            raise NoRoom
        self._large += size
        try:
            yield
        finally:
            self._large -= size
