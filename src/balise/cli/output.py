"""Printing answers: as a table for people, as JSON as it came, or as CSV."""

from __future__ import annotations

import csv
import json
import os
import shutil
import sys
from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from typing import Any, TextIO

from balise.core.cells import safe_cell

Column = tuple[str, Callable[[Any], Any]]
"""A heading and how to get the cell out of one item."""

_COLOURS = {"critical": "31", "warning": "33", "silent": "90", "ok": "32", "paused": "34", "error": "31", "alert": "31"}


def show(
    answer: Any, columns: Sequence[Column], form: str, *, out: TextIO | None = None, empty: str = "Nothing found."
) -> None:
    """Prints a list answer. JSON is the API's answer as it is."""
    out = out or sys.stdout
    if form == "json":
        out.write(json.dumps(answer, indent=2, ensure_ascii=False) + "\n")
        return
    rows = [[text_of(get(item)) for _, get in columns] for item in answer["items"]]
    headings = [name for name, _ in columns]
    if form == "csv":
        writer = csv.writer(out)
        writer.writerow(headings)
        writer.writerows([[safe_cell(cell) for cell in row] for row in rows])
        return
    if not rows:
        out.write(empty + "\n")
        return
    print_table(headings, rows, out)


def print_table(headings: Sequence[str], rows: Sequence[Sequence[str]], out: TextIO) -> None:
    """Columns as wide as they need, numbers to the right, states in colour on a terminal."""
    rows = [[printable(cell) for cell in row] for row in rows]
    widths = [max(len(h), *(len(r[i]) for r in rows)) for i, h in enumerate(headings)]
    if out.isatty():
        widths = fitting(widths, [len(h) for h in headings], shutil.get_terminal_size().columns)
        rows = [[_cut(c, w) for c, w in zip(row, widths, strict=True)] for row in rows]
    right = [all(_is_number(r[i]) for r in rows if r[i]) and any(r[i] for r in rows) for i in range(len(headings))]
    colour = out.isatty() and "NO_COLOR" not in os.environ
    line = "  ".join(
        h.rjust(w) if to_right else h.ljust(w) for h, w, to_right in zip(headings, widths, right, strict=True)
    )
    out.write((f"\x1b[1m{line.rstrip()}\x1b[0m" if colour else line.rstrip()) + "\n")
    for row in rows:
        cells = [c.rjust(w) if to_right else c.ljust(w) for c, w, to_right in zip(row, widths, right, strict=True)]
        if colour:
            cells = [f"\x1b[{_COLOURS[c.strip()]}m{c}\x1b[0m" if c.strip() in _COLOURS else c for c in cells]
        out.write("  ".join(cells).rstrip() + "\n")


def fitting(widths: Sequence[int], least: Sequence[int], room: int) -> list[int]:
    """Widths that fit a terminal: the widest column gives way first, none below its heading."""
    fitted = list(widths)
    while sum(fitted) + 2 * (len(fitted) - 1) > room:
        widest = max(range(len(fitted)), key=lambda i: fitted[i] - least[i])
        if fitted[widest] <= max(least[widest], 8):
            break
        fitted[widest] -= 1
    return fitted


def _cut(text: str, width: int) -> str:
    return text if len(text) <= width else text[: width - 1] + "…"


def printable(text: str) -> str:
    """Text of others without what would move the cursor or change the terminal."""
    return "".join(c if c.isprintable() else "·" for c in text)


def _is_number(text: str) -> bool:
    try:
        float(text.split(" ", maxsplit=1)[0].rstrip("%"))
    except ValueError:
        return False
    return True


def text_of(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return f"{value:.6g}"
    if isinstance(value, list):
        return ", ".join(str(v) for v in value)
    if isinstance(value, dict):
        return " ".join(f"{k}={v}" for k, v in value.items())
    return str(value)


def local_time(text: str | None) -> str:
    """An RFC 3339 time as the clock on the wall here, with its date when it is not today."""
    if not text:
        return ""
    moment = datetime.fromisoformat(text).astimezone()
    today = datetime.now(UTC).astimezone().date()
    return moment.strftime("%H:%M:%S" if moment.date() == today else "%Y-%m-%d %H:%M:%S")


def ago(text: str | None) -> str:
    """How long ago, in the two largest units."""
    if not text:
        return "never"
    gone = max(0.0, (datetime.now(UTC) - datetime.fromisoformat(text)).total_seconds())
    for size, unit, small, smaller in ((86400, "d", 3600, "h"), (3600, "h", 60, "min"), (60, "min", 1, "s")):
        if gone >= size:
            return f"{int(gone // size)} {unit} {int(gone % size // small)} {smaller}"
    return f"{gone:.0f} s"
