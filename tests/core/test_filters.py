"""The filter language, RFC 7644 section 3.4.2.2."""

from __future__ import annotations

import json
import math
import operator
import sqlite3
from collections.abc import Callable
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from balise.api.events import SEVERITIES
from balise.core import filters
from balise.core.filters import Both, Compare, Either, FilterError, Negated, Present
from balise.store.events.sqlfilter import FUNCTIONS, Lookups, required_tags, to_sql
from running import often

HOST = {
    "host": "gate-s3",
    "label.site": "southquay",
    "cores": "4",
    "group": ["southquay", "Boarding gates"],
    "severity": "error",
}


@pytest.mark.parametrize(
    ("text", "passes"),
    [
        ('host eq "gate-s3"', True),
        ('host eq "GATE-S3"', False),
        ('host co "ATE"', True),
        ('host sw "gate" and host ew "S3"', True),
        ('label.site ne "northquay"', True),
        ('label.none ne "x"', True),
        ('label.none eq "x"', False),
        ("label.none pr", False),
        ("label.site pr", True),
        ("cores gt 3.5", True),
        ("cores le 3", False),
        ('group eq "Boarding gates"', True),
        ('group ne "southquay"', False),
        ('severity ge "warning"', True),
        ('severity gt "error"', False),
        ('severity lt "critical"', True),
        ('not (host eq "gate-s3")', False),
        ('host eq "x" or host eq "gate-s3" and cores eq 4', True),
        ('(host eq "x" or host eq "gate-s3") and cores eq 5', False),
        ("label.none eq null", True),
        ('HOST eq "x" OR host EQ "gate-s3"', True),
    ],
)
def test_a_filter_passes_what_it_says(text: str, passes: bool) -> None:
    assert filters.matches(filters.parse(text), HOST.get) is passes


def test_and_binds_closer_than_or() -> None:
    a, b, c = (Compare(name, "eq", 1.0) for name in "abc")
    assert filters.parse("a eq 1 or b eq 1 and c eq 1") == Either(a, Both(b, c))


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("severity ge", "ends at character 12"),
        ("host eq gate", "double quotes"),
        ('host is "x"', "is no comparison"),
        ('host eq "x" host eq "y"', "join terms with and, or"),
        ('(host eq "x"', "closing parenthesis"),
        ('severity ge "bad"', "is no severity"),
        ("", "ends at character 1"),
        ('host eq "x" & y', "cannot read the filter at character 13"),
        ("not " * 50 + "a pr", "nested more than"),
        ("a pr and " * 600 + "a pr", "longer than"),
    ],
)
def test_a_broken_filter_says_where_and_what(text: str, said: str) -> None:
    with pytest.raises(FilterError, match=said.replace("(", r"\(")):
        filters.parse(text)


TEXTS = st.one_of(
    st.text("abcABC\"\\\\ éÉßſİK%_'", max_size=4),
    st.sampled_from(["0", "5", "-3", "0.50", "1e2", "true", "false", "nan", "inf", "٣", "5 ", ""]),
)
NUMBERS = st.one_of(st.integers(-5, 5).map(float), st.sampled_from([0.5, 100.0, 1e300, 12345678901234567890.0]))
names = st.sampled_from(["host", "HOST", "source", "body", "a.b", "A.B", "zz"])
comparisons = st.builds(
    Compare,
    names,
    st.sampled_from(["eq", "ne", "co", "sw", "ew", "gt", "ge", "lt", "le"]),
    st.one_of(TEXTS, NUMBERS, st.booleans(), st.none()),
)
severe = st.builds(
    Compare,
    st.sampled_from(["severity", "Severity"]),
    st.sampled_from(["gt", "ge", "lt", "le", "eq", "ne"]),
    st.sampled_from(SEVERITIES),
)
placed = st.builds(
    Compare, st.sampled_from(["label.site", "group"]), st.sampled_from(["eq", "ne", "co"]), st.sampled_from(["a", "b"])
)
trees = st.recursive(
    st.one_of(comparisons, comparisons, severe, placed, st.builds(Present, names)),
    lambda inner: st.one_of(st.builds(Both, inner, inner), st.builds(Either, inner, inner), st.builds(Negated, inner)),
    max_leaves=6,
)
SCALARS = st.one_of(
    TEXTS, st.integers(-5, 5), st.booleans(), st.floats(allow_nan=False, allow_infinity=False), st.just(10**25)
)
events = st.fixed_dictionaries(
    {
        "host": st.one_of(TEXTS, st.sampled_from(["pier-a", "pier-b"])),
        "source": TEXTS,
        "body": TEXTS,
        "severity": st.sampled_from(SEVERITIES),
        "attributes": st.dictionaries(
            st.sampled_from(["a.b", "A.b", "zz"]), st.one_of(SCALARS, st.lists(SCALARS, max_size=3)), max_size=3
        ),
    }
)
HOSTS = {"pier-a": {"label.site": "a", "group": ["a", "b"]}, "pier-b": {"label.site": "b", "group": []}}


