"""Cells of tables that other programs open."""

from __future__ import annotations

import re

_PLAIN_NUMBER = re.compile(r"[-+]?\d+(?:[.,]\d+)*(?:e[-+]?\d+)?(?: ?[A-Za-zµ°%/]{1,12})?", re.IGNORECASE)


def safe_cell(text: str) -> str:
    """A CSV cell that no spreadsheet takes for a formula, and no terminal for a command."""
    text = "".join(c if c.isprintable() or c in "\n\t" else "·" for c in text)
    begins = text.lstrip()[:1] in ("=", "+", "-", "@", "|", "%") or text[:1] in ("\n", "\t")
    return "'" + text if begins and not _PLAIN_NUMBER.fullmatch(text) else text
