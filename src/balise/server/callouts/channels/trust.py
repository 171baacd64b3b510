"""Whose certificates channels believe: those that the machine trusts, and the public ones."""

from __future__ import annotations

import os
import ssl
import time
from functools import lru_cache

import certifi

READ_AGAIN = 3600.0
"""Seconds after which certificates are read again: reading them takes as long as all of a delivery."""
_OWN = ("SSL_CERT_FILE", "SSL_CERT_DIR")


def trusted() -> ssl.SSLContext:
    """A context that checks certificates and names. Not to be changed: all channels share it."""
    return _read(tuple(os.environ.get(name) for name in _OWN), time.monotonic() // READ_AGAIN)


@lru_cache(maxsize=1)
def _read(own: tuple[str | None, ...], _since: float) -> ssl.SSLContext:
    context = ssl.create_default_context()
    if not any(own):
        context.load_verify_locations(certifi.where())
    return context
