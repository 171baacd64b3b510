"""Telling how far something has come: one line that changes in a terminal, a line now and then elsewhere, or JSON."""

from __future__ import annotations

import json
import sys
import time

EVERY = {"line": 0.1, "lines": 5.0, "json": 0.5}


class Telling:
    """Called with what is at hand, how much is done, and of how much. On standard error, so that answers stay alone."""

    def __init__(self, *, as_json: bool = False, unit: str = "") -> None:
        self._how = "json" if as_json else "line" if sys.stderr.isatty() else "lines"
        self._unit = unit
        self._next = 0.0
        self._shown = False

    def __call__(self, what: str, done: int, of: int) -> None:
        now = time.monotonic()
        if now < self._next and done < of:
            return
        self._next = now + EVERY[self._how]
        if self._how == "json":
            print(json.dumps({"what": what, "done": done, "of": of}), file=sys.stderr, flush=True)
            return
        share = done / of if of else 1.0
        text = f"{share:4.0%} {self._counted(done)} of {self._counted(of)} {what}"
        if self._how == "line":
            print(f"\r\x1b[K{text[:110]}", end="", file=sys.stderr, flush=True)
            self._shown = True
        else:
            print(text, file=sys.stderr, flush=True)

    def _counted(self, count: int) -> str:
        return f"{count / 1e6:,.1f} MB" if self._unit == "bytes" else f"{count:,}"

    def end(self) -> None:
        """Takes the line away."""
        if self._shown:
            print("\r\x1b[K", end="", file=sys.stderr, flush=True)
            self._shown = False
