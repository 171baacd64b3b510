"""Log lines: the standards' own examples, guesses, patterns; spans as people write them."""

from __future__ import annotations

from datetime import UTC, datetime
from zoneinfo import ZoneInfo

import pytest
from hypothesis import given
from hypothesis import strategies as st

from balise.api.spans import instant, rfc3339, seconds
from balise.core.localtime import of_zone
from balise.core.syslog import MAX_LINE, guess_severity, parse_line

NEAR = datetime(2026, 11, 23, 12, tzinfo=UTC).timestamp()


def test_rfc5424_example_with_structured_data() -> None:
    """RFC 5424 section 6.5, example 3."""
    line = parse_line(
        "<165>1 2003-10-11T22:14:15.003Z mymachine.example.com evntslog - ID47 "
        '[exampleSDID@32473 iut="3" eventSource="Application" eventID="1011"] \ufeffAn application event log entry...',
        year_of=NEAR,
    )
    assert line.severity == "notice"
    assert line.host == "mymachine.example.com"
    assert line.body == "An application event log entry..."
    assert line.time == datetime(2003, 10, 11, 22, 14, 15, 3000, tzinfo=UTC).timestamp()
    assert line.attributes["exampleSDID@32473.eventSource"] == "Application"
    assert line.attributes["syslog.msgid"] == "ID47"
    assert line.attributes["syslog.facility"] == "20"


def test_rfc3164_example() -> None:
    """RFC 3164 section 5.4, example 1: facility 4, severity 2."""
    line = parse_line("<34>Oct 11 22:14:15 mymachine su: 'su root' failed for lonvick on /dev/pts/8", year_of=NEAR)
    assert (line.severity, line.host, line.attributes["syslog.appname"]) == ("critical", "mymachine", "su")
    assert line.body == "'su root' failed for lonvick on /dev/pts/8"
    assert line.time == datetime(2026, 10, 11, 22, 14, 15, tzinfo=UTC).timestamp()


def test_a_december_line_read_in_january_is_of_the_old_year() -> None:
    new_year = datetime(2027, 1, 1, 0, 5, tzinfo=UTC).timestamp()
    line = parse_line("Dec 31 23:59:58 gate-n1 gate[12]: barrier closed", year_of=new_year)
    assert line.time == datetime(2026, 12, 31, 23, 59, 58, tzinfo=UTC).timestamp()
    assert line.attributes["syslog.procid"] == "12"


@pytest.mark.parametrize(
    ("text", "severity", "body", "at"),
    [
        ("2026-11-23T03:07:00Z ERROR disk is full", "error", "ERROR disk is full", "2026-11-23T03:07:00+00:00"),
        ("2026-11-23 03:07:00,250 WARN slow", "warning", "WARN slow", "2026-11-23T03:07:00.250+00:00"),
        (
            "2026-11-23 03:07:00.123 UTC [12] LOG:  ready",
            "informational",
            "[12] LOG:  ready",
            "2026-11-23T03:07:00.123+00:00",
        ),
        ("<11>no header at all", "error", "no header at all", None),
        ("plain words", "informational", "plain words", None),
        ("<999>not a priority", "informational", "<999>not a priority", None),
    ],
)
def test_plain_lines(text: str, severity: str, body: str, at: str | None) -> None:
    line = parse_line(text, year_of=NEAR)
    assert (line.severity, line.body) == (severity, body)
    assert line.time == (datetime.fromisoformat(at).timestamp() if at else None)


@given(st.text(max_size=300))
def test_any_text_is_a_line(text: str) -> None:
    line = parse_line(text, year_of=NEAR)
    assert line.severity in ("emergency", "alert", "critical", "error", "warning", "notice", "informational", "debug")


def test_an_endless_line_is_cut_and_says_so() -> None:
    line = parse_line("x" * (MAX_LINE + 5), year_of=NEAR)
    assert len(line.body) == MAX_LINE
    assert line.attributes["balise.cut"] == "5"


def test_words_suggest_a_severity() -> None:
    assert guess_severity("FATAL: the database system is starting up") == "critical"
    assert guess_severity("connection refused") == "warning"


def test_spans_as_people_write_them() -> None:
    assert seconds("1.5h") == 5400
    assert instant("-15m", 1000.0) == 100.0
    assert instant("2026-11-23T03:07:00+01:00", 0) == datetime(2026, 11, 23, 2, 7, tzinfo=UTC).timestamp()
    assert rfc3339(0.25) == "1970-01-01T00:00:00.250Z"


@pytest.mark.parametrize("text", ["5", "m", "-5m", "5 parsecs", "99999999999s", ""])
def test_what_is_no_duration_is_refused(text: str) -> None:
    with pytest.raises(ValueError, match="write a number and a unit"):
        seconds(text)


@pytest.mark.parametrize("text", ["yesterday", "2026-11-23", "2026-11-23T03:07:00", "-5"])
def test_what_is_no_time_is_refused(text: str) -> None:
    with pytest.raises(ValueError):
        instant(text, 0.0)


@pytest.mark.parametrize(
    ("text", "near", "utc"),
    [
        ("2026-07-01 12:00:00 summer", "2026-07-01T10:00:00+00:00", "2026-07-01T10:00:00+00:00"),
        ("2026-12-01 12:00:00 winter", "2026-12-01T11:00:00+00:00", "2026-12-01T11:00:00+00:00"),
        ("Jul  1 12:00:00 pier app: x", "2026-07-01T10:00:00+00:00", "2026-07-01T10:00:00+00:00"),
        ("Dec  1 12:00:00 pier app: x", "2026-07-01T10:00:00+00:00", "2025-12-01T11:00:00+00:00"),
        # The hour that is shown twice when summer time ends: the one nearer to now.
        ("2026-10-25 02:30:00 first", "2026-10-25T00:31:00+00:00", "2026-10-25T00:30:00+00:00"),
        ("2026-10-25 02:30:00 second", "2026-10-25T01:31:00+00:00", "2026-10-25T01:30:00+00:00"),
    ],
)
def test_times_without_a_zone_know_summer_time(text: str, near: str, utc: str) -> None:
    at, wanted = (datetime.fromisoformat(t).timestamp() for t in (near, utc))
    line = parse_line(text, year_of=at, from_local=of_zone(ZoneInfo("Europe/Berlin")))
    assert line.time == wanted
