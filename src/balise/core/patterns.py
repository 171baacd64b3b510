"""What a log says, line by line, without its numbers: lines of one pattern are counted together."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass

_VARYING = re.compile(
    r"""\b[0-9a-fA-F]{8}-[0-9a-fA-F-]{27}\b      # a UUID
    |\b\d{1,3}(?:\.\d{1,3}){3}(?::\d+)?\b        # an address
    |\b0x[0-9a-fA-F]+\b
    |\b(?=[0-9a-f]*\d)[0-9a-f]{8,}\b             # a digest
    |\d+(?:[.,:]\d+)*
    |"[^"]{1,200}"|'[^']{1,200}'
    """,
    re.VERBOSE,
)
MAX_PATTERN = 160


def pattern_of(body: str) -> str:
    """`pattern_of("process 15926 waits 200.1 ms") == "process … waits … ms"`."""
    text = _VARYING.sub("…", body[: 2 * MAX_PATTERN])
    text = " ".join(text.split())
    return text[:MAX_PATTERN]


@dataclass(frozen=True)
class Counted:
    pattern: str
    severity: str
    source: str
    count: int
    example: str


def count_patterns(lines: Iterable[tuple[str, str, str]], limit: int) -> list[Counted]:
    """The `limit` most frequent patterns of `(severity, source, body)` lines, most frequent first."""
    counts: Counter[tuple[str, str, str]] = Counter()
    examples: dict[tuple[str, str, str], str] = {}
    for severity, source, body in lines:
        key = (pattern_of(body), severity, source)
        counts[key] += 1
        examples.setdefault(key, body)
    return [Counted(key[0], key[1], key[2], n, examples[key]) for key, n in counts.most_common(limit)]
