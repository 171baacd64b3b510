"""What the front itself has to refuse, as the API refuses it."""

from __future__ import annotations

from collections.abc import Mapping

from starlette.responses import JSONResponse, Response

from balise.front.frames import MOST_REQUEST

TITLES = {413: "Too large", 421: "Not reached this way", 503: "Busy"}
NOT_KEPT = {"Cache-Control": "no-store"}


def problem(status: int, detail: str, headers: Mapping[str, str] = NOT_KEPT) -> Response:
    """A problem document (RFC 9457)."""
    content = {"type": "about:blank", "title": TITLES[status], "status": status, "detail": detail, "errors": []}
    return JSONResponse(content, status, headers, media_type="application/problem+json")


def too_large() -> Response:
    return problem(413, f"The request is larger than {MOST_REQUEST} bytes: send less at once.")


def try_again() -> Response:
    headers = {**NOT_KEPT, "Retry-After": "2"}
    return problem(503, "The console is busy, ending or beginning anew: try again in a moment.", headers)
