"""Reading syslog lines: RFC 5424, RFC 3164, and plain text whose severity has to be guessed.

Source: RFC 5424 section 6, RFC 3164 section 4.1, RFC 5424 table 2 for the severities.
"""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta
from typing import NamedTuple

from balise.api.events import SEVERITIES, Severity

MAX_LINE = 32_768
"""Characters kept of one line; the rest is cut and said so in `balise.cut`."""


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


def parse_line(text: str, *, year_of: float, offset_seconds: float = 0.0) -> Line:
    """A line as a record, whatever its form.

    Args:
        text: one line without its end.
        year_of: unix seconds near which the line was written, for forms without a year.
        offset_seconds: how far ahead of UTC the clock was that wrote times without a zone.
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
        return _from_rfc3164(match, attributes, year_of, offset_seconds)
    return _from_plain(text, attributes, offset_seconds)


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
        for element in _ELEMENT.finditer(data):
            for name, value in _PARAM.findall(element["params"]):
                attributes[f"{element['id']}.{name}"] = _UNESCAPE.sub(r"\1", value)
    body = (body or "").removeprefix("\ufeff")
    return Line(body, SEVERITIES[priority & 7], _iso_time(moment), "" if host == "-" else host, attributes)


def _from_rfc3164(match: re.Match[str], attributes: dict[str, str], year_of: float, offset: float) -> Line:
    body = match["body"]
    if match["pri"]:
        attributes["syslog.facility"] = str(int(match["pri"]) >> 3)
        severity = SEVERITIES[int(match["pri"]) & 7]
    else:
        severity = guess_severity(body)
    attributes["syslog.appname"] = match["app"]
    if match["pid"]:
        attributes["syslog.procid"] = match["pid"]
    return Line(body, severity, _year_less_time(match["time"], year_of, offset), match["host"], attributes)


def _from_plain(text: str, attributes: dict[str, str], offset: float) -> Line:
    severity: Severity | None = None
    priority = _PRIORITY.match(text)
    if priority and int(priority[1]) <= 191:
        severity = SEVERITIES[int(priority[1]) & 7]
        text = text[priority.end() :]
    moment = None
    stamp = _ISO.match(text)
    if stamp:
        zone = (stamp["zone"] or "").strip().replace("UTC", "Z")
        moment = _iso_time(stamp["time"].replace(",", ".").replace(" ", "T") + (zone or "Z"))
        if moment is not None:
            text = text[stamp.end() :]
            if not zone:
                moment -= offset
    return Line(text, severity or guess_severity(text), moment, "", attributes)


def _iso_time(text: str) -> float | None:
    if len(text) > 26 and "." in text:
        text = _NANOS.sub(r"\1", text)
    try:
        moment = datetime.fromisoformat(text)
    except ValueError:
        return None
    return (moment if moment.tzinfo else moment.replace(tzinfo=UTC)).timestamp()


def _year_less_time(text: str, year_of: float, offset: float) -> float | None:
    """The moment nearest to `year_of`: a December line read in January belongs to the old year."""
    near = datetime.fromtimestamp(year_of + offset, UTC)
    try:
        clock = datetime.strptime(text[7:], "%H:%M:%S").time()
        moment = datetime.combine(datetime(near.year, _MONTHS[text[:3]], int(text[4:6])), clock, UTC)
    except (KeyError, ValueError):
        return None
    if moment - near > timedelta(days=2):
        moment = moment.replace(year=near.year - 1) if (moment.month, moment.day) != (2, 29) else moment
    return moment.timestamp() - offset
