"""Headers that every answer has."""

from __future__ import annotations

from typing import Any

from starlette.types import Message, Send

TRANSPORT = (b"strict-transport-security", b"max-age=31536000")
_POLICY = (
    b"default-src 'self'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; "
    b"connect-src 'self'; worker-src 'self'; object-src 'none'; base-uri 'none'; form-action 'self'; "
    b"frame-ancestors 'none'"
)
_ALWAYS = [
    (b"content-security-policy", _POLICY),
    (b"x-content-type-options", b"nosniff"),
    (b"referrer-policy", b"same-origin"),
    (b"permissions-policy", b"camera=(), microphone=(), geolocation=()"),
]


def with_headers(scope: dict[str, Any], send: Send) -> Send:
    """Sends with what browsers are told of any answer; answers of the API are not kept unless they say so."""

    async def inner(message: Message) -> None:
        if message["type"] == "http.response.start":
            headers = [*message.get("headers", ()), *_ALWAYS]
            if scope.get("scheme") == "https":
                headers.append(TRANSPORT)
            if scope["path"].startswith("/api/") and not any(name == b"cache-control" for name, _ in headers):
                headers.append((b"cache-control", b"no-store"))
            message = {**message, "headers": headers}
        await send(message)

    return inner
