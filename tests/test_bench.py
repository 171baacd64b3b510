"""Every part of the bench runs through with small sizes, so that none of it rots."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]
PARTS = (
    "intake",
    "keeping",
    "rules",
    "incidents",
    "events",
    "asking",
    "console",
    "trail",
    "standing",
    "scale",
    "enrolling",
    "collecting",
    "moonshot",
)


@pytest.mark.parametrize("part", PARTS)
def test_a_part_of_the_bench_runs_through(part: str) -> None:
    words = [sys.executable, str(ROOT / "bench" / "run.py"), "--quick", part]
    environment = {**os.environ, "PYTHONPATH": f"{ROOT / 'bench'}:{ROOT / 'tests'}"}
    done = subprocess.run(words, env=environment, check=False, capture_output=True, text=True, timeout=480)
    assert done.returncode == 0, done.stderr
    assert re.search(r"^\d+ budgets held, \d+ missed", done.stdout, re.M), done.stdout
    assert "nan" not in done.stdout


def test_there_is_no_part_that_is_not_run() -> None:
    said = subprocess.run(
        [sys.executable, str(ROOT / "bench" / "run.py"), "--help"],
        env={**os.environ, "PYTHONPATH": f"{ROOT / 'bench'}:{ROOT / 'tests'}"},
        check=True,
        capture_output=True,
        text=True,
        timeout=60,
    )
    assert f"of {', '.join(PARTS)} (all)" in " ".join(said.stdout.split())
