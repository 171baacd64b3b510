"""Times as iCalendar (RFC 5545)."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime

from icalendar import Calendar, Event
from starlette.responses import Response


class CalendarFile(Response):
    """An answer in iCalendar."""

    media_type = "text/calendar"


@dataclass(frozen=True)
class Entry:
    """One time in a calendar; unix seconds. `number` is the same whenever it is asked for."""

    number: str
    text: str
    start: float
    end: float
    about: str = ""


def calendar(name: str, entries: Iterable[Entry], now: float) -> bytes:
    """A calendar of a name."""
    made = Calendar()
    made.add("prodid", "-//Balise//Balise//EN")
    made.add("version", "2.0")
    made.add("x-wr-calname", name)
    for entry in entries:
        event = Event()
        event.add("uid", f"{entry.number}@balise.invalid")
        event.add("dtstamp", datetime.fromtimestamp(now, UTC))
        event.add("dtstart", datetime.fromtimestamp(entry.start, UTC))
        event.add("dtend", datetime.fromtimestamp(entry.end, UTC))
        event.add("summary", entry.text)
        if entry.about:
            event.add("description", entry.about)
        made.add_component(event)
    return bytes(made.to_ical())
