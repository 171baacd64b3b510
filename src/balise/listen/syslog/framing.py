"""Messages of a stream: counted octets or ended by a line feed, told apart message by message.

Source: RFC 6587 sections 3.4.1 and 3.4.2; RFC 5425 section 4.3.
"""

from __future__ import annotations

import re

LONGEST = 64 << 10
"""Bytes kept of one message; the rest is cut, and a mark says so."""
CUT = " …[cut]".encode()
_COUNT = re.compile(rb"([1-9]\d{0,8}) (?=<)")
_PERHAPS = re.compile(rb"[1-9]\d{0,8} ?")


class Frames:
    """Takes the bytes of one connection as they come, and gives the messages that are whole."""

    def __init__(self) -> None:
        self._rest = b""
        self._skipped = 0
        """Octets of a counted message that are beyond what is kept, and still to come."""
        self._in_line = False
        """Whether a line that is too long is being left out up to its end."""

    def feed(self, data: bytes) -> list[bytes]:
        data = self._rest + data
        found: list[bytes] = []
        at = 0
        while at < len(data):
            if self._skipped:
                gone = min(self._skipped, len(data) - at)
                self._skipped -= gone
                at += gone
                continue
            next_at = self._message(data, at, found)
            if next_at is None:
                break
            at = next_at
        self._rest = data[at:]
        return found

    def _message(self, data: bytes, at: int, found: list[bytes]) -> int | None:
        """Takes the message that begins here; answers where the next does, None when it is not whole yet."""
        if self._in_line:
            return self._rest_of_line(data, at)
        count = _COUNT.match(data, at)
        if count:
            return self._counted(data, count.end(), int(count[1]), found)
        if _PERHAPS.fullmatch(data, at):
            return None
        end = data.find(b"\n", at)
        if end < 0:
            if len(data) - at <= LONGEST:
                return None
            found.append(data[at : at + LONGEST] + CUT)
            self._in_line = True
            return at + LONGEST
        line = data[at:end] if end - at <= LONGEST else data[at : at + LONGEST] + CUT
        if line.strip(b"\r\x00 "):
            found.append(line.rstrip(b"\r\x00"))
        return end + 1

    def _counted(self, data: bytes, begin: int, size: int, found: list[bytes]) -> int | None:
        kept = min(size, LONGEST)
        if len(data) - begin < kept:
            return None
        found.append(data[begin : begin + kept] + (CUT if size > kept else b""))
        self._skipped = size - kept
        return begin + kept

    def _rest_of_line(self, data: bytes, at: int) -> int:
        end = data.find(b"\n", at)
        self._in_line = end < 0
        return len(data) if end < 0 else end + 1

    def end(self) -> list[bytes]:
        """What is left when the connection ends: a last line without its end is one all the same."""
        rest, self._rest = self._rest, b""
        count = _COUNT.match(rest)
        line = rest[count.end() :] if count else rest
        return [line.rstrip(b"\r\x00")] if line.strip(b"\r\x00 ") and not self._in_line else []
