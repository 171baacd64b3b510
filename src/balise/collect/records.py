"""Bytes of a file as records: lines, or several lines that belong together, in the file's own character set."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass

LONGEST = 64 << 10
"""Bytes of one record; the rest of a line is cut, and a mark says so."""
MOST_LINES = 1000
_SEARCHED = 1000
"""Characters of a line in which the beginning of a record is looked for."""


@dataclass(frozen=True)
class Record:
    """The text of one record; `cut` when it was longer than is kept."""

    text: str
    cut: bool = False


class Records:
    """Splits what comes of one file. A record of several lines is whole when the next one begins.

    Args:
        encoding: as Python names it; UTF-16 is taken to be little-endian unless it is named `utf-16-be`.
        first_line: what the first line of a record matches from its beginning; every line is one if there is none.
        indented: lines that begin with a blank belong to the record before.
    """

    def __init__(self, encoding: str = "utf-8", *, first_line: str | None = None, indented: bool = False) -> None:
        self._wide = encoding.startswith("utf-16")
        self._encoding = "utf-16-le" if encoding == "utf-16" else encoding
        self._first = re.compile(first_line) if first_line else None
        self._indented = indented
        self._skipping = False
        """Whether the rest of a line that is too long is being left out."""

    @property
    def of_several(self) -> bool:
        return self._first is not None or self._indented

    def split(self, data: bytes, *, last: bool = False) -> tuple[list[Record], int]:
        """The records that are whole, and how many bytes they take; with `last`, as if nothing more came."""
        used = 0
        if self._skipping:
            end = self._newline(data, 0)
            if end < 0:
                return [], len(data)
            used, self._skipping = end, False
        lines = list(self._lines(data, used))
        found = list(self._grouped(lines, last)) if self.of_several else [(_cut(t), n) for t, n in lines]
        used += sum(size for _, size in found)
        records = [record for record, _ in found if record.text.strip()]
        if len(data) - used > LONGEST and self._newline(data, used) < 0:
            records.append(Record(self._decoded(data[used : used + LONGEST]), cut=True))
            used, self._skipping = len(data), True
        return records, used

    def _newline(self, data: bytes, at: int) -> int:
        """Where the line that begins at `at` ends, its end included; -1 when it does not."""
        if not self._wide:
            return data.find(b"\n", at) + 1 or -1
        mark = "\n".encode(self._encoding)
        end = data.find(mark, at)
        while end >= 0 and (end - at) % 2:
            end = data.find(mark, end + 1)
        return end + 2 if end >= 0 else -1

    def _lines(self, data: bytes, at: int) -> Iterator[tuple[str, int]]:
        if not self._wide:
            whole = data.rfind(b"\n") + 1
            for line in data[at:whole].split(b"\n")[:-1]:
                yield self._decoded(line), len(line) + 1
            return
        while (end := self._newline(data, at)) >= 0:
            yield self._decoded(data[at : end - 2]), end - at
            at = end

    def _decoded(self, line: bytes) -> str:
        return line.decode(self._encoding, "replace").lstrip("\ufeff").rstrip("\r")

    def _grouped(self, lines: list[tuple[str, int]], last: bool) -> Iterator[tuple[Record, int]]:
        texts: list[str] = []
        size = 0
        for text, length in lines:
            if texts and (self._begins(text) or size + length > LONGEST or len(texts) >= MOST_LINES):
                yield _cut("\n".join(texts)), size
                texts, size = [], 0
            texts.append(text)
            size += length
        if texts and last:
            yield _cut("\n".join(texts)), size

    def _begins(self, text: str) -> bool:
        """Whether a record begins with this line."""
        if self._first is not None:
            return self._first.match(text[:_SEARCHED]) is not None
        return text[:1] not in (" ", "\t", "")


def _cut(text: str) -> Record:
    return Record(text[:LONGEST], cut=True) if len(text) > LONGEST else Record(text)
