"""Lines as events, whatever their form, into the attribute names of the OpenTelemetry semantic conventions."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Mapping
from typing import Any

from balise.api.events import SEVERITIES, Severity
from balise.api.kits import KitLog
from balise.api.parsers import Parser
from balise.core.kits.forms import PATTERN_SECONDS, compiled
from balise.core.kits.logs import LONGEST, LogReader, read_time, text_of_body
from balise.core.localtime import FromLocal, in_utc
from balise.core.syslog import Line, guess_severity, parse_line

MOST_ATTRIBUTES, MOST_DEEP, LONGEST_VALUE = 64, 4, 2000
NEAR = 20 * 365 * 86_400
"""Seconds within which a number is a time."""
_TIMES = ("time", "timestamp", "@timestamp", "ts", "datetime", "date", "asctime")
_SEVERITIES = ("severity", "level", "lvl", "log.level", "loglevel", "levelname", "severity_text")
_BODIES = ("message", "msg", "body", "log", "event", "text")
_WORDS: Mapping[str, Severity] = {
    **{name: name for name in SEVERITIES},
    "emerg": "emergency",
    "panic": "emergency",
    "fatal": "critical",
    "crit": "critical",
    "severe": "critical",
    "err": "error",
    "warn": "warning",
    "info": "informational",
    "information": "informational",
    "log": "informational",
    "trace": "debug",
    "verbose": "debug",
    "fine": "debug",
    "dbg": "debug",
}
_NAMES = {
    "remote_addr": "client.address",
    "client_ip": "client.address",
    "method": "http.request.method",
    "path": "url.path",
    "status": "http.response.status_code",
    "status_code": "http.response.status_code",
    "user": "user.name",
    "pid": "process.pid",
    "logger": "log.logger",
    "thread": "thread.name",
    "exception": "exception.stacktrace",
    "stack": "exception.stacktrace",
}
"""What common fields are called in the semantic conventions."""
_PAIR = re.compile(r'([A-Za-z_@][\w.@/-]{0,99})=(?:"((?:[^"\\]|\\.)*)"|([^\s"]*))(?=\s|$)')
_ACCESS = (
    r'(?P<client>\S+) \S+ (?P<user>\S+) \[(?P<time>[^\]]+)\] "(?:(?P<method>[A-Z]+) )?(?P<path>[^"?]*?)'
    r'(?:\?(?P<query>[^"]*?))?(?: HTTP/(?P<version>[\d.]+))?" (?P<status>\d{3}) (?P<size>\d+|-)'
    r'(?: "(?P<referer>[^"]*)" "(?P<agent>[^"]*)")?.*'
)
_POSTGRES = {
    **dict.fromkeys(("DEBUG1", "DEBUG2", "DEBUG3", "DEBUG4", "DEBUG5"), "debug"),
    "INFO": "informational",
    "LOG": "informational",
    "NOTICE": "notice",
    "WARNING": "warning",
    "ERROR": "error",
    "FATAL": "critical",
    "PANIC": "emergency",
}
_CSV_COLUMNS = """
log_time user_name database_name process_id connection_from session_id session_line_num command_tag session_start_time
virtual_transaction_id transaction_id error_severity sql_state_code message detail hint internal_query
internal_query_pos context query query_pos location application_name backend_type leader_pid query_id
"""


def _shipped(form: str, **more: Any) -> KitLog:
    return KitLog.model_validate(
        {"log": "parsed", "about": "lines read by a parser", "path": "/-", "form": form, **more}
    )


_ACCESS_LOG = _shipped(
    "regex",
    pattern=_ACCESS,
    time="time",
    time_form="%d/%b/%Y:%H:%M:%S %z",
    severity="status",
    severities={"5*": "error", "4*": "notice", "*": "informational"},
    attributes={
        "client.address": "client",
        "user.name": "user",
        "http.request.method": "method",
        "url.path": "path",
        "url.query": "query",
        "network.protocol.version": "version",
        "http.response.status_code": "status",
        "http.response.body.size": "size",
        "http.request.header.referer": "referer",
        "user_agent.original": "agent",
    },
)
_POSTGRES_CSV = _shipped(
    "csv",
    columns=_CSV_COLUMNS.split(),
    time="log_time",
    body="message",
    severity="error_severity",
    severities=_POSTGRES,
    attributes={
        "db.namespace": "database_name",
        "db.user": "user_name",
        "client.address": "connection_from",
        "db.response.status_code": "sql_state_code",
        "db.query.text": "query",
        "postgresql.application": "application_name",
        "process.pid": "process_id",
        "postgresql.detail": "detail",
    },
)
_POSTGRES_JSON = _shipped(
    "json",
    time="timestamp",
    body="message",
    severity="error_severity",
    severities=_POSTGRES,
    attributes={
        "db.namespace": "dbname",
        "db.user": "user",
        "client.address": "remote_host",
        "db.response.status_code": "state_code",
        "db.query.text": "statement",
        "postgresql.application": "application_name",
        "process.pid": "pid",
        "postgresql.detail": "detail",
    },
)


class Unfitting(ValueError):
    """A line does not have the form; the message says how it differs."""


Read = Callable[[str, float, FromLocal], Line]
"""Reads a line, near a time in unix seconds. Raises Unfitting."""


class ParserReader:
    """Reads the lines of one source as a parser says. A line that does not fit is kept as plain text, and counted."""

    def __init__(self, parser: Parser) -> None:
        self.parser = parser
        self.strange = 0
        self._read = _reader(parser)

    def read(self, text: str, now: float, from_local: FromLocal = in_utc) -> Line:
        try:
            return self._read(text, now, from_local)
        except Unfitting:
            self.strange += 1
            return parse_line(text, year_of=now, from_local=from_local)

    def fitting(self, text: str, now: float, from_local: FromLocal = in_utc) -> Line:
        """The line as it is read. Raises Unfitting when it does not have the form."""
        return self._read(text, now, from_local)


def _reader(parser: Parser) -> Read:
    if parser.form == "pattern":
        return _by_pattern(parser)
    fields = {"json": _json_fields, "key-value": _pair_fields}.get(parser.form)
    if fields is not None:
        return lambda text, now, local: _of_fields(parser, text, fields(text), now, local)
    log = {"access": _ACCESS_LOG, "postgresql-csv": _POSTGRES_CSV, "postgresql-json": _POSTGRES_JSON}.get(parser.form)
    if log is not None:
        return _by_log(log, parser.form)
    return _syslog if parser.form == "syslog" else _plain if parser.form == "plain" else _auto(parser)


def _plain(text: str, now: float, from_local: FromLocal) -> Line:
    return parse_line(text, year_of=now, from_local=from_local)


def _syslog(text: str, now: float, from_local: FromLocal) -> Line:
    line = parse_line(text, year_of=now, from_local=from_local)
    if "syslog.appname" not in line.attributes and "syslog.facility" not in line.attributes:
        raise Unfitting("this is no line of RFC 5424 or RFC 3164")
    return line


def _by_log(log: KitLog, form: str) -> Read:
    reader = LogReader(log)

    def read(text: str, now: float, from_local: FromLocal) -> Line:
        before = reader.strange
        line = reader.read(text, now, from_local)
        if line is None or reader.strange > before:
            raise Unfitting(f"this is no line of the form {form}")
        held = {name: value for name, value in line.attributes.items() if value not in ("", "-")}
        return line._replace(attributes=held)

    return read


def _by_pattern(parser: Parser) -> Read:
    pattern = compiled(parser.pattern or "")

    def read(text: str, now: float, from_local: FromLocal) -> Line:
        try:
            match = pattern.match(text[:LONGEST], timeout=PATTERN_SECONDS)
        except TimeoutError:
            raise Unfitting(
                "the pattern takes too long over this line: write it so that it cannot go back far"
            ) from None
        if match is None:
            raise Unfitting("the pattern does not match from the line's beginning")
        fields = {name.replace("__", "."): value for name, value in match.groupdict().items() if value is not None}
        return _of_fields(parser, text, fields, now, from_local)

    return read


def _auto(parser: Parser) -> Read:
    access = _by_log(_ACCESS_LOG, "access")

    def read(text: str, now: float, from_local: FromLocal) -> Line:
        first = text[:1]
        if first == "{":
            try:
                return _of_fields(parser, text, _json_fields(text), now, from_local)
            except Unfitting:
                return _plain(text, now, from_local)
        if first != "<" and '] "' in text[:400]:
            try:
                return access(text, now, from_local)
            except Unfitting:
                pass
        line = _plain(text, now, from_local)
        if "syslog.appname" not in line.attributes and text.count("=") >= 3:
            try:
                return _of_fields(parser, text, _pair_fields(text), now, from_local)
            except Unfitting:
                pass
        return line

    return read


def _json_fields(text: str) -> dict[str, Any]:
    try:
        held = json.loads(text)
    except (ValueError, RecursionError) as error:
        raise Unfitting(f"this is no JSON: {str(error)[:100]}") from None
    if not isinstance(held, dict):
        raise Unfitting("this is JSON, but no object")
    found: dict[str, Any] = {}
    _flatten(held, "", found, 1)
    return found


def _flatten(held: Mapping[str, Any], above: str, into: dict[str, Any], depth: int) -> None:
    for name, value in held.items():
        if len(into) >= MOST_ATTRIBUTES:
            return
        if isinstance(value, dict) and depth < MOST_DEEP:
            _flatten(value, f"{above}{name}.", into, depth + 1)
        elif value is not None:
            into[f"{above}{name}"[:255]] = value


def _pair_fields(text: str) -> dict[str, Any]:
    found: dict[str, Any] = {}
    rest = []
    at = 0
    for match in _PAIR.finditer(text):
        rest.append(text[at : match.start()])
        at = match.end()
        if len(found) < MOST_ATTRIBUTES:
            quoted, bare = match[2], match[3]
            found[match[1]] = re.sub(r"\\(.)", r"\1", quoted) if quoted is not None else bare
    if len(found) < 2:
        raise Unfitting("this line has no two pairs key=value")
    words = " ".join(" ".join([*rest, text[at:]]).split())
    if words and not any(name in found for name in _BODIES):
        found["message"] = words
    return found


def _of_fields(parser: Parser, text: str, fields: dict[str, Any], now: float, from_local: FromLocal) -> Line:
    """A line from its fields: those that a parser names, or that are named as is usual."""
    folded = {name.lower(): name for name in fields}

    def taken(named: str | None, usual: tuple[str, ...]) -> Any:
        name = named if named is not None else next((folded[one] for one in usual if one in folded), None)
        return fields.pop(name, None) if name is not None else None

    written, how, body = taken(parser.time, _TIMES), taken(parser.severity, _SEVERITIES), taken(parser.body, _BODIES)
    moment = _moment(written, parser.time_form, now, from_local)
    if written is not None and moment is None:
        fields["time"] = written
    said = text_of_body(body) if body is not None else text
    severity = _severity(how, parser.severities) or guess_severity(said)
    renamed = {field: name for name, field in parser.attributes.items()}
    attributes: dict[str, str] = {}
    for name, value in fields.items():
        shown = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False, default=str)
        if shown not in ("", "-"):
            attributes[renamed.get(name) or _NAMES.get(name.lower(), name)] = shown[:LONGEST_VALUE]
    return Line(said, severity, moment, "", attributes)


def _moment(written: Any, form: str, now: float, from_local: FromLocal) -> float | None:
    if isinstance(written, int | float) and not isinstance(written, bool):
        # Seconds, milliseconds, microseconds or nanoseconds since 1970: whichever is near.
        return next(
            (written / unit for unit in (1, 1e3, 1e6, 1e9) if abs(written / unit - now) < 20 * 365 * 86_400), None
        )
    return read_time(written, form, now, from_local) if isinstance(written, str) and written else None


def _severity(how: Any, severities: Mapping[str, Severity]) -> Severity | None:
    if how is None:
        return None
    word = str(how)
    found = severities.get(word) or _WORDS.get(word.lower())
    if found is None and word.isdecimal() and len(word) == 1 and int(word) < len(SEVERITIES):
        return SEVERITIES[int(word)]
    if found is None:
        found = next((s for w, s in severities.items() if w.endswith("*") and word.startswith(w[:-1])), None)
    return found
