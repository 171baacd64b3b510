"""A chart in the terminal, drawn with the dots of Braille characters: two across and four down in each."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import datetime

from balise.core.quantities import in_words

ACROSS, DOWN = 2, 4
_DOTS = ((0x01, 0x08), (0x02, 0x10), (0x04, 0x20), (0x40, 0x80))
COLOURS = (36, 33, 32, 35, 34, 31)
"""Of the lines, one after the other; 31 to 36 are a terminal's red, green, yellow, blue, magenta, cyan (ECMA-48)."""


def drawn(
    times: Sequence[float], lines: Sequence[Sequence[float | None]], unit: str, *, width: int, height: int, colour: bool
) -> list[str]:
    """Rows of text: the lines over one axis, their scale on the left, times below.

    Args:
        times: unix seconds [steps].
        lines: values [lines][steps], None where there is nothing, which is left empty.
    """
    known = [v for line in lines for v in line if v is not None]
    if not known:
        return ["nothing was heard in this span"]
    low, high = min(known), max(known)
    if low == high:
        low, high = (low - 1, high + 1) if not low else (min(low, 0.0), max(high, 0.0))
    marks = [in_words(high - (high - low) * row / (height - 1), unit) for row in range(height)]
    margin = max(map(len, marks))
    room = max(10, width - margin - 2)
    cells = _cells(lines, low, high, room, height)
    rows = []
    for number, row in enumerate(cells):
        mark = marks[number] if number % max(1, height // 4) == 0 or number == height - 1 else ""
        body = "".join(_painted(dots, of, colour=colour) for dots, of in row).rstrip()
        rows.append(f"{mark:>{margin}} │{body}")
    return [*rows, " " * margin + " └" + "─" * room, " " * (margin + 2) + _below(times, room)]


def _cells(
    lines: Sequence[Sequence[float | None]], low: float, high: float, room: int, height: int
) -> list[list[tuple[int, int]]]:
    """Of each cell its dots, and the line that they are of: the last that comes there."""
    cells = [[(0, -1)] * room for _ in range(height)]

    def dot(x: int, y: int, of: int) -> None:
        row, column = y // DOWN, x // ACROSS
        dots, _ = cells[row][column]
        cells[row][column] = (dots | _DOTS[y % DOWN][x % ACROSS], of)

    for of, line in enumerate(lines):
        before: tuple[int, int] | None = None
        for place, value in enumerate(line):
            if value is None:
                before = None
                continue
            x = round(place * (room * ACROSS - 1) / max(1, len(line) - 1))
            y = round((high - value) / (high - low) * (height * DOWN - 1))
            for at_x, at_y in _between(before or (x, y), (x, y)):
                dot(at_x, at_y, of)
            before = (x, y)
    return cells


def _between(one: tuple[int, int], other: tuple[int, int]) -> list[tuple[int, int]]:
    """The dots of a straight line."""
    count = max(abs(other[0] - one[0]), abs(other[1] - one[1]), 1)
    return [
        (round(one[0] + (other[0] - one[0]) * i / count), round(one[1] + (other[1] - one[1]) * i / count))
        for i in range(count + 1)
    ]


def _painted(dots: int, of: int, *, colour: bool) -> str:
    text = chr(0x2800 + dots) if dots else " "
    return f"\x1b[{COLOURS[of % len(COLOURS)]}m{text}\x1b[0m" if colour and dots else text


def _below(times: Sequence[float], room: int) -> str:
    """The first, the middle and the last time, with dates when the span is longer than a day."""
    form = "%d %b %H:%M" if times[-1] - times[0] > 86_400 else "%H:%M"
    first, middle, last = (
        datetime.fromtimestamp(at).astimezone().strftime(form) for at in (times[0], times[len(times) // 2], times[-1])
    )
    left = (room - len(middle)) // 2
    return f"{first:<{left}}{middle}{last:>{room - left - len(middle)}}"
