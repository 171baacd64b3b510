"""The files of the web console that keep their names from version to version: looked at anew by who has them.

They are small and asked for by each page that is opened. They are held in memory: reading one from the disk would cost
several turns of a busy loop, while nothing is shown yet.
"""

from __future__ import annotations

import mimetypes
from collections.abc import Mapping
from hashlib import sha256
from pathlib import Path

from starlette.requests import Request
from starlette.responses import Response

LOOKED_AT_ANEW = {"Cache-Control": "no-cache"}
KEPT_A_WHILE = {"Cache-Control": "max-age=600"}
"""Of what is fit for pages of the next version too: no page that is opened waits to hear that it has not changed."""


class TopFile:
    """One file, read again when it was written anew."""

    def __init__(self, path: Path, headers: Mapping[str, str] = LOOKED_AT_ANEW) -> None:
        self._path = path
        self._headers = headers
        self._type = mimetypes.guess_type(path.name)[0] or "application/octet-stream"
        self._seen = (-1, -1)
        self._content, self._tag = b"", ""

    def answer(self, request: Request) -> Response | None:
        """The file, or that it is what whoever asks has; None when there is none."""
        try:
            now = self._path.stat()
            seen = (now.st_mtime_ns, now.st_size)
            if seen != self._seen:
                self._content = self._path.read_bytes()
                self._tag = f'"{sha256(self._content).hexdigest()[:32]}"'
                self._seen = seen
        except FileNotFoundError:
            return None
        headers = {**self._headers, "ETag": self._tag}
        # On its way it may have been packed, and its tag be said to be a weak one since.
        has = {tag.strip().removeprefix("W/") for tag in request.headers.get("if-none-match", "").split(",")}
        if self._tag in has:
            return Response(status_code=304, headers=headers)
        return Response(self._content, media_type=self._type, headers=headers)
