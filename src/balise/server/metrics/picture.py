"""A chart as a picture: for mail, reports, and whoever cannot open a page."""

from __future__ import annotations

import io
import threading
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, tzinfo
from typing import Any

from balise.api.metrics import MetricAnswer
from balise.core.quantities import in_words

DOTS = 160
"""Dots an inch: what is written stays the same size on a sheet of any width."""
MOST_LINES = 8
SERIES = ("#0b6e8f", "#c2682a", "#5b7f2b", "#8a4fa3")
DASHES: tuple[Any, ...] = ("solid", (0, (5, 2)))
INK, QUIET, WARNING, CRITICAL, PAPER = "#12222b", "#4a5c66", "#a86b00", "#bf2a1e", "#fbfcfc"
_LOCK = threading.Lock()
"""One picture at a time: the library keeps what it learnt of fonts for all."""


@dataclass(frozen=True)
class Bound:
    """A line across the chart at a value, with what it is."""

    value: float
    words: str
    colour: str


@dataclass(frozen=True)
class Mark:
    """A moment, unix seconds, with what happened."""

    at: float
    words: str


def drawn(
    answer: MetricAnswer,
    title: str,
    *,
    bounds: Sequence[Bound] = (),
    marks: Sequence[Mark] = (),
    width: int = 1184,
    height: int = 480,
    zone: tzinfo = UTC,
) -> bytes:
    """A PNG of so many dots; times by the clock of a zone. The library is loaded when the first one is drawn: it is
    large."""
    from matplotlib.backends.backend_agg import FigureCanvasAgg
    from matplotlib.figure import Figure

    with _LOCK:
        figure = Figure(figsize=(width / DOTS, height / DOTS), dpi=DOTS, facecolor=PAPER)
        named = [_name(one.attributes) for one in answer.series[:MOST_LINES]]
        # Margins that are known beforehand: to find the best takes as long as the picture.
        inch, right = DOTS / width, 0.985 - (min(max(map(len, named), default=0), 26) * 0.062 * DOTS / width)
        figure.subplots_adjust(
            left=0.85 * inch, right=right if len(named) > 1 else 0.985, top=1 - 48 / height, bottom=62 / height
        )
        axes: Any = figure.add_subplot(facecolor=PAPER)
        _draw_lines(axes, answer, named, zone)
        for bound in bounds:
            axes.axhline(bound.value, color=bound.colour, linewidth=1.2, linestyle=(0, (5, 3)))
            where: dict[str, Any] = {"xy": (0.01, bound.value), "xycoords": ("axes fraction", "data")}
            axes.annotate(_plain(bound.words), **where, ha="left", va="bottom", color=bound.colour, fontsize=8)
        for mark in marks:
            at = datetime.fromtimestamp(mark.at, zone)
            axes.axvline(at, color=QUIET, linewidth=1.0)
            where = {"xy": (at, 1.0), "xycoords": ("data", "axes fraction")}
            axes.annotate(f" {_plain(mark.words)}", **where, va="top", color=QUIET, fontsize=8)
        _dress(axes, answer, title, zone)
        out = io.BytesIO()
        FigureCanvasAgg(figure).print_png(out)  # type: ignore[no-untyped-call]
        return out.getvalue()


def _draw_lines(axes: Any, answer: MetricAnswer, named: Sequence[str], zone: tzinfo) -> None:
    times = [datetime.fromtimestamp(at, zone) for at in answer.times]
    ends: list[tuple[float, str, str]] = []
    for number, one in enumerate(answer.series[:MOST_LINES]):
        colour = SERIES[number % len(SERIES)]
        values = [float("nan") if v is None else v for v in one.values]
        # A point with nothing on either side is no line: it is a dot.
        lone = [
            v is not None and all(w is None for w in (*one.values[max(0, i - 1) : i], *one.values[i + 1 : i + 2]))
            for i, v in enumerate(one.values)
        ]
        style = DASHES[number // len(SERIES) % len(DASHES)]
        axes.plot(times, values, color=colour, linewidth=1.6, linestyle=style)
        if any(lone):
            dots = [(t, v) for t, v, alone in zip(times, values, lone, strict=True) if alone]
            axes.plot(*zip(*dots, strict=True), ".", color=colour, markersize=4)
        known = [v for v in one.values if v is not None]
        if known and len(named) > 1:
            ends.append((known[-1], named[number], colour))
    _name_lines(axes, ends)
    left = len(answer.series) + answer.left_out - MOST_LINES
    if left > 0:
        axes.annotate(f"and {left:,} more", (1.0, -0.02), xycoords="axes fraction", ha="right", va="top", color=QUIET,
                      fontsize=7)  # fmt: skip


def _name_lines(axes: Any, ends: Sequence[tuple[float, str, str]]) -> None:
    """Names at the right, each as near to the end of its line as the others let it."""
    if not ends:
        return
    low, high = axes.get_ylim()
    place = -1.0
    for value, name, colour in sorted(ends):
        place = max((value - low) / (high - low) if high > low else 0.5, place + 0.075)
        text = name if len(name) <= 26 else name[:25] + "…"
        axes.annotate(_plain(text), (1.008, place), xycoords="axes fraction", va="center", color=colour, fontsize=7.5)


def _dress(axes: Any, answer: MetricAnswer, title: str, zone: tzinfo) -> None:
    from matplotlib.dates import ConciseDateFormatter
    from matplotlib.ticker import FuncFormatter

    axes.set_title(_plain(title[:140]), loc="left", fontsize=10, color=INK)
    axes.yaxis.set_major_formatter(FuncFormatter(lambda v, _at: in_words(float(v), answer.unit)))
    axes.xaxis.set_major_formatter(ConciseDateFormatter(axes.xaxis.get_major_locator(), tz=zone))  # type: ignore[no-untyped-call]
    axes.tick_params(colors=QUIET, labelsize=8)
    axes.margins(x=0, y=0.15)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    for side in ("left", "bottom"):
        axes.spines[side].set_color("#d8e0e3")
    if not answer.series:
        axes.annotate("nothing was heard in this span", (0.5, 0.5), xycoords="axes fraction", ha="center",
                      color=QUIET, fontsize=10)  # fmt: skip


def _name(attributes: dict[str, str]) -> str:
    return " ".join(value for value in attributes.values() if value)


def _plain(text: str) -> str:
    """Text as it is: the library would read what stands between dollar signs as a formula."""
    return text.replace("$", r"\$").replace("\n", " ")