def plain_passes(node: filters.Filter, held: dict[str, list[object]]) -> bool:
    """The table of docs/rules.md, read word for word. `held` has for each name all values it has."""
    if isinstance(node, Both):
        return plain_passes(node.left, held) and plain_passes(node.right, held)
    if isinstance(node, Either):
        return plain_passes(node.left, held) or plain_passes(node.right, held)
    if isinstance(node, Negated):
        return not plain_passes(node.inner, held)
    values = [v for v in held.get(node.attribute.lower(), []) if v is not None]
    if isinstance(node, Present):
        return any(v != "" for v in values)
    if node.comparison == "ne":
        return not plain_passes(Compare(node.attribute, "eq", node.value), held)
    if node.value is None:
        return node.comparison == "eq" and not any(v != "" for v in values)
    return any(plain_term(node, v) for v in values)


def plain_term(node: Compare, value: object) -> bool:
    wanted, order = node.value, {"eq": operator.eq, "gt": operator.gt, "ge": operator.ge}
    order |= {"lt": operator.lt, "le": operator.le}
    if node.attribute.lower() == "severity":
        # From emergency, 0, to debug, 7: the lower code is the more severe.
        return bool(order[node.comparison](-SEVERITIES.index(value), -SEVERITIES.index(wanted)))  # type: ignore[arg-type]
    if node.comparison in ("co", "sw", "ew"):
        one, other = plain_text(value).casefold(), plain_text(wanted).casefold()
        return {"co": other in one, "sw": one.startswith(other), "ew": one.endswith(other)}[node.comparison]
    if isinstance(value, bool) or isinstance(wanted, bool):
        return node.comparison == "eq" and plain_text(value) == plain_text(wanted)
    if isinstance(value, str) and isinstance(wanted, str):
        return bool(order[node.comparison](value, wanted))
    try:
        one, other = (plain_number(v) for v in (value, wanted))
    except ValueError:
        return False
    return bool(order[node.comparison](one, other))


def plain_text(value: object) -> str:
    if isinstance(value, bool):
        return str(value).lower()
    whole = isinstance(value, float) and value == math.floor(value) and abs(value) < 1e15
    return str(int(value)) if whole else str(value)  # type: ignore[call-overload]


def plain_number(value: object) -> float:
    """A number, or text that is written as one: digits, a point, an exponent, and nothing else."""
    if isinstance(value, str) and not set(value) <= set("0123456789+-.eE"):
        raise ValueError(value)
    return float(value)  # type: ignore[arg-type]


DB = sqlite3.connect(":memory:")
DB.executescript(
    """
    CREATE TABLE event (host INTEGER, severity INTEGER, source INTEGER, pattern INTEGER, body TEXT, attributes);
    CREATE TABLE host (id INTEGER, name TEXT);
    CREATE TABLE source (id INTEGER, name TEXT);
    CREATE TABLE kept (id INTEGER, attributes TEXT);
    """
)
for _name, (_arguments, _function) in FUNCTIONS.items():
    DB.create_function(_name, _arguments, _function, deterministic=True)


def written(node: filters.Filter) -> str:
    if isinstance(node, Both):
        return f"({written(node.left)} and {written(node.right)})"
    if isinstance(node, Either):
        return f"({written(node.left)} or {written(node.right)})"
    if isinstance(node, Negated):
        return f"not ({written(node.inner)})"
    if isinstance(node, Present):
        return f"{node.attribute} pr"
    return f"{node.attribute} {node.comparison} {json.dumps(node.value)}"


@given(trees)
def test_what_is_written_is_read_back(tree: filters.Filter) -> None:
    assert filters.parse(written(tree)) == tree


