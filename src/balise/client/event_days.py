"""Days of events, here and set aside."""

from __future__ import annotations

from balise.api.event_days import EventDay
from balise.client.connection import quoted
from balise.client.noun import Items, Noun

COPYING = 3600.0
"""Seconds that a large day may take."""


class EventDays(Noun):
    """Days of events: copied out, verified, let go, brought back."""

    def list(self) -> Items[EventDay]:
        """The days of which there are events, here or set aside, the newest first.

        >>> balise.days.list()[0].here
        True
        """
        return self._connection.items(EventDay, "/event-days")

    def set_aside(self, day: str) -> EventDay:
        """Copies a day that is over, and has the copy read back; the day itself stays.

        >>> balise.days.set_aside("2001-01-01")
        Traceback (most recent call last):
        balise.client.errors.Refused: There are no events of 2001-01-01 here.
        """
        return self._done(day, "set-aside")

    def bring_back(self, day: str) -> EventDay:
        """Puts a copy among the days again, to be searched like all others until it is let go.

        >>> balise.days.bring_back("2001-01-01")
        Traceback (most recent call last):
        balise.client.errors.Refused: 2001-01-01 is not set aside.
        """
        return self._done(day, "bring-back")

    def let_go(self, day: str) -> EventDay:
        """Removes a day from here of which there is a copy that reads back.

        >>> balise.days.let_go("2001-01-01")
        Traceback (most recent call last):
        balise.client.errors.Refused: 2001-01-01 is not set aside.
        """
        return self._done(day, "let-go")

    def _done(self, day: str, what: str) -> EventDay:
        return self._connection.send(EventDay, "POST", f"/event-days/{quoted(day)}/{what}", seconds=COPYING)
