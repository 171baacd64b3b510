"""What docs/inside.md says of where things are."""

from __future__ import annotations

import re
from pathlib import Path

ROOT = Path(__file__).parents[1]
INSIDE = (ROOT / "docs" / "inside.md").read_text("utf-8")


def test_every_place_in_the_table_of_rooms_is_there() -> None:
    table = INSIDE[INSIDE.index("| to change |") : INSIDE.index("## How a point travels")]
    places = re.findall(r"`([a-z]+/[\w./]*)`", table)
    named = [p for p in places if "NOUN" not in p]
    assert len(named) > 40
    missing = [p for p in named if not any((ROOT / base / p).exists() for base in ("src/balise", "."))]
    assert missing == []


def test_the_pictures_name_what_is_in_the_code() -> None:
    pictures = INSIDE[INSIDE.index("## How a point travels") : INSIDE.index("## Metrics")]
    named = set(re.findall(r"\b((?:[a-z]+/)*[a-z]+\.py)\b", pictures))
    every = {str(path.relative_to(ROOT / "src" / "balise")) for path in (ROOT / "src" / "balise").rglob("*.py")}
    assert len(named) > 12
    assert [name for name in named if not any(path.endswith(name) for path in every)] == []
    for word in ("MetricIntake", "LogIntake", "arrived", "seal_due", "compact", "keep_days"):
        assert any(word in path.read_text("utf-8") for path in (ROOT / "src" / "balise").rglob("*.py"))
