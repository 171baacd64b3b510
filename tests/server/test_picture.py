"""Charts as pictures: their size, their lines, and whatever is written on them."""

from __future__ import annotations

import io
import math

import matplotlib.image
import numpy as np
import pytest
from numpy.typing import NDArray

from balise.api.metrics import MetricAnswer, SeriesAnswer
from balise.server.metrics.picture import CRITICAL, PAPER, SERIES, Bound, Mark, drawn


def answer(*lines: list[float | None], names: list[str] | None = None) -> MetricAnswer:
    series = [
        SeriesAnswer(attributes={"host": (names or ["a", "b", "c"] * 9)[i]}, values=values)
        for i, values in enumerate(lines)
    ]
    times = [1_800_000_000.0 + i * 60 for i in range(len(lines[0]) if lines else 1)]
    return MetricAnswer(metric="tide", unit="1", step_seconds=60, times=times, series=series, tier="raw")


def colours(picture: bytes) -> NDArray[np.uint8]:
    image = matplotlib.image.imread(io.BytesIO(picture))
    return (image[..., :3] * 255).round().astype(np.uint8)


def dots_of(image: NDArray[np.uint8], colour: str) -> int:
    wanted = np.array([int(colour[i : i + 2], 16) for i in (1, 3, 5)])
    return int((np.abs(image.astype(int) - wanted).max(axis=2) <= 6).sum())


def wave(phase: float) -> list[float | None]:
    return [0.5 + 0.4 * math.sin(i / 9 + phase) for i in range(120)]


def test_a_picture_has_its_size_a_line_for_each_series_and_its_limit() -> None:
    image = colours(
        drawn(answer(wave(0), wave(1)), "tide", bounds=[Bound(0.8, "critical 80 %", CRITICAL)], width=900, height=360)
    )
    assert image.shape[:2] == (360, 900)
    assert all(dots_of(image, colour) > 200 for colour in (SERIES[0], SERIES[1], CRITICAL, PAPER))
    assert dots_of(image, SERIES[2]) == 0


def test_what_is_missing_is_no_line_and_a_lone_point_is_a_dot() -> None:
    whole = dots_of(colours(drawn(answer(wave(0)), "tide")), SERIES[0])
    half = dots_of(colours(drawn(answer([v if i < 40 else None for i, v in enumerate(wave(0))]), "tide")), SERIES[0])
    lone = dots_of(colours(drawn(answer([0.2 if i == 60 else None for i in range(120)]), "tide")), SERIES[0])
    assert half < whole * 0.8 and 5 < lone < 200


@pytest.mark.parametrize("text", ["$x^{", "$$", "\\frac{1}", "a\nb", "<b>", "æøå €", "", "x" * 5000])
def test_whatever_is_written_is_drawn_as_it_is(text: str) -> None:
    marks = [Mark(1_800_000_060.0, text)]
    picture = drawn(answer(wave(0), wave(1), names=[text, "b"]), text, bounds=[Bound(0.5, text, CRITICAL)], marks=marks)
    assert picture.startswith(b"\x89PNG")


def test_many_lines_and_none_are_drawn() -> None:
    assert drawn(answer(*(wave(i) for i in range(20))), "many").startswith(b"\x89PNG")
    assert drawn(answer(), "none").startswith(b"\x89PNG")
