"""How receivers speak TLS (RFC 5425): with a certificate, and perhaps with none but those who show one."""

from __future__ import annotations

import ssl
from pathlib import Path


def receiver_context(chain: Path, key: Path, client_ca: str | None) -> ssl.SSLContext:
    """With `client_ca`, certificates in PEM, only who has one that is signed by these is listened to.

    Raises:
        ValueError: `client_ca` holds no certificate that can be read.
        OSError: the own certificate cannot be used.
    """
    context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
    context.minimum_version = ssl.TLSVersion.TLSv1_2
    context.load_cert_chain(chain, key)
    if client_ca is not None:
        trust_clients_of(context, client_ca)
    return context


def trust_clients_of(context: ssl.SSLContext, client_ca: str) -> None:
    """Raises ValueError when it holds no certificate that can be read."""
    try:
        context.load_verify_locations(cadata=client_ca)
    except (ssl.SSLError, ValueError):
        raise ValueError("it holds no certificate that can be read: give certificates, PEM") from None
    context.verify_mode = ssl.CERT_REQUIRED
