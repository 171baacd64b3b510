"""When what happens: the stories at work now, those of the past, and what only looks like one."""

from __future__ import annotations

import random

from balise.demo.quirks import QUIRKS
from balise.demo.stories import DAY, HOUR, MINUTE, Occurrence, Schedule
from balise.demo.tales import TALES

APART = 80 * MINUTE
"""Between two stories of the past, so that each can be told by itself."""
_EVERY = 6.5 * HOUR
"""How often, on the average, something happened in the past."""
_OFTEN = 3
"""How often each disturbance happened in the past."""
_PAST = (
    (0.8, "lost-gate", 23), (1.3, "tariff-import", 38), (2.6, "full-deck", 210), (4.1, "tariff-import", 27),
    (5.4, "full-deck", 210), (6.2, "tariff-import", 44), (9.7, "lost-gate", 71),
)  # fmt: skip
"""Days before the start, and minutes."""


def schedule_from(started: float, days: float, *, seed: int = 0) -> Schedule:
    """The stories at work when the demo starts, again every few hours, and in the past each of them now and then.

    Args:
        seed: which past; the same seed is the same past.
    """
    found = [
        Occurrence("tariff-import", started - 6 * MINUTE, started + 50 * MINUTE),
        Occurrence("full-deck", started - 130 * MINUTE, started + 80 * MINUTE),
        Occurrence("lost-gate", started + 65 * MINUTE, started + 90 * MINUTE),
    ]
    for story, every, first, minutes, count in (
        ("lost-gate", 8.0, 2.0, 25, 22), ("tariff-import", 4.0, 0.0, 40, 45), ("full-deck", 9.0, 0.0, 210, 20),
    ):  # fmt: skip
        starts = [started + (n * every + first) * HOUR for n in range(1, count)]
        found += [Occurrence(story, at, at + minutes * MINUTE) for at in starts]
    if seed == 0:
        starts_of = [(started - back * DAY, story, minutes) for back, story, minutes in _PAST if back < days]
        found += [Occurrence(story, at, at + minutes * MINUTE) for at, story, minutes in starts_of]
    _fill(found, started, days, random.Random(seed))
    chance = random.Random(seed + 1)
    for quirk in [name for name in QUIRKS for _ in range(_OFTEN)]:
        at = started - chance.uniform(0, max(days, 0.05)) * DAY
        found.append(Occurrence(quirk, at, at + chance.uniform(*QUIRKS[quirk].minutes) * MINUTE))
    return Schedule(found)


def _fill(found: list[Occurrence], started: float, days: float, chance: random.Random) -> None:
    """Stories in turn where nothing else happened, from the latest back."""
    turn: list[str] = []
    at = started - 8 * HOUR
    while at > started - days * DAY + HOUR:
        if not turn:
            turn = chance.sample(sorted(TALES), len(TALES))
        length = chance.uniform(*TALES[turn[-1]].minutes) * MINUTE
        free = all(at + length + APART < one.start or at - APART > one.end for one in found)
        # What is at work now shall not be the same again as yesterday.
        free = free and all(abs(at - one.start) > 1.2 * DAY for one in found if one.story == turn[-1])
        if free:
            found.append(Occurrence(turn.pop(), at, at + length))
            at -= chance.uniform(0.7, 1.3) * _EVERY
        else:
            turn.insert(0, turn.pop())
            at -= 20 * MINUTE
