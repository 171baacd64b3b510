"""A receiver's reader says what the slow reader says, and puts right what cannot be."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from balise.api.events import SEVERITIES
from balise.core.events.syslog_reader import SENT_TIME, SyslogReader
from balise.core.moments import NS, Nanos
from balise.core.syslog import GUESSED, parse_line

ARRIVED = Nanos(1_795_004_800 * NS)
"""2026-11-18T12:26:40Z, as date says it."""


def test_the_examples_of_rfc_5424() -> None:
    """Section 6.5, with the year brought near."""
    reader = SyslogReader()
    text = (
        "<165>1 2026-11-18T12:20:15.003Z mymachine.example.com evntslog - ID47 "
        '[exampleSDID@32473 iut="3" eventSource="Application" eventID="1011"] \ufeffAn application event log entry...'
    )
    event = reader.read(text, ARRIVED)
    assert event[:5] == (
        1_795_004_415_003_000_000,
        "mymachine.example.com",
        5,
        "evntslog",
        "An application event log entry...",
    )
    assert json.loads(event.attributes or "") == {
        "syslog.facility": "20",
        "syslog.appname": "evntslog",
        "syslog.msgid": "ID47",
        "exampleSDID@32473.iut": "3",
        "exampleSDID@32473.eventSource": "Application",
        "exampleSDID@32473.eventID": "1011",
    }
    bare = reader.read("<34>1 2026-11-18T12:20:15.000003-07:00 192.0.2.1 myproc 8710 - - %% It's time to make", ARRIVED)
    assert (bare.host, bare.severity, bare.source, bare.body) == ("192.0.2.1", 2, "myproc", "%% It's time to make")


WORD = st.text(alphabet="abc-é\"'\\]1[=", min_size=1, max_size=6)


@given(
    st.integers(0, 191),
    st.sampled_from(["2026-11-18T12:00:00Z", "2026-11-18T14:00:00.123456+02:00", "2026-11-18T12:00:00.1Z"]),
    WORD.filter(lambda w: " " not in w),
    WORD,
    WORD,
    WORD,
    st.sampled_from(["-", '[a@1 b="c"]', '[a@1 b="\\"x\\" \\] y"][c d="é"]', "[a@1]", "[broken"]),
    st.text(max_size=30),
)
def test_the_fast_and_the_slow_reader_agree(
    priority: int, moment: str, host: str, app: str, process: str, kind: str, data: str, body: str
) -> None:
    text = f"<{priority}>1 {moment} {host} {app} {process} {kind} {data} {body}"
    slow = parse_line(text, year_of=ARRIVED / NS)
    for reader in (SyslogReader(), SyslogReader()):
        for _ in range(2):
            fast = reader.read(text, ARRIVED)
            assert (fast.host, fast.body, SEVERITIES[fast.severity]) == (slow.host, slow.body, slow.severity)
            assert json.loads(fast.attributes or "{}") == slow.attributes
            if slow.time is not None:
                assert abs(fast.time / NS - slow.time) < 1e-5


@pytest.mark.parametrize(
    ("text", "host", "source", "body", "guess"),
    [
        ("<38>Nov 18 12:20:00 pier-1 ferry[12]: old style", "pier-1", "ferry", "old style", "year and zone"),
        ("<13>no head at all", "", "syslog", "no head at all", None),
        ("<13>2026-11-18 12:20:00 no zone", "", "syslog", "no zone", "zone"),
        ("", "", "syslog", "", None),
    ],
)
def test_other_forms_say_what_is_guessed(text: str, host: str, source: str, body: str, guess: str | None) -> None:
    event = SyslogReader().read(text, ARRIVED)
    assert (event.host, event.source, event.body) == (host, source, body)
    assert json.loads(event.attributes or "{}").get(GUESSED) == guess
    assert abs(event.time - ARRIVED) < 3600 * NS


@pytest.mark.parametrize("year", ["2027", "1999", "2026-01"])
def test_a_clock_that_is_off_keeps_both_times(year: str) -> None:
    moment = f"{year}-11-18T12:00:00Z" if len(year) == 4 else "2026-01-18T12:00:00Z"
    event = SyslogReader().read(f"<38>1 {moment} pier-1 ferry - - - ahead", ARRIVED)
    assert event.time == ARRIVED
    assert json.loads(event.attributes or "")[SENT_TIME].startswith(moment[:-1])


@given(st.text(max_size=200))
def test_any_text_is_an_event(text: str) -> None:
    assert 0 <= SyslogReader().read(text, ARRIVED).severity <= 7


def test_what_senders_make_up_is_bounded() -> None:
    reader = SyslogReader()
    for number in range(50_000):
        reader.read(f"<38>1 2026-11-18T12:00:00Z h app{number} {number} id{number} - x", ARRIVED)
    assert len(reader._heads) <= 20_000
