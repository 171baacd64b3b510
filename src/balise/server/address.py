"""The address by which others reach this console."""

from __future__ import annotations

from urllib.parse import urlsplit

_ANY = ("0.0.0.0", "::")  # noqa: S104  an address to listen at, not one to be reached by


def own_address(public_url: str, base_url: str, server: tuple[str, int | None] | None) -> str:
    """The address by which others reach the console: the public one, else where it listens; where it listens at every
    address, the one that took this request."""
    if public_url:
        return public_url
    listens = urlsplit(base_url)
    if listens.hostname not in _ANY or server is None:
        return base_url
    shown = f"[{server[0]}]" if ":" in server[0] else server[0]
    return f"{listens.scheme}://{shown}:{listens.port}"
