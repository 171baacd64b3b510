"""Maintenance windows: when something is worked on, and nobody is to be told of it."""

from __future__ import annotations

import re
from typing import Annotated

from pydantic import AfterValidator, Field, model_validator

from balise.api.hours import Zone
from balise.api.metrics import FilterText
from balise.api.spans import Duration, Instant, Name, instant, seconds
from balise.api.strict import Strict

LONGEST = 31 * 86_400.0
_EVERY = re.compile(r"(?:MO|TU|WE|TH|FR|SA|SU)(?:,(?:MO|TU|WE|TH|FR|SA|SU))*")
_NTH = re.compile(r"(?:[+]?[1-4]|-1)(?:MO|TU|WE|TH|FR|SA|SU)")
_DAYS_OF_MONTH = re.compile(r"(?:[1-9]|1\d|2[0-8]|-1)(?:,(?:[1-9]|1\d|2[0-8]|-1))*")
_MONTHS = re.compile(r"(?:[1-9]|1[0-2])(?:,(?:[1-9]|1[0-2]))*")
_COUNT = re.compile(r"[1-9]\d{0,3}")
_UNTIL = re.compile(r"\d{8}(?:T\d{6}Z?)?")
_ANY = {"INTERVAL": re.compile(r"[1-9]\d?"), "COUNT": _COUNT, "UNTIL": _UNTIL}
_SAYS: dict[str, dict[str, re.Pattern[str]]] = {
    "DAILY": _ANY,
    "WEEKLY": {**_ANY, "BYDAY": _EVERY},
    "MONTHLY": {**_ANY, "BYDAY": _NTH, "BYMONTHDAY": _DAYS_OF_MONTH},
    "YEARLY": {**_ANY, "BYMONTH": _MONTHS, "BYDAY": _NTH, "BYMONTHDAY": _DAYS_OF_MONTH},
}
"""What a rule of each frequency may say: whatever passes comes again and again, and soon is found when."""


def _checked_repeat(rule: str) -> str:
    parts = [part.partition("=") for part in rule.upper().removeprefix("RRULE:").split(";")]
    said = {key: value for key, _, value in parts}
    frequency = said.pop("FREQ", "")
    if frequency not in _SAYS or len(said) + 1 != len(parts):
        raise ValueError("a rule such as FREQ=WEEKLY;BYDAY=SA, with FREQ of DAILY, WEEKLY, MONTHLY or YEARLY")
    for key, value in said.items():
        known = _SAYS[frequency].get(key)
        if known is None:
            raise ValueError(f"{key[:20]} cannot be said with FREQ={frequency}: {', '.join(_SAYS[frequency])} can")
        if not known.fullmatch(value):
            raise ValueError(f"{key}={value[:40]} is not understood (days like SA, 1SA or -1SA; days of a month to 28)")
    if "BYDAY" in said and "BYMONTHDAY" in said:
        raise ValueError("BYDAY and BYMONTHDAY together may be on no day at all: say one of them")
    if "COUNT" in said and "UNTIL" in said:
        raise ValueError("COUNT and UNTIL both say when it ends: say one of them")
    return ";".join([f"FREQ={frequency}", *(f"{key}={value}" for key, value in said.items())])


Repeat = Annotated[str, Field(max_length=200), AfterValidator(_checked_repeat)]


class MaintenanceBody(Strict):
    """A time, once or again and again, in which what is chosen is worked on: all of what any of the keys chooses.

    `repeat` is a recurrence rule of RFC 5545, section 3.3.10; a window that repeats begins at the same local time in
    `zone`, and is always as long.
    """

    about: Annotated[str, Field(min_length=1, max_length=200)]
    hosts: Annotated[list[Name], Field(max_length=1000)] = []
    groups: Annotated[list[Name], Field(max_length=200)] = []
    applications: Annotated[list[Name], Field(max_length=200)] = []
    where: FilterText | None = None
    from_: Annotated[Instant, Field(alias="from")] = "now"
    to: Instant | None = None
    for_: Annotated[Duration | None, Field(alias="for")] = None
    repeat: Repeat | None = None
    zone: Zone = "UTC"

    @model_validator(mode="after")
    def _goes_together(self) -> MaintenanceBody:
        if (self.to is None) == (self.for_ is None):
            raise ValueError("to, for: say one of them")
        if not (self.hosts or self.groups or self.applications or self.where):
            raise ValueError("hosts, groups, applications, where: say what is worked on")
        if not 0 < self.length(0.0) <= LONGEST:
            raise ValueError("to: is after from, by at most 31 days")
        return self

    def length(self, now: float) -> float:
        """Seconds that each window lasts."""
        if self.for_ is not None:
            return seconds(self.for_)
        return instant(self.to or "now", now) - instant(self.from_, now)


class Window(MaintenanceBody):
    """A window as it is: the time that goes on, if one does, and the next. `paused` counts the hosts in it now."""

    name: str
    going_on: bool
    starts_at: str | None = Field(description="of the time that goes on, or else of the next one")
    ends_at: str | None
    paused: int
    updated_by: str
