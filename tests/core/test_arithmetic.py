"""Arithmetic of rules held to Python's own."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from balise.api.arithmetic import ArithmeticSlip, names_in, parse
from balise.core.rules.computing import compute

LEAVES = st.one_of(st.sampled_from(["a", "b", "c_1"]), st.integers(0, 99).map(str), st.just("0.5"))
TEXTS = st.recursive(
    LEAVES,
    lambda inner: st.one_of(
        st.tuples(inner, st.sampled_from("+-*/"), inner).map(lambda t: f"{t[0]} {t[1]} {t[2]}"),
        inner.map(lambda t: f"({t})"),
        inner.map(lambda t: f"-{t}"),
    ),
    max_leaves=8,
)
NUMBERS = st.lists(st.sampled_from([0.0, 1.0, -3.5, 1e9, math.nan]), min_size=3, max_size=3)


@given(TEXTS, NUMBERS)
def test_it_is_pythons_arithmetic_without_what_is_no_number(text: str, numbers: list[float]) -> None:
    named = dict(zip(("a", "b", "c_1"), numbers, strict=True))
    try:
        wanted = float(eval(text, {}, named))
    except ZeroDivisionError:
        wanted = math.nan
    found = float(compute(parse(text), {name: np.array([number]) for name, number in named.items()})[0])
    if math.isfinite(wanted):
        assert found == pytest.approx(wanted, rel=1e-12)
    # numpy divides by zero where Python stops: what comes of it is no number, or was multiplied away.
    elif "/" not in text:
        assert math.isnan(found)


def test_no_divisor_is_no_value() -> None:
    tree = parse("100 * bad / all")
    values = {"bad": np.array([9.0, 5.0, 0.0, np.nan]), "all": np.array([100.0, 0.0, 0.0, 10.0])}
    assert compute(tree, values)[0] == 9.0
    assert np.isnan(compute(tree, values)[1:]).all()
    assert names_in("100 * bad / all") == {"bad", "all"}


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("a + __import__('os')", "character 4 is no arithmetic"),
        ("a +", "is missing at the end"),
        ("(a", "a closing parenthesis is missing"),
        ("a b", "where an operator or the end is expected"),
        ("* a", "where a number, a name or an opening parenthesis"),
        ("a ** b", "where a number"),
        ("a.b", "no arithmetic"),
        ("-" * 60 + "a", "more than 40 levels"),
        ("(" * 300 + "a" + ")" * 300, "more than 40 levels"),
        ("", "is missing at the end"),
    ],
)
def test_everything_else_is_refused_with_its_place(text: str, said: str) -> None:
    with pytest.raises(ArithmeticSlip, match=said.replace("(", r"\(")):
        parse(text)
