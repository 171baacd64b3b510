"""Lines of every form, as the programs write them, into attributes; and what is masked."""

from __future__ import annotations

import time
from datetime import UTC, datetime

import pytest
from hypothesis import given
from hypothesis import strategies as st

from balise.api.parsers import Mask, Parser
from balise.core.events.masks import MARK, MASKED, Masks
from balise.core.events.parsers import ParserReader, Unfitting

NOW = datetime(2026, 11, 28, 10, 0, tzinfo=UTC).timestamp()
ACCESS = (
    '203.0.113.5 - anna [28/Nov/2026:09:59:58 +0100] "GET /book?id=7 HTTP/1.1" 502 157 '
    '"https://www.skerry.example/" "curl/8.4.0"'
)
CSV = (
    '2026-11-28 09:59:58.123 UTC,"booking","ferries",4711,"192.0.2.11:5432",6567.1,1,"INSERT",2026-11-28 09:00:00 UTC,'
    '3/44,0,ERROR,23505,"duplicate key value violates unique constraint ""seats""","Key (id)=(7) already exists.",,,,,'
    '"insert into seats",,,"booking","client backend",,0'
)
JSONLOG = (
    '{"timestamp":"2026-11-28 09:59:58.123 UTC","user":"booking","dbname":"ferries","pid":4711,"error_severity":"LOG",'
    '"message":"checkpoint starting: time"}'
)
LINES = [
    ("access", ACCESS, "error", ACCESS, {"client.address": "203.0.113.5", "user.name": "anna", "http.request.method": "GET",
     "url.path": "/book", "url.query": "id=7", "network.protocol.version": "1.1", "http.response.status_code": "502",
     "http.response.body.size": "157", "http.request.header.referer": "https://www.skerry.example/", "user_agent.original": "curl/8.4.0"}),
    ("access", '192.0.2.1 - - [28/Nov/2026:08:59:58 +0000] "GET / HTTP/1.0" 200 5', "informational", None,
     {"client.address": "192.0.2.1", "http.request.method": "GET", "url.path": "/", "network.protocol.version": "1.0",
      "http.response.status_code": "200", "http.response.body.size": "5"}),
    ("postgresql-csv", CSV, "error", 'duplicate key value violates unique constraint "seats"',
     {"db.namespace": "ferries", "db.user": "booking", "client.address": "192.0.2.11:5432", "db.response.status_code": "23505",
      "db.query.text": "insert into seats", "postgresql.application": "booking", "process.pid": "4711",
      "postgresql.detail": "Key (id)=(7) already exists."}),
    ("postgresql-json", JSONLOG, "informational", "checkpoint starting: time",
     {"db.namespace": "ferries", "db.user": "booking", "process.pid": "4711"}),
    ("json", '{"ts":1795859998.5,"level":"warn","msg":"low tide","berth":{"name":"n2","depth":4.5},"ok":true,"none":null}',
     "warning", "low tide", {"berth.name": "n2", "berth.depth": "4.5", "ok": "true"}),
    ("key-value", 'time=2026-11-28T09:59:58Z level=error msg="ramp \\"north\\" stuck" gate=7 took=3.2s', "error",
     'ramp "north" stuck', {"gate": "7", "took": "3.2s"}),
    ("key-value", "ramp stuck gate=7 side=north", "informational", "ramp stuck", {"gate": "7", "side": "north"}),
]  # fmt: skip


@pytest.mark.parametrize(("form", "line", "severity", "body", "attributes"), LINES)
def test_every_form_gives_its_attributes(
    form: str, line: str, severity: str, body: str | None, attributes: dict[str, str]
) -> None:
    read = ParserReader(Parser(form=form)).fitting(line, NOW)
    assert (read.severity, read.attributes) == (severity, attributes)
    assert body is None or read.body == body
    if form != "key-value" or "time=" in line:
        assert read.time == pytest.approx(NOW - (3602 if form == "access" else 2), abs=1)


@pytest.mark.parametrize("line", [ACCESS, LINES[4][1], LINES[5][1], "<38>Nov 28 09:00:00 pier-1 ferry[12]: old style"])
def test_auto_tells_the_forms_apart(line: str) -> None:
    assert len(ParserReader(Parser()).fitting(line, NOW).attributes) >= 2


@pytest.mark.parametrize("form", ["json", "key-value", "access", "postgresql-csv", "postgresql-json", "syslog"])
def test_a_line_of_another_form_says_so_and_is_kept_as_text(form: str) -> None:
    reader = ParserReader(Parser(form=form))
    with pytest.raises(Unfitting):
        reader.fitting("ERROR nothing of the kind", NOW)
    read = reader.read("ERROR nothing of the kind", NOW)
    assert (read.body, read.severity, reader.strange) == ("ERROR nothing of the kind", "error", 1)


def test_a_pattern_names_fields_and_gives_them_other_names() -> None:
    parser = Parser(
        form="pattern",
        pattern=r"(?P<when>\S+ \S+) (?P<how>[A-Z]) (?P<gate__number>\d+) (?P<who>\w+): (?P<what>.*)",
        time="when",
        time_form="%Y/%m/%d %H:%M:%S",
        severity="how",
        severities={"E": "error"},
        body="what",
        attributes={"user.name": "who"},
    )
    read = ParserReader(parser).fitting("2026/11/28 09:59:58 E 7 anna: ramp stuck", NOW)
    assert (read.time, read.severity, read.body) == (NOW - 2, "error", "ramp stuck")
    assert read.attributes == {"gate.number": "7", "user.name": "anna"}


def test_a_careless_pattern_stands_nowhere_still() -> None:
    reader = ParserReader(Parser(form="pattern", pattern=r"(?P<a>(x+x+)+)y"))
    began = time.monotonic()
    with pytest.raises(Unfitting, match="too long"):
        reader.fitting("x" * 5000, NOW)
    assert time.monotonic() - began < 5


@given(st.text(max_size=300), st.sampled_from(["auto", "json", "key-value", "access", "postgresql-csv", "syslog"]))
def test_any_text_is_a_line_of_any_parser(text: str, form: str) -> None:
    ParserReader(Parser(form=form)).read(text, NOW)


def test_what_is_masked_is_nowhere_and_marked() -> None:
    masks = Masks([Mask(attribute="card.number"), Mask(pattern=r"\b\d{4}-\d{4}\b")])
    body, attributes = masks.over(
        "paid with 4711081512 and 1234-5678", {"card.number": "4711081512", "note": "1234-5678", "berth": "n2"}
    )
    assert body == f"paid with {MASKED} and {MASKED}"
    assert attributes == {"card.number": MASKED, "note": MASKED, "berth": "n2", MARK: "card.number, note, body"}
    assert masks.over("nothing here", {"berth": "n2"}) == ("nothing here", {"berth": "n2"})
