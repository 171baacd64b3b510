"""By which names this console is reached: never what a request says of it."""

from __future__ import annotations

from typing import Any
from urllib.parse import urlsplit

_PORTS = {"http": 80, "https": 443}
_HERE = ("127.0.0.1", "::1", "localhost")


class OwnHosts:
    """The places that are this console's when a public address is set; without one, every place is."""

    def __init__(self, public_url: str, base_url: str) -> None:
        self.public_url = public_url
        self._names: set[tuple[str, int]] = set()
        if public_url:
            listens = _place(base_url)
            self._names = {_place(public_url), listens, *((name, listens[1]) for name in _HERE)}

    def is_ours(self, scope: dict[str, Any]) -> bool:
        """Whether a request names this console as the one it is for.

        Whoever shows a token is not sent here by a page of somebody else's, and may reach the console by any name.
        """
        if not self._names:
            return True
        headers = dict(scope["headers"])
        if headers.get(b"authorization"):
            return True
        named = _place(f"{scope.get('scheme', 'http')}://{headers.get(b'host', b'').decode('latin-1')}")
        server = scope.get("server") or ("", None)
        return named in self._names or named == (str(server[0]).lower(), server[1])


def _place(url: str) -> tuple[str, int]:
    try:
        parts = urlsplit(url)
        return (parts.hostname or "").lower(), parts.port or _PORTS.get(parts.scheme, 0)
    except ValueError:
        return "", 0
