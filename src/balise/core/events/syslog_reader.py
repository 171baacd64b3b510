"""Syslog messages as events, many a second: what repeats from message to message is worked out once.

Source: RFC 5424 section 6; RFC 3164 and plain text are read as `core.syslog` reads lines of files.
"""

from __future__ import annotations

import json
import re
from datetime import datetime

from balise.api.events import SEVERITIES
from balise.api.spans import rfc3339
from balise.core.events.new_event import NewEvent
from balise.core.localtime import FromLocal, in_utc
from balise.core.moments import NS, Nanos, nanos, seconds_of
from balise.core.syslog import MAX_LINE, parse_line, structured

SENT_TIME = "balise.time.sent"
"""The attribute that keeps the time an event came with, when that cannot be its time."""
NAMELESS = "syslog"
"""The source of a message that names none."""
MOST_AHEAD, MOST_BEHIND = 600 * NS, 30 * 86_400 * NS
"""A message from further ahead or behind is taken as of when it came."""
MOST_KNOWN = 20_000
_MADE = tuple.__new__
"""Makes an event of its parts at once."""
_DATA = re.compile(r"(?:\[(?:[^\]\\]|\\.)*\])+(?= |$)")
_FRACTION = re.compile(r"\d{1,9}")


class SyslogReader:
    """Reads the messages of one receiver. `from_local` is how times without a zone are read."""

    def __init__(self, from_local: FromLocal = in_utc) -> None:
        self._from_local = from_local
        self._heads: dict[tuple[str, str, str, str], tuple[int, str, str]] = {}
        """By priority with version, name, process and message id: severity code, source, and attributes as JSON."""
        self._seconds: dict[str, int] = {}

    def read(self, text: str, arrived: Nanos) -> NewEvent:
        """A message as an event, of the moment it says; its host is empty when it names none."""
        parts = text.split(" ", 6)
        if len(parts) == 7 and len(text) <= MAX_LINE and parts[0][-2:] == ">1":
            priority, moment, host, app, process, kind, rest = parts
            head = self._heads.get((priority, app, process, kind)) or self._head(priority, app, process, kind)
            time = self._seconds.get(moment) or self._time(moment)
            if (
                head is not None
                and time is not None
                and -MOST_BEHIND < time - arrived < MOST_AHEAD
                and 0 < len(host) < 256
            ):
                severity, source, attributes = head
                body: str | None = rest[2:]
                if rest[:2] != "- ":
                    body, more = _with_data(rest)
                    attributes = f"{attributes[:-1]}{more}}}"
                if body is not None:
                    body = body[1:] if body[:1] == "\ufeff" else body
                    return _MADE(NewEvent, (time, "" if host == "-" else host, severity, source, body, attributes))
        return self._plainly(text, arrived)

    def _head(self, priority: str, app: str, process: str, kind: str) -> tuple[int, str, str] | None:
        number = priority[1:-2]
        sizes = 0 < len(app) <= 48 and 0 < len(kind) <= 32 and 0 < len(process) <= 128
        if priority[:1] != "<" or not number.isdecimal() or len(number) > 3 or int(number) > 191 or not sizes:
            return None
        named = {"syslog.facility": str(int(number) >> 3)}
        for name, value in (("syslog.appname", app), ("syslog.procid", process), ("syslog.msgid", kind)):
            if value != "-":
                named[name] = value
        packed = json.dumps(named, ensure_ascii=False, separators=(",", ":"))
        if len(self._heads) >= MOST_KNOWN:
            self._heads.clear()
        found = self._heads[priority, app, process, kind] = (int(number) & 7, NAMELESS if app == "-" else app, packed)
        return found

    def _time(self, moment: str) -> int | None:
        """Nanoseconds since 1970 of a timestamp of RFC 5424 section 6.2.3, or None when it is none."""
        known = self._seconds.get(moment)
        if known is not None:
            return known
        whole, point, rest = moment.partition(".")
        fraction = 0
        if point:
            digits = _FRACTION.match(rest)
            if digits is None:
                return None
            fraction = int(digits[0].ljust(9, "0"))
            whole += rest[digits.end() :]
        known = self._seconds.get(whole)
        if known is None:
            try:
                read = datetime.fromisoformat(whole)
            except ValueError:
                return None
            if read.tzinfo is None or len(whole) < 20:
                return None
            if len(self._seconds) >= MOST_KNOWN:
                self._seconds.clear()
            known = self._seconds[whole] = int(read.timestamp()) * NS
        return known + fraction

    def _plainly(self, text: str, arrived: Nanos) -> NewEvent:
        """A message of another form, or one whose time cannot be: then both times are kept."""
        near = seconds_of(arrived)
        line = parse_line(text, year_of=near, from_local=self._from_local)
        attributes = dict(line.attributes)
        time = arrived
        if line.time is not None:
            time = nanos(line.time)
            if not -MOST_BEHIND < time - arrived < MOST_AHEAD:
                time, attributes[SENT_TIME] = arrived, rfc3339(line.time)
        packed = json.dumps(attributes, ensure_ascii=False, separators=(",", ":")) if attributes else None
        source = line.attributes.get("syslog.appname") or NAMELESS
        return NewEvent(time, line.host, SEVERITIES.index(line.severity), source, line.body, packed)


def _with_data(rest: str) -> tuple[str | None, str]:
    """The text after structured data, and that as more of a JSON object; None when there is no structured data."""
    if rest == "-":
        return "", ""
    match = _DATA.match(rest)
    if match is None:
        return None, ""
    packed = json.dumps(structured(match[0]), ensure_ascii=False, separators=(",", ":"))[1:-1]
    return rest[match.end() + 1 :], "," + packed if packed else ""
