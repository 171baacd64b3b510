"""The files of the web console: its one page, and what that asks for."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from starlette.requests import Request
from starlette.responses import Response

from balise.front.assetfiles import AssetFiles
from balise.front.topfiles import KEPT_A_WHILE, LOOKED_AT_ANEW, TopFile

INDEX = "index.html"
ASSETS = "/assets/"
NOT_BUILT = (
    "<!doctype html><html><title>Balise</title><p>The web console is not built: run <code>make setup</code>.</html>"
)


class Pages:
    """Answered here, as they are no secret and nothing of the console is needed for them. `web` is their folder."""

    def __init__(self, web: Path) -> None:
        self._assets = AssetFiles(web / "assets")
        self._files = {path.name: TopFile(path, KEPT_A_WHILE) for path in web.glob("[!.]*.*") if path.is_file()}
        # The page says which files its version has.
        self._index = self._files[INDEX] = TopFile(web / INDEX)

    def answer(self, scope: dict[str, Any]) -> Response | None:
        """None for what is none of these."""
        if scope["method"] not in ("GET", "HEAD"):
            return None
        path, request = scope["path"], Request(scope)
        if path.startswith(ASSETS):
            return self._assets.answer(path.removeprefix(ASSETS), request)
        file = self._files.get(path[1:])
        if file is not None and file is not self._index:
            return file.answer(request)
        if path in ("/", f"/{INDEX}") or _is_page(request):
            return self._index.answer(request) or Response(NOT_BUILT, media_type="text/html", headers=LOOKED_AT_ANEW)
        return None


def _is_page(request: Request) -> bool:
    """Whether somebody's browser asks for a page of the console: names of hosts and signed links may have dots."""
    path = request.url.path
    parts = path.split("/")[1:]
    is_file = (len(parts) == 1 and "." in path) or any(part.startswith(".") for part in parts)
    return (
        "text/html" in request.headers.get("accept", "")
        and not path.startswith(("/api/", ASSETS, "/v1/"))
        and not is_file
    )
