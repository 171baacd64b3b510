"""Recent points of some series, against looking at each of them."""

from __future__ import annotations

import numpy as np
from hypothesis import example, given
from hypothesis import strategies as st

from balise.core.series.steps import Steps
from balise.core.series.summary import FIELDS, Flat, summarise_flat
from balise.store.series.head import Batch, Head
from balise.store.series.layouts import Layouts
from balise.store.series.recent import Asked, Recent, in_order, together

SENDERS = [(1, 2, 3), (6, 5), (4,), (7, 8, 9)]
"""None of which has a series of another."""
MOMENTS = st.integers(0, 12)
BODIES = st.lists(
    st.tuples(
        # Bodies of a few senders, whose series may be those of others too.
        st.sampled_from([(1, 2, 3), (4, 5, 6), (7, 8, 9), (6, 5, 4), (3, 7), (2, 2, 9)]),
        st.booleans(),
        st.lists(MOMENTS, min_size=3, max_size=3),
    ),
    max_size=25,
)


@given(
    BODIES, st.sets(st.integers(1, 10), min_size=1), MOMENTS, MOMENTS, st.tuples(st.integers(0, 9), st.integers(0, 9))
)
def test_points_are_those_that_came(
    bodies: list[tuple[tuple[int, ...], bool, list[int]]],
    wanted: set[int],
    start: int,
    end: int,
    places: tuple[int, int],
) -> None:
    head, layouts = Head(), Layouts()
    ids = np.array(sorted(wanted))
    asked = Asked(ids)
    came: list[tuple[int, int, float]] = []
    for turn, (series, shared, moments) in enumerate(bodies):
        times = moments[:1] * len(series) if shared else moments[: len(series)]
        values = [turn + place / 10 for place in range(len(series))]
        came += zip(series, times, values, strict=True)
        held = np.array(times[:1] if shared else times)
        head.append(turn, Batch(layouts.of(np.array(series)), held, np.array(values)), now=turn)
        if turn % 3 == 0:
            # Who asked before finds what came since.
            asked.seen(head)
    seen = asked.seen(head)
    # What comes after that moment is not seen.
    head.append(99, Batch(layouts.of(np.array([1, 2, 3])), np.array([start]), np.zeros(3)), now=99)
    recent = Recent(seen, len(ids))
    assert recent.counts.tolist() == [sum(series == one for series, _, _ in came) for one in ids.tolist()]
    within = [sum(series == one and start <= at < end for series, at, _ in came) for one in ids.tolist()]
    assert (recent.counts_within(start, end) >= within).all()
    low, high = sorted(places)
    for bounds in ({}, {"low": low, "high": high}):
        chosen = set(ids[bounds.get("low", 0) : bounds.get("high", len(ids))].tolist())
        points = together(recent.points(start, end, **bounds))
        found = sorted(zip(ids[points[0]].tolist(), points[1].tolist(), points[2].tolist(), strict=True))
        assert found == sorted(one for one in came if one[0] in chosen and start <= one[1] < end)
        rows, at, _ = in_order(points)
        pairs = list(zip(ids[rows].tolist(), at.tolist(), strict=True))
        assert pairs == sorted({(series, at) for series, at, _ in found})


@given(
    st.lists(
        st.tuples(st.sampled_from(SENDERS), st.integers(0, 3), st.floats(allow_infinity=False, width=32)), max_size=60
    ),
    st.sets(st.integers(1, 10), min_size=1),
    st.tuples(st.integers(0, 10), st.integers(1, 30), st.integers(1, 4)),
)
@example([((1, 2, 3), 1, 7.0), ((1, 2, 3), 1, np.nan)], {1, 2}, (0, 5, 1))
@example([((1, 2, 3), 1, 0.1 * turn**3) for turn in range(60)], {1, 2}, (0, 30, 2))
def test_what_was_measured_together_is_summed_up_as_point_by_point(
    bodies: list[tuple[tuple[int, ...], int, float]], wanted: set[int], steps: tuple[int, int, int]
) -> None:
    """To the last bit; wherever each body came later than the one before it and has all its values."""
    head, layouts, ids, asked = Head(), Layouts(), np.array(sorted(wanted)), Steps(*steps)
    clock = dict.fromkeys(SENDERS, 0)
    plain = True
    for turn, (series, later, value) in enumerate(bodies):
        clock[series] += later
        values = np.array([value + one / 3 for one in series])
        head.append(turn, Batch(layouts.of(np.array(series)), np.array([clock[series]]), values), now=turn)
        plain = plain and later > 0 and not np.isnan(value)
    recent = Recent(Asked(ids).seen(head), len(ids))
    found = recent.summed(asked, FIELDS)
    if plain and any(wanted & set(series) for series, *_ in bodies):
        assert found is not None
    if found is not None:
        points = in_order(together(recent.points(asked.start, asked.end)))
        one_by_one = summarise_flat(Flat.told(*points), len(ids), asked)
        for name in FIELDS:
            np.testing.assert_array_equal(getattr(found, name), getattr(one_by_one, name))


def test_series_that_stand_in_two_stripes_are_put_in_order_first() -> None:
    head, layouts = Head(), Layouts()
    for turn, series in enumerate([(1, 2), (2, 3), (1, 2)]):
        head.append(turn, Batch(layouts.of(np.array(series)), np.array([turn]), np.ones(2)), now=turn)
    for ids, alone in (([1, 2, 3], False), ([1, 3], True)):
        recent = Recent(Asked(np.array(ids)).seen(head), len(ids))
        assert (recent.summed(Steps(0, 1, 3), FIELDS) is not None) is alone
