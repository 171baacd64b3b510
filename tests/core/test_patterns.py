"""Lines that say the same with other values are one pattern; those that say something else are not."""

from __future__ import annotations

import random

import pytest
from hypothesis import given
from hypothesis import strategies as st

from balise.core.events.patterns import MOST_OF_SOURCE, OTHERS, PatternLearner


def told(*bodies: str, learner: PatternLearner | None = None, source: str = "web") -> list[str | None]:
    """What counts as the pattern of each body, once all are read."""
    learner = learner or PatternLearner()
    ids = learner.of([(at, "web-n1", 6, source, body, None) for at, body in enumerate(bodies)])
    return [learner.by_id[i].root().text if i else None for i in ids]


ONE_EACH = [
    (["process 15926 still waits after 200.157 ms", "process 7 still waits after 9 ms"], "process … still waits after … ms"),
    (["user anna refused", "user berit refused"], "user … refused"),
    (['user "anna" from 192.0.2.7:4242', 'user "olav" from 192.0.2.9:1'], "user … from …"),
    (["user=anna did it again", "user=berit did it again"], "user=… did it again"),
    (["GET /book/anna?x=1 took 3", "GET /book/berit?x=2 took 4"], "GET /book/… took …"),
    (["session 3f2a9c opened for anna by root", "session 77ab1 opened for olav by root"], "session … opened for … by root"),
    (["can't read it, won't try", "can't read it, won't try"], "can't read it, won't try"),
]  # fmt: skip


@pytest.mark.parametrize(("bodies", "pattern"), ONE_EACH)
def test_the_same_with_other_values_is_one(bodies: list[str], pattern: str) -> None:
    assert set(told(*bodies)) == {pattern}


APART = [
    ["user anna refused", "user anna accepted"],
    ["gate 3 opened", "gate 3 closed"],
    ["GET /x", "POST /x"],
    ["disk full", "disk fine"],
    ["ramp is up", "ramp is up again today"],
]


@pytest.mark.parametrize("bodies", APART)
def test_what_says_something_else_stays_apart(bodies: list[str]) -> None:
    assert len(set(told(*bodies))) == 2


def test_the_first_word_varies_once_three_lines_differ_in_it() -> None:
    learner = PatternLearner()
    assert told("anna went aboard", "berit went aboard", learner=learner) == ["anna went aboard", "berit went aboard"]
    told("carl went aboard", learner=learner)
    assert {t.root().text for t in learner.by_id.values()} == {"… went aboard"}
    root = next(t.root() for t in learner.by_id.values())
    assert learner.family(root.id) == {1, 2, 3}
    assert root.first_seen == 0


def test_what_was_said_often_in_the_same_words_says_them_on_purpose() -> None:
    learner = PatternLearner()
    told(*["tide table read from north"] * 60, learner=learner)
    told("tide table read from south", learner=learner)
    assert {t.root().text for t in learner.by_id.values()} == {
        "tide table read from north",
        "tide table read from south",
    }
    told("tide table read from west", learner=learner)
    assert {t.root().text for t in learner.by_id.values()} == {"tide table read from …"}


def test_sources_and_severities_are_apart() -> None:
    learner = PatternLearner()
    lines = [(0, "h", 6, "a", "it went", None), (0, "h", 6, "b", "it went", None), (0, "h", 3, "a", "it went", None)]
    assert len(set(learner.of(lines))) == 3


def test_what_is_known_is_known_again_after_a_restart() -> None:
    first = PatternLearner()
    ids = first.of([(i, "h", 6, "web", f"user {name} refused", None) for i, name in enumerate(("anna", "berit"))])
    again = PatternLearner(list(first.by_id.values()))
    assert again.of([(9, "h", 6, "web", "user carl refused", None)]) == ids[:1]
    assert not again.changed


def test_a_source_that_never_says_the_same_takes_no_room_from_others() -> None:
    learner = PatternLearner()
    rng = random.Random(3)
    words = ["".join(rng.choices("abcdefghijklmnop", k=5)) for _ in range(300)]
    noise = [(i, "loud", 6, "noise", " ".join(rng.choices(words, k=3 + i % 9)), None) for i in range(20_000)]
    ids = learner.of(noise)
    assert len(learner.by_id) <= MOST_OF_SOURCE + 100
    assert OTHERS in ids
    assert learner.of([(0, "quiet", 6, "gate", "ramp down", None)]) != [OTHERS]


@given(st.lists(st.text(alphabet="ab1…='\" \n\u2028é", max_size=30), max_size=30))
def test_any_lines_can_be_read_and_one_twice_is_one(bodies: list[str]) -> None:
    learner = PatternLearner()
    twice = [(0, "h", 6, "s", body, None) for body in bodies for _ in range(2)]
    ids = [learner.by_id[i].root().id for i in learner.of(twice)]
    assert ids[::2] == ids[1::2]


def test_patterns_of_which_nothing_is_kept_are_forgotten() -> None:
    learner = PatternLearner()
    told("ramp down", "bell rang", learner=learner)
    learner.changed.clear()
    learner.forget({1})
    assert [t.text for t in learner.by_id.values()] == ["bell rang"]
    told("ramp down", learner=learner)
    assert len(learner.by_id) == 2
