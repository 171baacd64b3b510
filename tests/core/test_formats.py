"""Events as lines of files, read back by others: the csv and json modules, and our own reader of RFC 5424."""

from __future__ import annotations

import csv
import io
import json

from hypothesis import given
from hypothesis import strategies as st

from balise.api.events import SEVERITIES, Event
from balise.core.events.formats import COLUMNS, FORMATS, syslog_line
from balise.core.syslog import parse_line

NAMES = st.text("abcXYZ.=\"]\\ é'_-", min_size=1, max_size=12)
TEXTS = st.text(max_size=40).filter(lambda t: not any(0xD800 <= ord(c) <= 0xDFFF for c in t))
EVENTS = st.builds(
    Event,
    id=st.just("20000-1"),
    time=st.just("2026-11-28T03:10:00.250Z"),
    host=st.sampled_from(["gate-s3", "pier é", ""]),
    severity=st.sampled_from(SEVERITIES),
    source=st.sampled_from(["gate", "tariff import", "x" * 90]),
    body=TEXTS,
    attributes=st.dictionaries(NAMES, st.one_of(TEXTS, st.integers(), st.booleans(), st.lists(TEXTS, max_size=2))),
)


@given(st.lists(EVENTS, max_size=5))
def test_what_is_written_can_be_read(events: list[Event]) -> None:
    told = FORMATS["csv"]
    rows = list(csv.reader(io.StringIO((told.begins + told.write(events)).decode(), newline="")))
    assert rows[0] == list(COLUMNS) and len(rows) == len(events) + 1
    assert not any(cell[:1] in ("=", "@") for row in rows[1:] for cell in row)
    lines = FORMATS["jsonl"].write(events).decode().split("\n")
    assert [Event.model_validate(json.loads(line)) for line in lines[:-1]] == events and lines[-1] == ""
    assert FORMATS["rfc5424"].write(events).count(b"\n") == len(events)


@given(EVENTS)
def test_a_line_of_syslog_says_the_same(event: Event) -> None:
    line = parse_line(syslog_line(event), year_of=1.8e9)
    assert line.severity == event.severity and line.time == 1_795_835_400.25
    plain = "".join(f"#{ord(c):03o}" if ord(c) < 32 or ord(c) == 127 else c for c in event.body)
    assert line.body == plain.removeprefix("\ufeff")


def test_a_line_of_syslog_as_the_standard_has_it() -> None:
    event = Event(
        id="1-1",
        time="2026-11-28T03:10:00Z",
        host="gate-s3",
        severity="error",
        source="gate",
        body="reader 2\nfailed",
        attributes={"syslog.facility": "4", "syslog.procid": "77", "door": 'a "b" ] \\'},
    )
    said = (
        '<35>1 2026-11-28T03:10:00Z gate-s3 gate 77 - [attributes@32473 door="a \\"b\\" \\] \\\\"] reader 2#012failed'
    )
    assert syslog_line(event) == said
