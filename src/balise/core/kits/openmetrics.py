"""Reading the OpenMetrics text format (and the older text format it grew from).

Source: OpenMetrics 1.0, section "Text format" (ABNF).
"""

from __future__ import annotations

import re
from typing import Any

MOST_SAMPLES = 5000
_NAME = r"[a-zA-Z_:][a-zA-Z0-9_:]*"
_LABEL = re.compile(r'\s*([a-zA-Z_][a-zA-Z0-9_]*)\s*=\s*"((?:[^"\\\n]|\\.)*)"\s*(,|$)')
_SAMPLE = re.compile(
    rf"({_NAME})(?:\{{((?:[^\"\}}]|\"(?:[^\"\\\n]|\\.)*\")*)\}})?[ \t]+(\S+)(?:[ \t]+(-?[0-9.eE+-]+))?"
    r"(?:[ \t]+# \{.*)?[ \t]*"
)
"""A line: name, labels, value, a time, and an exemplar, which is left out."""
_ABOUT = re.compile(rf"#\s+(TYPE|UNIT|HELP)\s+({_NAME})\s*(.*)")
_REAL = re.compile(r"[-+]?(?:\d+\.?\d*(?:[eE][-+]?\d+)?|\.\d+(?:[eE][-+]?\d+)?|[iI]nf(?:inity)?)|[nN]a[nN]", re.ASCII)
_ESCAPES = {"\\\\": "\\", '\\"': '"', "\\n": "\n"}
_ENDINGS = ("_total", "_sum", "_count", "_bucket", "_created", "_info")
_EOF = "# EOF"


class OpenMetricsError(ValueError):
    """A text that is none of the format; says which line."""


def samples(text: str, *, whole: bool = False) -> list[dict[str, Any]]:
    """The samples of an exposition, as rows `name`, `labels`, `value`, `kind`, `unit`, `about`.

    `kind` is `counter` for what only grows (counters, and the sums, counts and buckets of histograms), else `gauge`.

    Args:
        whole: the answer says that it is OpenMetrics: then it ends with `# EOF`, or was cut. The older format has
            no end.

    Raises:
        OpenMetricsError: a line is neither comment nor sample, a sample or a label comes twice, something follows the
            end or it is missing, or there are more samples than are read at once.
    """
    kinds: dict[str, str] = {}
    units: dict[str, str] = {}
    abouts: dict[str, str] = {}
    into = {"TYPE": kinds, "UNIT": units, "HELP": abouts}
    rows: list[dict[str, Any]] = []
    seen: set[tuple[str, frozenset[tuple[str, str]], str]] = set()
    ended = False
    # Only a line feed ends a line: what else looks like an end may stand in a label.
    for number, line in enumerate(text.split("\n"), 1):
        line = line.removesuffix("\r")
        if ended and line:
            raise OpenMetricsError(f"line {number} follows # EOF, which is the end: {line[:80]!r}")
        if line == _EOF:
            ended = True
            continue
        if line.startswith("#"):
            about = _ABOUT.match(line)
            if about:
                into[about[1]][about[2]] = _unescaped(about[3])[:300].strip()
            continue
        if not line.strip(" \t"):
            continue
        row, at = _sample(line, number)
        key = (row["name"], frozenset(row["labels"].items()), at)
        if key in seen:
            raise OpenMetricsError(f"line {number} repeats a sample: {line[:80]!r}")
        seen.add(key)
        if len(rows) >= MOST_SAMPLES:
            raise OpenMetricsError(f"more than {MOST_SAMPLES} samples: ask the endpoint for fewer")
        family = _family(row["name"], kinds)
        kind = kinds.get(family, "unknown")
        row |= {"kind": _kind(row["name"], kind), "unit": units.get(family, ""), "about": abouts.get(family, "")}
        if not _says_when_made(row["name"], family, kind):
            rows.append(row)
    if whole and not ended:
        raise OpenMetricsError("the text does not end with # EOF: it was cut, and is not believed")
    return rows


def _sample(line: str, number: int) -> tuple[dict[str, Any], str]:
    """One line's name, labels and value, and its time as it is written."""
    match = _SAMPLE.fullmatch(line.strip(" \t"))
    if match is None:
        raise OpenMetricsError(f"line {number} is no sample of the OpenMetrics text format: {line[:80]!r}")
    row = {"name": match[1], "labels": _labels(match[2] or "", number), "value": _value(match[3], number)}
    if match[4]:
        _value(match[4], number)
    return row, match[4] or ""


def _says_when_made(name: str, family: str, kind: str) -> bool:
    """Whether a sample only tells when its counter began; a gauge that is called so by itself is one like any other."""
    return name == f"{family}_created" and kind in ("counter", "histogram", "summary", "gaugehistogram")


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
        if match[1] in found:
            raise OpenMetricsError(f"line {number} has the label {match[1]!r} twice")
        found[match[1]] = _unescaped(match[2])
        at = match.end()
    return found


def _unescaped(text: str) -> str:
    return re.sub(r"\\\\|\\\"|\\n", lambda m: _ESCAPES[m[0]], text)


def _value(text: str, number: int) -> float:
    if not _REAL.fullmatch(text):
        raise OpenMetricsError(f"line {number} has no number but {text[:40]!r}")
    return float(text)
