"""Reading syslog lines: RFC 5424, RFC 3164, and plain text whose severity has to be guessed.

Source: RFC 5424 section 6, RFC 3164 section 4.1, RFC 5424 table 2 for the severities.
"""

from __future__ import annotations

import re
from datetime import UTC, date, datetime
from typing import NamedTuple

from balise.api.events import SEVERITIES, Severity
from balise.core.localtime import FromLocal, in_utc

MAX_LINE = 65_536
"""Characters kept of one line; the rest is cut and said so in `balise.cut`."""


GUESSED = "balise.time.guessed"
"""The attribute that says what of an event's time was not written but is taken to be so."""


class Line(NamedTuple):
    """One log line as read. `time` is unix seconds, or None when the line has none."""

    body: str
    severity: Severity
    time: float | None
    host: str
    attributes: dict[str, str]


_RFC5424 = re.compile(
    r"<(?P<pri>\d{1,3})>1 (?P<time>\S+) (?P<host>\S{1,255}) (?P<app>\S{1,48}) (?P<pid>\S{1,128}) (?P<id>\S{1,32}) "
    r"(?P<data>-|(?:\[(?:[^\]\\]|\\.)*\])+)(?: (?P<body>.*))?",
    re.DOTALL,
)
_RFC3164 = re.compile(
    r"(?:<(?P<pri>\d{1,3})>)?(?P<time>[A-Z][a-z]{2} [ \d]\d \d\d:\d\d:\d\d) (?P<host>[\w.:-]{1,255}) "
    r"(?P<app>[\w./() -]{1,64}?)(?:\[(?P<pid>\d{1,10})\])?: ?(?P<body>.*)",
    re.DOTALL,
)
_ISO = re.compile(r"(?P<time>\d{4}-\d\d-\d\d[T ]\d\d:\d\d:\d\d(?:[.,]\d{1,9})?)(?P<zone>Z|[ ]?UTC|[+-]\d\d:?\d\d)?\s*")
_NANOS = re.compile(r"(\.\d{6})\d+")
_PRIORITY = re.compile(r"<(\d{1,3})>")
_ELEMENT = re.compile(r"\[(?P<id>[^ \]=\"]+)(?P<params>(?:[^\]\\]|\\.)*)\]")
_PARAM = re.compile(r'([^ =\]"]+)="((?:[^"\\\]]|\\.)*)"')
_UNESCAPE = re.compile(r'\\([\]\\"])')

_WORDS: tuple[tuple[Severity, re.Pattern[str]], ...] = (
    ("emergency", re.compile(r"\b(?:EMERG|EMERGENCY|PANIC)\b")),
    ("critical", re.compile(r"\b(?:CRIT|CRITICAL|FATAL|SEVERE)\b")),
    ("error", re.compile(r"\b(?:ERROR|ERR|error|failed|failure|Failed)\b")),
    ("warning", re.compile(r"\b(?:WARN|WARNING|warning|denied|refused|timed out)\b")),
    ("notice", re.compile(r"\b(?:NOTICE)\b")),
    ("debug", re.compile(r"\b(?:DEBUG|TRACE)\b")),
)
_MONTHS = {
    m: i for i, m in enumerate(["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"], 1)
}


def guess_severity(text: str) -> Severity:
    """The severity that the words of a line suggest; `informational` when none does."""
    head = text[:300]
    for severity, words in _WORDS:
        if words.search(head):
            return severity
    return "informational"


def parse_line(text: str, *, year_of: float, from_local: FromLocal = in_utc) -> Line:
    """A line as a record, whatever its form.

    Args:
        text: one line without its end.
        year_of: unix seconds near which the line was written, for forms without a year.
        from_local: how times without a zone are read: the zone of whoever wrote them.
    """
    attributes: dict[str, str] = {}
    if len(text) > MAX_LINE:
        attributes["balise.cut"] = str(len(text) - MAX_LINE)
        text = text[:MAX_LINE]
    match = _RFC5424.fullmatch(text)
    if match and int(match["pri"]) <= 191:
        return _from_rfc5424(match, attributes)
    match = _RFC3164.fullmatch(text)
    if match and int(match["pri"] or 0) <= 191:
        return _from_rfc3164(match, attributes, year_of, from_local)
    return _from_plain(text, attributes, year_of, from_local)


