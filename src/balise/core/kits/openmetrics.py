"""Reading the OpenMetrics text format (and the older text format it grew from).

Source: OpenMetrics 1.0, section "Text format" (ABNF).
"""

from __future__ import annotations

import re
from typing import Any

MOST_SAMPLES = 5000
_NAME = r"[a-zA-Z_:][a-zA-Z0-9_:]*"
_LABEL = re.compile(r'\s*([a-zA-Z_][a-zA-Z0-9_]*)\s*=\s*"((?:[^"\\\n]|\\.)*)"\s*(,|$)')
_SAMPLE = re.compile(rf"({_NAME})(?:\{{((?:[^\"\}}]|\"(?:[^\"\\\n]|\\.)*\")*)\}})?[ \t]+(\S+)(?:[ \t]+(-?[0-9.eE+]+))?")
_ABOUT = re.compile(rf"#\s+(TYPE|UNIT|HELP)\s+({_NAME})\s*(.*)")
_ESCAPES = {"\\\\": "\\", '\\"': '"', "\\n": "\n"}
_ENDINGS = ("_total", "_sum", "_count", "_bucket", "_created", "_info")


class OpenMetricsError(ValueError):
    """A text that is none of the format; says which line."""


def samples(text: str) -> list[dict[str, Any]]:
    """The samples of an exposition, as rows `name`, `labels`, `value`, `kind`, `unit`, `about`.

    `kind` is `counter` for what only grows (counters, and the sums, counts and buckets of histograms), else `gauge`.

    Raises:
        OpenMetricsError: a line is neither comment nor sample, or there are more samples than are read at once.
    """
    kinds: dict[str, str] = {}
    units: dict[str, str] = {}
    abouts: dict[str, str] = {}
    into = {"TYPE": kinds, "UNIT": units, "HELP": abouts}
    rows: list[dict[str, Any]] = []
    for number, line in enumerate(text.splitlines(), 1):
        line = line.strip()
        if line.startswith("#"):
            about = _ABOUT.match(line)
            if about:
                into[about[1]][about[2]] = _unescaped(about[3])[:300]
            continue
        if not line:
            continue
        match = _SAMPLE.match(line)
        if match is None:
            raise OpenMetricsError(f"line {number} is no sample of the OpenMetrics text format: {line[:80]!r}")
        if len(rows) >= MOST_SAMPLES:
            raise OpenMetricsError(f"more than {MOST_SAMPLES} samples: ask the endpoint for fewer")
        family = _family(match[1], kinds)
        kind = kinds.get(family, "unknown")
        rows.append(
            {
                "name": match[1],
                "labels": _labels(match[2] or "", number),
                "value": _value(match[3], number),
                "kind": _kind(match[1], kind),
                "unit": units.get(family, ""),
                "about": abouts.get(family, ""),
            }
        )
    return [row for row in rows if not row["name"].endswith("_created")]


def _family(name: str, kinds: dict[str, str]) -> str:
    if name in kinds:
        return name
    return next((name.removesuffix(end) for end in _ENDINGS if name.removesuffix(end) in kinds), name)


def _kind(name: str, kind: str) -> str:
    grows = kind == "counter" or (kind in ("histogram", "summary") and name.endswith(("_sum", "_count", "_bucket")))
    return "counter" if grows else "gauge"


def _labels(text: str, number: int) -> dict[str, str]:
    found: dict[str, str] = {}
    at = 0
    while text[at:].strip():
        match = _LABEL.match(text, at)
        if match is None:
            raise OpenMetricsError(f"line {number} has labels that cannot be read: {text[:80]!r}")
        found[match[1]] = _unescaped(match[2])
        at = match.end()
    return found


def _unescaped(text: str) -> str:
    return re.sub(r"\\\\|\\\"|\\n", lambda m: _ESCAPES[m[0]], text)


def _value(text: str, number: int) -> float:
    try:
        return float(text)
    except ValueError:
        raise OpenMetricsError(f"line {number} has no number but {text[:40]!r}") from None