@settings(max_examples=often(600), deadline=None)
@given(trees, events)
def test_sql_python_and_a_plain_reading_of_the_table_agree(tree: filters.Filter, event: dict[str, Any]) -> None:
    """The event store asks SQLite, live streams ask Python: a person must not see a difference."""
    place = HOSTS.get(event["host"], {})
    own = filters.by_name(event["attributes"].items())

    def lookup(name: str) -> object:
        if name in ("host", "source", "body", "severity"):
            return event[name]
        return place.get(name) if name.startswith("label.") or name == "group" else own.get(name)

    def hosts(term: Compare | Present) -> list[str]:
        return [name for name, held in HOSTS.items() if filters.matches(term, held.get)]

    held: dict[str, list[object]] = {n: [event[n]] for n in ("host", "source", "body", "severity")}
    for name, value in [*event["attributes"].items(), *place.items()]:
        held.setdefault(name.lower(), []).extend(value if isinstance(value, list) else [value])
    wanted = plain_passes(tree, held)
    assert filters.matches(tree, lookup) is wanted
    sql, parameters = to_sql(tree, lookups(hosts))
    code = SEVERITIES.index(event["severity"])
    packed = json.dumps(event["attributes"], ensure_ascii=False)
    # Attributes are with the event, or in a set that is kept once: both are asked the same.
    for attributes in (packed, 1):
        for table, row in (("event", (1, code, 1, 0, event["body"], attributes)), ("kept", (1, packed))):
            DB.execute(f"DELETE FROM {table}")
            DB.execute(f"INSERT INTO {table} VALUES ({','.join('?' * len(row))})", row)
        for table in ("host", "source"):
            DB.execute(f"DELETE FROM {table}")
            DB.execute(f"INSERT INTO {table} VALUES (1, ?)", (event[table],))
        assert bool(DB.execute(f"SELECT count(*) FROM event WHERE {sql}", parameters).fetchone()[0]) is wanted


@pytest.mark.parametrize(
    ("text", "attributes", "passed"),
    [
        ("k eq 0", {"k": "abc"}, False),
        ("k eq 0", {"k": "0"}, True),
        ('k eq "0"', {"k": 0}, True),
        ("k ne 0", {"k": "abc"}, True),
        ('k co "É"', {"k": "café"}, True),
        ('k eq "b"', {"k": ["a", "b"]}, True),
        ('k ne "b"', {"k": ["a", "b"]}, False),
        ('K eq "b"', {"k": "b"}, True),
        ("k gt 9", {"k": "10"}, True),
        ("k pr", {"k": ""}, False),
        ("k eq null", {}, True),
    ],
)
def test_the_table_by_example(text: str, attributes: dict[str, Any], passed: bool) -> None:
    own = filters.by_name(attributes.items())
    assert filters.matches(filters.parse(text), own.get) is passed


@pytest.mark.parametrize("text", ['a eq "\\ud800"', 'a eq "\ud800"', "a eq 1e999"])
def test_half_a_character_and_a_number_beyond_all_are_refused(text: str) -> None:
    with pytest.raises(FilterError):
        filters.parse(text)


def lookups(hosts: Callable[[Compare | Present], list[str]]) -> Lookups:
    """Three patterns: 1 and 2 are one, 3 is of the source gate and severe."""
    return Lookups(hosts, lambda n: {1, 2} if n in (1, 2) else set(), lambda s, worst, _m: {3} if worst == 0 else set())


@pytest.mark.parametrize(
    ("text", "tags"),
    [
        ('host eq "a"', [[("h", "a")]]),
        ('host eq "a" and severity ge "error"', [[("h", "a")], [("p", 0), ("p", 3)]]),
        ('host eq "a" or host eq "b"', [[("h", "a"), ("h", "b")]]),
        ('host eq "a" or source co "x"', []),
        ('not (host eq "a")', []),
        ('pattern eq "2"', [[("p", 1), ("p", 2)]]),
        ('pattern eq 7 and source eq "gate"', [[("p", 7)], [("p", 0), ("p", 3)]]),
        ('severity lt "error"', []),
    ],
)
def test_what_every_event_that_matches_has(text: str, tags: list[list[tuple[str, Any]]]) -> None:
    assert required_tags(filters.parse(text), lookups(lambda _: [])) == tags
