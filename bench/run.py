"""`make bench`: every figure of the budgets, side by side in one run. A bench is no test: it never fails.

python bench/run.py [intake] [keeping] [rules] [events] [console] [enrolling] [collecting]
"""

from __future__ import annotations

import os
import platform
import sys
import time

import collecting
import console
import enrolling
import events
import intake
import keeping
import rules
from report import Report

PARTS = {
    "intake": intake,
    "keeping": keeping,
    "rules": rules,
    "events": events,
    "console": console,
    "enrolling": enrolling,
    "collecting": collecting,
}


def main() -> None:
    wanted = sys.argv[1:] or list(PARTS)
    print(
        f"Balise bench, {time.strftime('%Y-%m-%d %H:%M')}, Python {platform.python_version()}, {os.cpu_count()} cores"
    )
    print("Absolute figures are of this machine at this minute; the ratios are measured side by side.")
    report = Report()
    for name in wanted:
        PARTS[name].run(report)
    print(
        f"\n{report.held} budgets held, {len(report.missed)} missed"
        + (": " + "; ".join(report.missed) if report.missed else "")
    )


if __name__ == "__main__":
    main()
