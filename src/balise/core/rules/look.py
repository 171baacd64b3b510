"""What is known of all groups of a rule at a moment."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

F64 = NDArray[np.float64]


class Usual(NamedTuple):
    """What is usual at this hour of the week, and a robust deviation from it [groups]; NaN where not known yet."""

    middle: F64
    spread: F64

    def part(self, rows: slice) -> Usual:
        return Usual(self.middle[rows], self.spread[rows])


class Course(NamedTuple):
    """Where groups stand on their trends now, and by how much they change a second [groups]; NaN without a trend."""

    level: F64
    slope: F64

    def part(self, rows: slice) -> Course:
        return Course(self.level[rows], self.slope[rows])


@dataclass(frozen=True)
class Look:
    """Arrays are [groups], NaN where nothing is known.

    `quiet` is how many seconds ago a group was heard, `fresh` how many seconds ago for the first time (infinite when
    that was before anybody looked); `courses` belong to warning and critical, which look ahead differently far.
    """

    values: F64
    usual: Usual | None = None
    courses: tuple[Course | None, Course | None] = (None, None)
    quiet: F64 | None = None
    fresh: F64 | None = None

    def part(self, rows: slice) -> Look:
        """Of some of the groups."""
        return Look(
            self.values[rows],
            None if self.usual is None else self.usual.part(rows),
            (_part(self.courses[0], rows), _part(self.courses[1], rows)),
            None if self.quiet is None else self.quiet[rows],
            None if self.fresh is None else self.fresh[rows],
        )


def _part(course: Course | None, rows: slice) -> Course | None:
    return None if course is None else course.part(rows)
