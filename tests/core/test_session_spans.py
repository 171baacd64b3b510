"""What sessions did over a span: worked out by hand, held to a count second by second, and fuzzed."""

from __future__ import annotations

from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from balise.api.processes import SessionOf
from balise.core.kits.session_spans import LONGEST_LOOK, SessionWork, added_up, without_values


def row(number: int, blocked_by: int | None = None, **more: Any) -> dict[str, Any]:
    return {"id": number, "user": "app", "statement": f"select {number}", "blocked_by": blocked_by, **more}


LOOKS = [
    (0.0, "books", [row(1), row(2, 1), row(3, 2)]),
    (60.0, "books", [row(1, user="fares"), row(4)]),
    (100.0, "books", []),
    (0.0, "gates", [row(1, statement="update gate set x = 'a'")]),
]


def by_number(found: list[SessionWork], service: str) -> dict[str, SessionWork]:
    return {str(one.row["id"]): one for one in found if one.service == service}


def test_a_look_stands_until_the_next_one_of_its_service() -> None:
    books = by_number(added_up(LOOKS, 160.0, "session"), "books")
    assert {n: one.seconds for n, one in books.items()} == {"1": 100.0, "2": 60.0, "3": 60.0, "4": 40.0}
    # Two and three waited behind one: both are held by the head of the chain.
    assert (books["1"].held, books["2"].held, books["2"].waited, books["3"].waited) == (120.0, 0.0, 60.0, 60.0)
    assert (books["1"].first, books["1"].last, books["1"].looks, books["1"].row["user"]) == (0.0, 60.0, 2, "fares")
    # Of the other service nobody told again: a look says nothing of what is long after it.
    gates = by_number(added_up(LOOKS, 5000.0, "session"), "gates")
    assert gates["1"].seconds == LONGEST_LOOK
    assert by_number(added_up(LOOKS, 160.0, "session"), "gates")["1"].seconds == 160.0


def test_who_held_others_comes_first_then_the_longest_at_work() -> None:
    found = added_up(LOOKS, 160.0, "session")
    assert [(one.service, one.row["id"]) for one in found] == [
        ("books", 1), ("gates", 1), ("books", 2), ("books", 3), ("books", 4),
    ]  # fmt: skip


def test_sessions_are_put_together_by_user_and_by_statement() -> None:
    users = {one.row["user"]: one for one in added_up(LOOKS[:3], 160.0, "user")}
    assert (users["app"].seconds, users["app"].sessions) == (60.0 * 3 + 40.0, {"1", "2", "3", "4"})
    assert users["fares"].seconds == 40.0
    (alone,) = added_up(LOOKS[:3], 160.0, "statement")
    assert alone.sessions == {"1", "2", "3", "4"} and alone.seconds == 260.0 and alone.looks == 2


def test_a_statement_is_told_without_its_values() -> None:
    said = "select *\n from seats  where deck = 'B''2' and sailing = 4711 and t2.price > 12.50"
    assert without_values(said) == "select * from seats where deck = ? and sailing = ? and t2.price > ?"


ROWS = st.lists(
    st.fixed_dictionaries(
        {"id": st.integers(1, 5) | st.none() | st.text(max_size=2)},
        optional={"blocked_by": st.integers(1, 5), "user": st.none() | st.text(max_size=3)},
    ),
    max_size=6,
)


@given(
    st.lists(st.tuples(st.integers(0, 3000).map(float), st.sampled_from(["a", "b"]), ROWS), max_size=8),
    st.sampled_from(["session", "user", "client", "statement"]),
)
def test_nobody_was_at_work_longer_than_the_span(looks: list[tuple[float, str, Any]], of: SessionOf) -> None:
    end = 4000.0
    for one in added_up(looks, end, of):
        assert 0 <= one.waited <= one.seconds
        assert one.first <= one.last <= end and one.looks >= 1
        if of == "session":
            told = max(len([r for r in rows if str(r.get("id")) == str(one.row["id"])]) for _, _, rows in looks)
            assert one.seconds <= (end - one.first) * told
