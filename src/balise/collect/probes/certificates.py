"""Certificates as servers show them: for whom, from whom, and how long they are good."""

from __future__ import annotations

import ssl
import time
from typing import Any

from cryptography import x509

from balise.api.probes import Certificate
from balise.api.spans import rfc3339
from balise.collect.probes.errors import ProbeFailed

MOST_SHOWN = 10
DAY = 86_400.0


def read_certificate(der: bytes, now: float) -> Certificate:
    """Raises ValueError for what is none."""
    found = x509.load_der_x509_certificate(der)
    try:
        held = found.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
        names = [str(n.value) for n in held]
    except (x509.ExtensionNotFound, ValueError):
        names = []
    ends = found.not_valid_after_utc.timestamp()
    return Certificate(
        subject=found.subject.rfc4514_string()[:200],
        issuer=found.issuer.rfc4514_string()[:200],
        not_after=rfc3339(ends),
        days_left=round((ends - now) / DAY, 2),
        names=names[:30],
    )


def shown_chain(secured: ssl.SSLSocket) -> list[Certificate]:
    """The certificates that the other side showed, its own first."""
    der = [c for c in _chain(secured) if c][:MOST_SHOWN] or [secured.getpeercert(binary_form=True) or b""]
    found = []
    for one in der:
        try:
            found.append(read_certificate(one, time.time()))
        except ValueError:
            continue
    return found


def _chain(secured: ssl.SSLSocket) -> list[bytes]:
    """Python tells the whole chain from 3.13 on; before, its inner object does."""
    tell: Any = getattr(secured, "get_unverified_chain", None)
    if tell is not None:
        return list(tell())
    inner: Any = getattr(getattr(secured, "_sslobj", None), "get_unverified_chain", None)
    if inner is None:
        return []
    return [ssl.PEM_cert_to_DER_cert(one.public_bytes()) for one in inner() or []]


def judge(chain: list[Certificate], days: float) -> list[str]:
    """What is to be said of a chain.

    Raises:
        ProbeFailed: one of it has run out.
    """
    if not chain:
        return []
    first = min(chain, key=lambda one: one.days_left)
    if first.days_left < 0:
        raise ProbeFailed(f"the certificate {first.subject} ran out {-first.days_left:.1f} days ago")
    if first.days_left < days:
        return [f"the certificate {first.subject} runs out in {first.days_left:.1f} days"]
    return []
