"""Whether the console at the other end is the right one: certificates, and fingerprints given by hand."""

from __future__ import annotations

import hashlib
import re
import ssl
from dataclasses import dataclass
from pathlib import Path

import httpx

from balise.client.errors import Unreachable

ANCHOR = "console.pem"
_PEM = re.compile(r"-----BEGIN CERTIFICATE-----.+?-----END CERTIFICATE-----", re.DOTALL)


@dataclass(frozen=True)
class Trust:
    """Why a console is trusted: the system's authorities, those of a file, or one certificate by its fingerprint."""

    file: Path | None = None
    fingerprint: str = ""

    def context(self) -> ssl.SSLContext:
        """Checks chain and name against the file, or against the system's authorities."""
        if self.file is None:
            return ssl.create_default_context()
        context = ssl.create_default_context(cafile=str(self.file))
        # What is pinned may be any certificate of the chain, not only its root.
        context.verify_flags |= ssl.VERIFY_X509_PARTIAL_CHAIN
        return context


def fingerprint_of(pem: str) -> str:
    """`sha256:…` of the first certificate in a PEM text, over its DER form."""
    found = _PEM.search(pem)
    if not found:
        raise ValueError("there is no certificate in this text")
    return "sha256:" + hashlib.sha256(ssl.PEM_cert_to_DER_cert(found[0])).hexdigest()


def held_trust(folder: Path) -> Trust:
    """What was learnt at enrolment and kept in a state folder."""
    path = folder / ANCHOR
    return Trust(file=path if path.exists() else None)


def learn_trust(console: str, given: Trust, folder: Path) -> Trust:
    """What to trust from now on, kept in `folder`: a given file, or the certificate that has the given fingerprint.

    Only the certificate is fetched from a console that is not proven yet; nothing is sent to it.

    Raises:
        Unreachable: the console does not answer, or shows a certificate of another fingerprint.
    """
    path = folder / ANCHOR
    if given.file is not None:
        path.write_text(given.file.read_text("utf-8"), "utf-8")
    elif given.fingerprint:
        path.write_text(_fetched(console, given.fingerprint.lower()), "utf-8")
    else:
        path.unlink(missing_ok=True)
    return held_trust(folder)


def _fetched(console: str, wanted: str) -> str:
    if not console.startswith("https://"):
        raise Unreachable("a fingerprint needs a console that is reached by https://")
    try:
        # Nothing is believed of this answer but what its fingerprint proves.
        answer = httpx.get(f"{console.rstrip('/')}/api/v1/certificate", verify=False, timeout=20.0)  # noqa: S501
        answer.raise_for_status()
        found = fingerprint_of(answer.text)
    except (httpx.HTTPError, ValueError) as error:
        raise Unreachable(f"{console} shows no certificate: {error}") from None
    if found != wanted:
        raise Unreachable(
            f"{console} shows the certificate {found}, and {wanted} was given: it is another console, or somebody "
            "stands in between. Nothing was sent to it."
        )
    return answer.text
