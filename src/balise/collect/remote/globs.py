"""Which files a pattern names on a host that is reached over SSH."""

from __future__ import annotations

import re
import shlex

from balise.collect.paths import WILD

MOST_LISTED, MOST_NAMED = 5000, 200


def find_command(pattern: str) -> str:
    """What lists the files that may be named by a pattern."""
    fixed = pattern[: min(pattern.index(sign) for sign in WILD if sign in pattern)].rpartition("/")[0]
    depth = "" if "**" in pattern else f"-maxdepth {pattern.count('/') - fixed.count('/')} "
    return f"find {shlex.quote(fixed or '/')} {depth}-type f | head -n {MOST_LISTED}"


def named(pattern: str, listing: str) -> list[str]:
    """Those of the listed paths that a pattern names: `**/` any folders, `*` and `?` within one name."""
    parts = []
    for piece in re.split(r"(\*\*/|\*\*|\*|\?|\[[^\]/]+\])", pattern):
        if piece == "**/":
            parts.append("(?:.*/)?")
        elif piece in ("**", "*"):
            parts.append(".*" if piece == "**" else "[^/]*")
        elif piece == "?":
            parts.append("[^/]")
        elif piece.startswith("[") and piece.endswith("]"):
            inside = piece[1:-1].replace("\\", r"\\")
            parts.append(f"[{'^' + inside[1:] if inside.startswith('!') else inside}]")
        else:
            parts.append(re.escape(piece))
    try:
        wanted = re.compile("".join(parts))
    except re.error:
        return []
    return sorted(path for path in listing.splitlines() if wanted.fullmatch(path))[:MOST_NAMED]
