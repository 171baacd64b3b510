"""`make bench`: every figure of the budgets, side by side in one run. A bench is no test: it never fails."""

from __future__ import annotations

import argparse
import os
import platform
import time

import psutil

import asking
import collecting
import console
import enrolling
import events
import incidents
import intake
import keeping
import moonshot
import rules
import scale
import standing
import trail
from report import Report

PARTS = {
    "intake": intake,
    "keeping": keeping,
    "rules": rules,
    "incidents": incidents,
    "events": events,
    "asking": asking,
    "console": console,
    "trail": trail,
    "standing": standing,
    "scale": scale,
    "enrolling": enrolling,
    "collecting": collecting,
    "moonshot": moonshot,
}


def pace() -> float:
    """Seconds for a loop of Python: on a machine that others share, what all absolute figures move with."""
    began = time.perf_counter()
    total = 0
    for step in range(5_000_000):
        total += step
    return time.perf_counter() - began


def taken_away() -> float:
    """Seconds in which others had the cores while this machine wanted them, since it was started."""
    return float(getattr(psutil.cpu_times(), "steal", 0.0))


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("parts", nargs="*", metavar="PART", help=f"of {', '.join(PARTS)} (all)")
    parser.add_argument("--quick", action="store_true", help="next to nothing of each, to see that the bench works")
    asked = parser.parse_args()
    if unknown := set(asked.parts) - set(PARTS):
        parser.error(f"no such part: {', '.join(sorted(unknown))}")
    print(
        f"Balise bench, {time.strftime('%Y-%m-%d %H:%M')}, Python {platform.python_version()}, {os.cpu_count()} cores"
    )
    print("Absolute figures are of this machine at this minute; the ratios are measured side by side.")
    report = Report(asked.quick)
    for name in asked.parts or PARTS:
        print(f"\nThe machine's pace before {name}: {pace():.2f} s for a loop that takes 0.43 s when it is left alone")
        began, before = time.monotonic(), taken_away()
        PARTS[name].run(report)
        share = (taken_away() - before) / (time.monotonic() - began)
        print(f"  taken away from this machine meanwhile: {share:.2f} of its {os.cpu_count()} cores, on average")
    print(
        f"\n{report.held} budgets held, {len(report.missed)} missed"
        + (": " + "; ".join(report.missed) if report.missed else "")
    )


if __name__ == "__main__":
    main()
