"""What axe says of a page."""

from __future__ import annotations

from pathlib import Path

from playwright.sync_api import Page

AXE = Path(__file__).parents[1] / "console" / "node_modules" / "axe-core" / "axe.min.js"


def axe(page: Page) -> list[str]:
    """What axe finds wrong: WCAG 2.2 A and AA, and its best practices."""
    page.evaluate("() => {" + AXE.read_text() + "}")
    found = page.evaluate(
        "axe.run({runOnly: ['wcag2a', 'wcag2aa', 'wcag21a', 'wcag21aa', 'wcag22aa', 'best-practice']})"
    )
    return [
        f"{v['id']}: {v['nodes'][0]['html'][:160]} {v['nodes'][0]['failureSummary'][:200]}" for v in found["violations"]
    ]
