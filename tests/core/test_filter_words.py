"""Filters told: sentences, trees, and slips."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from balise.core import filters
from balise.core.filter_words import sentence_of, tree_of
from balise.core.filters import Both, Compare, Either, Filter, FilterError, Negated, Present


@pytest.mark.parametrize(
    ("where", "sentence"),
    [
        ('host eq "gate-s3"', "host is “gate-s3”"),
        ('severity ge "error"', "severity is error or worse"),
        ('not (severity lt "error")', "severity is not milder than error"),
        ('not (source eq "crew")', "source is not “crew”"),
        ('not (source ne "crew")', "source is “crew”"),
        ("not (not (label.site pr))", "label.site is there"),
        ("not label.site pr", "label.site is missing"),
        ("owner eq null", "owner is missing"),
        ("owner ne null", "owner is there"),
        ("owner gt null", "nothing passes owner gt null"),
        ("cores ge 4", "cores is at least 4"),
        ("enabled eq true", "enabled is true"),
        (
            'host sw "pier-" and (severity ge "error" or not (source eq "crew"))',
            "host begins with “pier-” and (severity is error or worse or source is not “crew”)",
        ),
        ("a eq 1 or b eq 2 and c eq 3", "a is 1 or (b is 2 and c is 3)"),
        ("a eq 1 and (b eq 2 and c eq 3)", "a is 1, b is 2, and c is 3"),
        ("not (a eq 1 or b eq 2)", "not (a is 1 or b is 2)"),
        ("not (not (a eq 1 or b eq 2))", "(a is 1 or b is 2)"),
    ],
)
def test_a_filter_is_told_in_english(where: str, sentence: str) -> None:
    assert sentence_of(filters.parse(where)) == sentence


def test_what_one_word_joins_is_one_group() -> None:
    tree = tree_of(filters.parse('a eq 1 and b eq 2 and (c pr or not (d co "x"))'))
    assert [part.get("attribute") for part in tree["all"]] == ["a", "b", None]
    first, second = tree["all"][2]["any"]
    assert first["comparison"] == "pr" and second["not"][0]["value"] == "x"


NAMES = st.sampled_from(["a", "b", "c"])
CONDITIONS = st.one_of(
    st.builds(Present, NAMES),
    st.builds(Compare, NAMES, st.sampled_from(["eq", "ne", "gt", "le", "co"]), st.sampled_from([1.0, "1", "x", True])),
)
TREES = st.recursive(
    CONDITIONS,
    lambda inner: st.one_of(st.builds(Both, inner, inner), st.builds(Either, inner, inner), st.builds(Negated, inner)),
    max_leaves=12,
)


def means(tree: dict[str, Any], found: dict[str, Any]) -> bool:
    """A tree of plain values, worked out by hand."""
    if "all" in tree:
        return all(means(part, found) for part in tree["all"])
    if "any" in tree:
        return any(means(part, found) for part in tree["any"])
    if "not" in tree:
        return not means(tree["not"][0], found)
    node: Filter = Present(tree["attribute"])
    if tree["comparison"] != "pr":
        node = Compare(tree["attribute"], tree["comparison"], tree["value"])
    return filters.matches(node, found.get)


@given(TREES, st.dictionaries(NAMES, st.sampled_from([1, 2.0, "1", "x", "xyz", True, ["x", "1"]])))
def test_a_tree_means_what_its_filter_means(node: Filter, found: dict[str, Any]) -> None:
    assert means(tree_of(node), found) is filters.matches(node, found.get)
    assert sentence_of(node)


@pytest.mark.parametrize(
    ("where", "at", "expected"),
    [
        ('host sw "pier-" and severity gee "error"', 30, "ge"),
        ('host eq "a" host eq "b"', 13, "and"),
        ("host", 5, "eq"),
        ("host eq", 8, '"text"'),
        ("host eq pier", 9, '"text"'),
        ("severity eq 3", 13, '"error"'),
        ('severity co "err"', 10, "ge"),
        ('(host eq "a"', 13, ")"),
        ('host eq "a" and', 16, "not"),
        ("eq 3", 4, "eq"),
        ('host eq "a" and = 3', 17, "not"),
        ('host eq "open', 9, '"text"'),
    ],
)
def test_a_slip_is_told_with_its_place(where: str, at: int, expected: str) -> None:
    with pytest.raises(FilterError) as caught:
        filters.parse(where)
    assert caught.value.at == at and expected in caught.value.expected, (caught.value.at, caught.value.expected)


@given(st.text(alphabet='abhost eqgn"()\\ 1.', max_size=40))
def test_the_place_of_a_slip_is_in_the_text(where: str) -> None:
    try:
        filters.parse(where)
    except FilterError as error:
        assert 1 <= error.at <= len(where) + 1