def _from_rfc5424(match: re.Match[str], attributes: dict[str, str]) -> Line:
    pri, moment, host, app, pid, kind, data, body = match.groups()
    priority = int(pri)
    attributes["syslog.facility"] = str(priority >> 3)
    if app != "-":
        attributes["syslog.appname"] = app
    if pid != "-":
        attributes["syslog.procid"] = pid
    if kind != "-":
        attributes["syslog.msgid"] = kind
    if data != "-":
        attributes.update(structured(data))
    body = (body or "").removeprefix("\ufeff")
    return Line(body, SEVERITIES[priority & 7], _iso_time(moment), "" if host == "-" else host, attributes)


def structured(data: str) -> dict[str, str]:
    """Structured data of RFC 5424 section 6.3 as attributes, each named by its element and its parameter."""
    return {
        f"{element['id']}.{name}": _UNESCAPE.sub(r"\1", value)
        for element in _ELEMENT.finditer(data)
        for name, value in _PARAM.findall(element["params"])
    }


def _from_rfc3164(match: re.Match[str], attributes: dict[str, str], year_of: float, from_local: FromLocal) -> Line:
    body = match["body"]
    if match["pri"]:
        attributes["syslog.facility"] = str(int(match["pri"]) >> 3)
        severity = SEVERITIES[int(match["pri"]) & 7]
    else:
        severity = guess_severity(body)
    attributes["syslog.appname"] = match["app"]
    if match["pid"]:
        attributes["syslog.procid"] = match["pid"]
    moment = _year_less_time(match["time"], year_of, from_local)
    if moment is not None:
        attributes[GUESSED] = "year and zone"
    return Line(body, severity, moment, match["host"], attributes)


def _from_plain(text: str, attributes: dict[str, str], near: float, from_local: FromLocal) -> Line:
    severity: Severity | None = None
    priority = _PRIORITY.match(text)
    if priority and int(priority[1]) <= 191:
        severity = SEVERITIES[int(priority[1]) & 7]
        text = text[priority.end() :]
    moment = None
    stamp = _ISO.match(text)
    if stamp:
        zone = (stamp["zone"] or "").strip().replace("UTC", "Z")
        shown = stamp["time"].replace(",", ".").replace(" ", "T")
        moment = _iso_time(shown + zone) if zone else _local_time(shown, near, from_local)
        if moment is not None:
            if not zone:
                attributes[GUESSED] = "zone"
            text = text[stamp.end() :]
    return Line(text, severity or guess_severity(text), moment, "", attributes)


def _iso_time(text: str) -> float | None:
    moment = _read_iso(text)
    return None if moment is None else (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).timestamp()


def _local_time(text: str, near: float, from_local: FromLocal) -> float | None:
    moment = _read_iso(text)
    return None if moment is None else from_local(moment.replace(tzinfo=None), near)


def _read_iso(text: str) -> datetime | None:
    if len(text) > 26 and "." in text:
        text = _NANOS.sub(r"\1", text)
    try:
        return datetime.fromisoformat(text)
    except ValueError:
        return None


def _year_less_time(text: str, year_of: float, from_local: FromLocal) -> float | None:
    """The moment nearest to `year_of`: a December line read in January belongs to the old year."""
    near = datetime.fromtimestamp(year_of, UTC)
    found = []
    for year in (near.year - 1, near.year, near.year + 1):
        try:
            clock = datetime.strptime(text[7:], "%H:%M:%S").time()
            day = date(year, _MONTHS[text[:3]], int(text[4:6]))
        except (KeyError, ValueError):
            continue
        found.append(from_local(datetime.combine(day, clock), year_of))
    # What lies ahead was written last year, unless a clock is a little ahead.
    past = [at for at in found if at <= year_of + 2 * 86_400]
    return max(past, default=None)
