"""Sets of attributes: one that comes again is kept once, and a number with each event that has it."""

from __future__ import annotations

from sqlalchemy import Connection

MOST_MET, MOST_KNOWN, MOST_BYTES = 50_000, 50_000, 8 << 20


class AttributeSets:
    """The sets of one day, as its one writer knows them. A set that is met for the first time stays with its event."""

    def __init__(self) -> None:
        self._met: set[int] = set()
        self.known: dict[str | None, int] = {}
        """The numbers of sets that came again."""
        self._bytes = 0

    def kept(self, connection: Connection, attributes: str | None) -> str | int | None:
        """What an event keeps: its attributes, or the number of a set; new ones are written in this transaction."""
        if attributes is None:
            return None
        number = self.known.get(attributes)
        if number is not None:
            return number
        mark = hash(attributes)
        if mark not in self._met:
            if len(self._met) >= MOST_MET:
                self._met.clear()
            self._met.add(mark)
            return attributes
        if len(self.known) >= MOST_KNOWN or self._bytes > MOST_BYTES:
            self.forget()
        found = connection.exec_driver_sql("INSERT INTO kept (attributes) VALUES (?)", (attributes,))
        self.known[attributes] = found.lastrowid
        self._bytes += len(attributes)
        return self.known[attributes]

    def forget(self) -> None:
        """Lets go of the sets: those that come again are kept once more."""
        self.known.clear()
        self._bytes = 0
