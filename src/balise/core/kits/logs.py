"""A service's own log: its lines as events with standard attributes, and what is counted of them."""

from __future__ import annotations

import csv
import io
import json
from collections import defaultdict
from collections.abc import Iterator
from datetime import datetime
from typing import Any

from balise.api.events import SEVERITIES, Severity
from balise.api.kits import KitLog
from balise.core.kits.forms import PATTERN_SECONDS, compiled
from balise.core.kits.rows import Value, number_of, text_of
from balise.core.localtime import FromLocal, in_utc
from balise.core.syslog import Line, guess_severity, parse_line

MOST_TALLIES = 200
MOST_DURATIONS = 5000
QUANTILES = {"p50": 0.50, "p95": 0.95, "p99": 0.99}
LONGEST = 16_384
"""Characters of a line that a pattern looks at."""


class LogReader:
    """Reads the lines of one log as its kit says.

    A line that does not fit the kit's form becomes an event as it stands, and is counted in `strange`.
    """

    def __init__(self, log: KitLog) -> None:
        self.log = log
        self.strange = 0
        self._pattern = compiled(log.pattern) if log.form == "regex" else None
        self._counts: dict[tuple[str, ...], int] = defaultdict(int)
        self._durations: list[float] = []
        self._seen = 0

    def read(self, text: str, now: float, from_local: FromLocal = in_utc) -> Line | None:
        """One line as an event; None when lines of its kind are only counted.

        Args:
            from_local: how times without a zone are read: the zone of whoever wrote them.
        """
        fields = self._fields(text)
        if fields is None:
            self.strange += self.log.form != "plain"
            return parse_line(text, year_of=now, from_local=from_local)
        self._tally(fields)
        severity = self._severity(fields)
        if self.log.deliver == "none" or (self.log.deliver == "problems" and SEVERITIES.index(severity) > 4):
            return None
        body = text_of_body(fields.get(self.log.body)) if self.log.body else text
        attributes = {k: v for k, f in self.log.attributes.items() if (v := text_of(fields.get(f)))}
        written = text_of(fields.get(self.log.time)) if self.log.time else ""
        moment = read_time(written, self.log.time_form, now, from_local) if written else None
        return Line(body or text, severity, moment, "", attributes)

    def _fields(self, text: str) -> dict[str, Any] | None:
        log = self.log
        if self._pattern is not None:
            try:
                match = self._pattern.match(text[:LONGEST], timeout=PATTERN_SECONDS)
            except TimeoutError:
                return None
            return match.groupdict() if match else None
        if log.form == "json":
            try:
                held = json.loads(text)
            except (ValueError, RecursionError):
                return None
            return held if isinstance(held, dict) else None
        if log.form == "csv":
            try:
                row = next(csv.reader(io.StringIO(text)), [])
            except csv.Error:
                return None
            return dict(zip(log.columns, row, strict=False)) if len(row) >= len(log.columns) // 2 else None
        return None

    def _severity(self, fields: dict[str, Any]) -> Severity:
        log = self.log
        if log.severity is None:
            return guess_severity(text_of_body(fields.get(log.body)) if log.body else "")
        word = text_of(fields.get(log.severity))
        found = log.severities.get(word)
        if found is None and word:
            # A whole class of answers may be told by its beginning: 5* for all from 500.
            found = next((s for w, s in log.severities.items() if w.endswith("*") and word.startswith(w[:-1])), None)
        return found or "informational"

    def _tally(self, fields: dict[str, Any]) -> None:
        if not self.log.metrics:
            return
        key = tuple(_classed(a, text_of(fields.get(f))) for a, f in self.log.tally.items())
        if key in self._counts or len(self._counts) < MOST_TALLIES:
            self._counts[key] += 1
        took = number_of(fields.get(self.log.duration)) if self.log.duration else None
        if took is not None:
            self._seen += 1
            if len(self._durations) < MOST_DURATIONS:
                self._durations.append(took)
            else:
                # Of more than are kept, every place is overwritten in turn: the last ones stay.
                self._durations[self._seen % MOST_DURATIONS] = took

    def values(self) -> Iterator[Value]:
        """Counts since the start, and percentiles of the lines since the last call."""
        durations, self._durations, self._seen = sorted(self._durations), [], 0
        for name, metric in self.log.metrics.items():
            if metric.column == "count":
                for key, count in self._counts.items():
                    named = {a: v for a, v in zip(self.log.tally, key, strict=True) if v}
                    yield Value(name, float(count), {**metric.attributes, **named})
            elif durations:
                for quantile, share in QUANTILES.items():
                    place = min(len(durations) - 1, int(share * len(durations)))
                    value = durations[place] * metric.scale
                    yield Value(name, round(value, 6), {**metric.attributes, "quantile": quantile})


def _classed(attribute: str, text: str) -> str:
    """Statuses are counted by their hundreds: 404 as `4xx`."""
    if attribute.endswith("class") and len(text) == 3 and text.isdecimal():
        return f"{text[0]}xx"
    return text[:60]


def text_of_body(held: Any) -> str:
    return held if isinstance(held, str) else "" if held is None else json.dumps(held, ensure_ascii=False)


def read_time(text: str, form: str, near: float, from_local: FromLocal) -> float | None:
    """A time as a log writes it, unix seconds; None when it cannot be read.

    `near` is about when it was written, unix seconds; `form` is one of strptime, or empty for ISO 8601 (a blank before
    the zone and the word UTC are understood).
    """
    text = text.strip()
    try:
        if form:
            moment = datetime.strptime(text, form)
        else:
            moment = datetime.fromisoformat(text.replace(" UTC", "+00:00").replace(" GMT", "+00:00"))
    except ValueError:
        return None
    if moment.tzinfo is None:
        return from_local(moment, near)
    return moment.timestamp()
