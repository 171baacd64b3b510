"""Unpacking gzip bodies, never more of them than is allowed."""

from __future__ import annotations

import zlib

MOST_MEMBERS = 64
"""Members of one body: whoever sends more means harm, or should send them one by one."""


MOST_UNZIPPED = 32 << 20
ALWAYS_UNZIPPED, MOST_RATIO = 1 << 20, 100
"""A body may become so large, or so many times larger than it came; points of real systems come to some ten times."""


class NotUnpacked(ValueError):
    """A body that is no gzip, is cut, or is larger than allowed; says which."""


def unzipped(body: bytes, limit: int = MOST_UNZIPPED) -> bytes:
    """The content of a gzip body, all of its members (RFC 1952, section 2.2).

    It has at most `limit` bytes, and is not too many times larger than it came.

    Raises:
        NotUnpacked: with what is wrong.
    """
    limit = min(limit, max(ALWAYS_UNZIPPED, MOST_RATIO * len(body)))
    parts: list[bytes] = []
    room = limit
    while body or not parts:
        if len(parts) == MOST_MEMBERS:
            raise NotUnpacked(f"the gzip body has more than {MOST_MEMBERS} members: send it as one")
        reader = zlib.decompressobj(wbits=31)
        try:
            part = reader.decompress(body, room + 1)
        except zlib.error as error:
            raise NotUnpacked(f"the body is no gzip: {error}") from None
        room -= len(part)
        if room < 0:
            raise NotUnpacked(f"the body is larger than {limit} bytes when unzipped: send it in parts")
        if not reader.eof:
            raise NotUnpacked("the gzip body is cut")
        parts.append(part)
        # Zeros may pad a member to the size of a block.
        body = reader.unused_data.lstrip(b"\0")
    return b"".join(parts)
