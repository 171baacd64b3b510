"""Lists of hosts as people paste them."""

from __future__ import annotations

import json
import re

import pytest
from hypothesis import given
from hypothesis import strategies as st

from balise.api.problems import message_of
from balise.api.remote import ReadList
from balise.core.hostlist import read_list
from balise.server.app import build_api


def read(text: str, credential: str | None = "key") -> tuple[list[tuple[object, ...]], list[tuple[int, str]]]:
    found = read_list(ReadList(text=text, credential=credential))
    entries = [(e.name, e.address, e.port, e.labels) for e in found.entries]
    return entries, [(p.line, p.problem) for p in found.problems]


def test_lines_names_ports_labels_comments_and_ranges() -> None:
    text = """
# the gates at northquay
gate-n1 192.0.2.11 site=northquay role=gate   # first
192.0.2.12:2222
gate-n3, [2001:db8::3]:22
2001:db8::4
192.0.2.16/30
192.0.2.250-252
192.0.2.254-192.0.3.1
"""
    entries, problems = read(text)
    assert problems == []
    assert entries == [
        ("gate-n1", "192.0.2.11", None, {"site": "northquay", "role": "gate"}),
        (None, "192.0.2.12", 2222, {}),
        ("gate-n3", "2001:db8::3", 22, {}),
        (None, "2001:db8::4", None, {}),
        *[(None, f"192.0.2.{n}", None, {}) for n in (17, 18, 250, 251, 252, 254, 255)],
        (None, "192.0.3.0", None, {}),
        (None, "192.0.3.1", None, {}),
    ]


def test_a_csv_with_a_heading() -> None:
    text = 'name,address,port,labels,credential\nquay-1,192.0.2.1,2022,"site=a;role=b",other\n\nquay-2,192.0.2.2,,,\n'
    found = read_list(ReadList(text=text, credential="key"))
    assert [(e.name, e.port, e.labels, e.credential) for e in found.entries] == [
        ("quay-1", 2022, {"site": "a", "role": "b"}, "other"),
        ("quay-2", None, {}, "key"),
    ]


@pytest.mark.parametrize(
    ("text", "line", "words"),
    [
        ("192.0.2.1\n10.0.0.0/8\n", 2, "at most 1024 in one range"),
        ("gates 192.0.2.0/30\n", 1, "no one name"),
        ("a b c d\n", 1, "write an address"),
        ("192.0.2.9-3\n", 1, "between 1 and 1024"),
        ("bad!host\n", 1, "no address and no host name"),
        ("-oProxyCommand=id\n", 1, "no address"),
        ("169.254.169.254\n", 1, "link-local"),
        ("224.0.0.1\n", 1, "multicast"),
        ("192.0.2.300/28\n", 1, "no range of addresses"),
        ("192.0.2.1:99999\n", 1, "less than or equal to 65535"),
        ("name,address,colour\nx,192.0.2.1,red\n", 1, "no column 'colour'"),
        ("name,address\nx,\n", 2, "no address"),
    ],
)
def test_a_line_that_cannot_be_read_says_why(text: str, line: int, words: str) -> None:
    _, problems = read(text)
    assert problems[0][0] == line and words in problems[0][1]


def test_a_line_without_a_credential_asks_for_one() -> None:
    assert read("192.0.2.1\n", None)[1] == [(1, "it has no credential: say which credential to use")]


def test_a_list_is_bounded() -> None:
    entries, problems = read("\n".join(f"192.0.{n}.0/22" for n in range(4, 44, 4)))
    assert len(entries) <= 5000 and problems[0][1].startswith("the list is longer than 5000")


@given(st.text(min_size=1, max_size=300))
def test_no_text_breaks_the_reader(text: str) -> None:
    read_list(ReadList(text=text, credential="key"))


def test_what_is_wrong_is_said_without_regular_expressions() -> None:
    """Every pattern that a request, a plan or a kit has is told in words."""
    patterns = set(re.findall(r'"pattern": "((?:[^"\\]|\\.)*)"', json.dumps(build_api(None).openapi())))
    found = {json.loads(f'"{pattern}"') for pattern in patterns}
    assert len(found) > 5
    for pattern in found:
        words = message_of({"type": "string_pattern_mismatch", "ctx": {"pattern": pattern}, "msg": "no"})
        assert "^" not in words
        if pattern not in INTERNAL:
            assert "description" not in words, pattern


INTERNAL = {r"^([1-9][0-9]?:[0-9a-f]{16})?$", r"^[^\x00-\x1f]+$"}
"""What agents and relays say themselves, and nobody writes."""


def test_what_many_lines_lack_is_said_once_and_the_others_are_read() -> None:
    text = "name,address,credential\na,192.0.2.1,\nb,192.0.2.2,own\nc,192.0.2.3,\nd,bad!host,own\n"
    found = read_list(ReadList(text=text))
    assert [e.name for e in found.entries] == ["b"]
    lacking, bad = found.problems
    assert (lacking.line, lacking.lines, lacking.text) == (2, 2, "a,192.0.2.1,\nc,192.0.2.3,")
    assert lacking.problem == "2 lines have no credential: choose one credential for the list, or name it in each"
    assert (bad.line, bad.lines, found.heading) == (5, 1, "name,address,credential")
