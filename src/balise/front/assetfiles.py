"""The files of the web console that have their digest in their names: what has one name never changes.

A page asks for a dozen of them at once. They are held in memory, packed too, so that each is answered in one turn of
the loop.
"""

from __future__ import annotations

import gzip
import mimetypes
from pathlib import Path
from typing import NamedTuple

from starlette.requests import Request
from starlette.responses import Response

MOST_HELD = 16 << 20
"""Bytes, packed ones included."""
PACKED_FROM = 1024
LEVEL = 9
NEVER_CHANGES = {"Cache-Control": "public, max-age=31536000, immutable"}


class _Held(NamedTuple):
    content: bytes
    packed: bytes
    """Empty when it is not shorter."""
    type: str


class AssetFiles:
    """The files of one folder, each read when it is asked for the first time."""

    def __init__(self, folder: Path, most: int = MOST_HELD) -> None:
        self._folder = folder
        self._most = most
        self._held: dict[str, _Held] = {}
        self._size = 0

    def answer(self, name: str, request: Request) -> Response | None:
        """A file; None when there is none of that name."""
        held = self._held.get(name) or self._read(name)
        if held is None:
            return None
        headers = {"Vary": "Accept-Encoding", **NEVER_CHANGES}
        if held.packed and "gzip" in request.headers.get("accept-encoding", ""):
            return Response(held.packed, media_type=held.type, headers={**headers, "Content-Encoding": "gzip"})
        return Response(held.content, media_type=held.type, headers=headers)

    def _read(self, name: str) -> _Held | None:
        path = self._folder / name
        try:
            # Nothing but a file of this very folder has a name of one part.
            if path.parent != self._folder or path.name != name or path.is_symlink():
                raise FileNotFoundError
            content = path.read_bytes()
        except (OSError, ValueError):
            return None
        packed = gzip.compress(content, LEVEL, mtime=0) if len(content) >= PACKED_FROM else b""
        packed = packed if len(packed) < len(content) else b""
        held = _Held(content, packed, mimetypes.guess_type(name)[0] or "application/octet-stream")
        size = len(content) + len(packed)
        if self._size + size <= self._most:
            self._held[name] = held
            self._size += size
        return held
