"""Events as lines of a file: CSV (RFC 4180), JSON Lines, and RFC 5424."""

from __future__ import annotations

import csv
import io
import json
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from balise.api.events import SEVERITIES, Event
from balise.core.cells import safe_cell

COLUMNS = ("time", "host", "severity", "source", "body", "attributes")
USER = 1
"""The facility of what does not say its own: user-level messages (RFC 5424, table 1)."""
_NOT_A_NAME = re.compile(r'[^\x21-\x7e]|[="\]]')
ELEMENT = "attributes@32473"
"""The name of the element that holds attributes; 32473 is the enterprise number of examples (RFC 5612)."""


@dataclass(frozen=True)
class Format:
    """How events are written: what a file is and how its name ends, how it begins, and some events as bytes."""

    media_type: str
    ending: str
    begins: bytes
    write: Callable[[Sequence[Event]], bytes]


def _csv(events: Sequence[Event]) -> bytes:
    out = io.StringIO()
    rows = ([e.time, e.host, e.severity, e.source, e.body, _json(e.attributes)] for e in events)
    csv.writer(out).writerows([safe_cell(cell) for cell in row] for row in rows)
    return out.getvalue().encode()


def _jsonl(events: Sequence[Event]) -> bytes:
    return b"".join(e.model_dump_json().encode() + b"\n" for e in events)


def _rfc5424(events: Sequence[Event]) -> bytes:
    return b"".join(syslog_line(e).encode() + b"\n" for e in events)


def syslog_line(event: Event) -> str:
    """An event as one line of RFC 5424. Control characters in the text are written as `#` and three octal digits, so
    that a line stays one."""
    attributes = {k: v for k, v in event.attributes.items() if not k.startswith("syslog.")}
    own = {k.removeprefix("syslog."): str(v) for k, v in event.attributes.items() if k.startswith("syslog.")}
    facility = int(own["facility"]) if own.get("facility", "").isdecimal() else USER
    priority = min(facility, 23) * 8 + SEVERITIES.index(event.severity)
    words = (
        _word(event.host, 255),
        _word(own.get("appname") or event.source, 48),
        _word(own.get("procid", ""), 128),
        _word(own.get("msgid", ""), 32),
    )
    body = "".join(f"#{ord(c):03o}" if ord(c) < 32 or ord(c) == 127 else c for c in event.body)
    return f"<{priority}>1 {event.time} {' '.join(words)} {_element(attributes)} {body}"


def _word(text: str, most: int) -> str:
    """Printable ASCII without spaces, as the header's fields are; `-` for none."""
    return re.sub(r"[^\x21-\x7e]", "_", text)[:most] or "-"


def _element(attributes: dict[str, object]) -> str:
    if not attributes:
        return "-"
    told = []
    for name, value in attributes.items():
        text = value if isinstance(value, str) else _json(value)
        told.append(f'{_NOT_A_NAME.sub("_", name)[:32]}="{_escaped(text)}"')
    return f"[{ELEMENT} {' '.join(told)}]"


def _escaped(text: str) -> str:
    text = "".join(f"#{ord(c):03o}" if ord(c) < 32 or ord(c) == 127 else c for c in text)
    return re.sub(r'([\\"\]])', r"\\\1", text)


def _json(value: object) -> str:
    return json.dumps(value, ensure_ascii=False)


FORMATS = {
    "csv": Format("text/csv; charset=utf-8; header=present", "csv", (",".join(COLUMNS) + "\r\n").encode(), _csv),
    "jsonl": Format("application/jsonl", "jsonl", b"", _jsonl),
    "rfc5424": Format("text/plain; charset=utf-8", "log", b"", _rfc5424),
}
