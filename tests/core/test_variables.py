"""Variables in filters: held to the filter with the value written out."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from balise.core.filters import Both, Compare, Either, Filter, FilterError, Negated, Present, matches, parse
from balise.core.variables import filled, variables_in, written_filter


@pytest.mark.parametrize(
    ("where", "chosen", "text"),
    [
        ('host eq "$host"', {"host": ["a"]}, 'host eq "a"'),
        ('host eq "$host" and disk ne "sda"', {}, 'disk ne "sda"'),
        ('host eq "$host" or disk ne "sda"', {}, None),
        ('not (host eq "$host")', {"host": []}, None),
        ('host ne "$host"', {"host": ["a", "b"]}, '(host ne "a" and host ne "b")'),
        ('host sw "$site-"', {"site": ["north", "south"]}, '(host sw "north-" or host sw "south-")'),
        ('path eq "/$a/$b"', {"a": ["x"], "b": ["y"]}, 'path eq "/x/y"'),
        ('price eq "$5"', {}, 'price eq "$5"'),
        ("", {}, None),
    ],
)
def test_a_variable_stands_for_what_was_chosen(where: str, chosen: dict[str, list[str]], text: str | None) -> None:
    assert filled(where, chosen) == text


def test_what_was_chosen_is_text_whatever_it_looks_like() -> None:
    evil = '" or host pr or host eq "'
    assert matches(parse(filled('host eq "$host"', {"host": [evil]}) or ""), {"host": evil}.get)
    assert not matches(parse(filled('host eq "$host"', {"host": [evil]}) or ""), {"host": "a"}.get)
    with pytest.raises(FilterError):
        filled("host eq", {})


def test_the_names_of_variables() -> None:
    assert variables_in('(a eq "$one" or not (b sw "x-$two_2"))') == {"one", "two_2"}


texts = st.text(max_size=8)
terms = st.one_of(
    st.builds(Compare, st.sampled_from(["host", "label.x", "a.b"]), st.sampled_from(["eq", "ne", "co", "sw"]), texts),
    st.builds(Compare, st.just("n"), st.sampled_from(["gt", "le"]), st.floats(-1e9, 1e9)),
    st.builds(Present, st.sampled_from(["host", "a.b"])),
)
nodes = st.recursive(
    terms, lambda inner: st.builds(Both, inner, inner) | st.builds(Either, inner, inner) | st.builds(Negated, inner),
    max_leaves=8,
)  # fmt: skip


@given(nodes)
def test_a_filter_that_is_written_reads_as_the_same(node: Filter) -> None:
    assert parse(written_filter(node)) == node
