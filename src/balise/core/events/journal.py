"""Entries of the systemd journal in its export format, and as events.

Source: systemd's documentation of the Journal Export Formats, and systemd.journal-fields(7).
"""

from __future__ import annotations

import struct
from collections.abc import Mapping
from typing import Any

from balise.api.events import SEVERITIES
from balise.core.syslog import Line, guess_severity

LONGEST_FIELD = 64 << 10
MOST_FIELDS = 100
CURSOR, AT, MESSAGE = "__CURSOR", "__REALTIME_TIMESTAMP", "MESSAGE"
_NAMES = {
    "_PID": "process.pid",
    "_UID": "process.user.id",
    "_COMM": "process.executable.name",
    "_EXE": "process.executable.path",
    "_CMDLINE": "process.command_line",
    "_SYSTEMD_UNIT": "systemd.unit",
    "_SYSTEMD_USER_UNIT": "systemd.user_unit",
    "_TRANSPORT": "journal.transport",
    "SYSLOG_FACILITY": "syslog.facility",
    "SYSLOG_IDENTIFIER": "syslog.appname",
    "SYSLOG_PID": "syslog.procid",
    "CODE_FILE": "code.file.path",
    "CODE_LINE": "code.line.number",
    "CODE_FUNC": "code.function.name",
    "UNIT": "systemd.unit",
    "MESSAGE_ID": "journal.message_id",
    "ERRNO": "error.code",
}
"""What trusted and common fields are called; others are `journal.` and their own name."""
_LEFT_OUT = frozenset(
    ("PRIORITY", "SYSLOG_TIMESTAMP", "SYSLOG_RAW", "_BOOT_ID", "_MACHINE_ID", "_HOSTNAME", "_SOURCE_REALTIME_TIMESTAMP",
     "_SOURCE_MONOTONIC_TIMESTAMP", "_CAP_EFFECTIVE", "_SELINUX_CONTEXT", "_STREAM_ID", "_RUNTIME_SCOPE",
     "_SYSTEMD_CGROUP", "_SYSTEMD_SLICE", "_SYSTEMD_INVOCATION_ID", "_GID", "_AUDIT_SESSION", "_AUDIT_LOGINUID")
)  # fmt: skip
"""What is with every entry and tells events apart in nothing."""


def entries(data: bytes) -> tuple[list[dict[str, str]], int]:
    """The entries that are whole, each by its fields, and how many bytes they take."""
    found: list[dict[str, str]] = []
    used = at = 0
    fields: dict[str, str] = {}
    while at < len(data):
        end = data.find(b"\n", at)
        if end < 0:
            break
        line = data[at:end]
        if not line:
            if fields:
                found.append(fields)
            fields, at = {}, end + 1
            used = at
            continue
        name, there, value = line.partition(b"=")
        at = end + 1
        if not there:
            # A value of any bytes: its size, itself, a line feed.
            if len(data) - at < 8:
                break
            (size,) = struct.unpack_from("<Q", data, at)
            if len(data) - at - 8 < size + 1:
                break
            value, at = data[at + 8 : at + 8 + size], at + 9 + size
        if len(fields) < MOST_FIELDS:
            fields[name.decode("ascii", "replace")] = value[:LONGEST_FIELD].decode("utf-8", "replace")
    return found, used


def line_of(entry: Mapping[str, Any]) -> Line:
    """An entry as an event: its text, severity, time and the fields that tell it from others."""
    body = str(entry.get(MESSAGE, ""))
    priority = str(entry.get("PRIORITY", ""))
    known = priority.isdecimal() and int(priority) < len(SEVERITIES)
    severity = SEVERITIES[int(priority)] if known else guess_severity(body)
    at = str(entry.get(AT, ""))
    moment = int(at) / 1e6 if at.isdecimal() and len(at) < 18 else None
    attributes = {}
    for name, value in entry.items():
        if name in _LEFT_OUT or name == MESSAGE or name.startswith("__") or not value:
            continue
        attributes[_NAMES.get(name, f"journal.{name.lower().lstrip('_')}"[:255])] = str(value)
    return Line(body, severity, moment, str(entry.get("_HOSTNAME", "")), attributes)


def source_of(entry: Mapping[str, Any]) -> str:
    """Who says it: its identifier, else its program or unit."""
    return str(entry.get("SYSLOG_IDENTIFIER") or entry.get("_COMM") or entry.get("_SYSTEMD_UNIT") or "journal")[:100]
