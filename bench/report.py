"""Printing figures beside their budgets."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import TypeVar

N = TypeVar("N", int, float, str)


@dataclass
class Report:
    """Collects lines; `held` and `missed` count the budgets. A quick one shows that the bench works, not how fast."""

    quick: bool = False
    held: int = 0
    missed: list[str] = field(default_factory=list)

    def size(self, whole: N, quick: N) -> N:
        """How much is measured: the whole, or next to nothing when the run is quick."""
        return quick if self.quick else whole

    def title(self, text: str) -> None:
        print(f"\n{text}", flush=True)

    def figure(self, name: str, text: str) -> None:
        print(f"  {name:<58} {text}", flush=True)

    def budget(self, name: str, value: float, limit: float, *, most: bool, form: str = "{:.3g}") -> None:
        """A value that must be at least `limit`, or at most when `most`."""
        good = value <= limit if most else value >= limit
        word = "held" if good else "MISSED"
        sign = "≤" if most else "≥"
        print(f"  {name:<58} {form.format(value):>12}   budget {sign} {form.format(limit):<10} {word}", flush=True)
        if good:
            self.held += 1
        else:
            self.missed.append(name)


def best(what: Callable[[], object], times: int = 5) -> float:
    """Seconds of the fastest of several runs: the machine's noise only ever adds."""
    found = []
    for _ in range(times):
        began = time.perf_counter()
        what()
        found.append(time.perf_counter() - began)
    return min(found)
