"""The console's own certificate: given, or made by itself and signed by an authority of its own (RFC 5280)."""

from __future__ import annotations

import ipaddress
import logging
import os
import socket
import ssl
import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime, timedelta
from pathlib import Path

import psutil
from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

from balise.client.trust import fingerprint_of
from balise.server.errors import Refused

log = logging.getLogger(__name__)
DAYS, AUTHORITY_DAYS = 397, 3650
RENEW_BEFORE = 30.0
WARN_BEFORE = 21.0
"""Days before the end at which a given certificate is renewed by nobody but people."""


class CertificateError(Refused):
    """A certificate that cannot be used; the message says why and what to do."""

    def __init__(self, detail: str) -> None:
        super().__init__(422, detail)


@dataclass
class ServerCertificate:
    """Certificate and key as files. `renew` is called when there are others."""

    chain: Path
    key: Path
    anchor: Path
    """What agents may pin: the authority of a self-made one, else the last certificate of the chain."""
    self_made: bool
    names: Sequence[str] = ()
    renew: Callable[[], object] | None = None
    _loaded: float = field(default=0.0, repr=False)

    def days_left(self, now: float) -> float:
        """Days until the certificate that is served runs out."""
        return (_read(self.chain)[0].not_valid_after_utc.timestamp() - now) / 86_400

    def anchor_pem(self) -> str:
        certificate = _read(self.anchor)[-1]
        return certificate.public_bytes(serialization.Encoding.PEM).decode()

    @property
    def fingerprint(self) -> str:
        return fingerprint_of(self.anchor_pem())

    def look(self, now: float) -> None:
        """Renews a self-made certificate in time, and takes up files that were replaced."""
        if self.self_made and self.days_left(now) < RENEW_BEFORE:
            _make_leaf(self.chain.parent, self.names)
            log.info("the console's certificate was renewed: %.0f days", self.days_left(now))
        changed = max(self.chain.stat().st_mtime, self.key.stat().st_mtime)
        if self.renew is not None and changed != self._loaded:
            try:
                ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER).load_cert_chain(self.chain, self.key)
                self.renew()
                self._loaded = changed
            except (ssl.SSLError, OSError) as error:
                log.error("the new certificate cannot be used, the old one stays: %s", error)

    def warning(self, now: float) -> str | None:
        """What the console has to say of its certificate."""
        left = self.days_left(now)
        if left < 0:
            return (
                f"the console's certificate ran out {-left:.0f} days ago: nobody who checks it can connect; replace it"
            )
        if left < WARN_BEFORE:
            return f"the console's certificate runs out in {left:.0f} days: replace {self.chain}"
        return None


def given(chain: Path, key: Path) -> ServerCertificate:
    """A certificate that somebody else made.

    Raises:
        CertificateError: a file cannot be read, or the two do not belong together.
    """
    try:
        ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER).load_cert_chain(chain, key)
        _read(chain)
    except (OSError, ssl.SSLError, ValueError) as error:
        raise CertificateError(f"the certificate {chain} with the key {key} cannot be used: {error}") from None
    return ServerCertificate(chain, key, chain, self_made=False)


def self_made(folder: Path, names: Sequence[str]) -> ServerCertificate:
    """A certificate of the console's own, made at the first start, for this machine's names and addresses."""
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    wanted = sorted({*names, *own_names()})
    if not (folder / "authority.pem").exists():
        _make_authority(folder)
    made = ServerCertificate(folder / "console.pem", folder / "console.key", folder / "authority.pem", True, wanted)
    if not made.chain.exists() or not _covers(made.chain, wanted):
        _make_leaf(folder, wanted)
    return made


def own_names() -> set[str]:
    """What this machine may be called by others."""
    found = {"localhost", "127.0.0.1", "::1", socket.gethostname()}
    for card in psutil.net_if_addrs().values():
        found |= {a.address.split("%")[0] for a in card if a.family in (socket.AF_INET, socket.AF_INET6)}
    return {name for name in found if name}


def _read(path: Path) -> list[x509.Certificate]:
    return x509.load_pem_x509_certificates(path.read_bytes())


def _covers(chain: Path, names: Sequence[str]) -> bool:
    try:
        held = _read(chain)[0].extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except (ValueError, x509.ExtensionNotFound):
        return False
    there = {str(n.value) for n in held}
    return all(str(_general(name).value) in there for name in names)


def _general(name: str) -> x509.GeneralName:
    try:
        return x509.IPAddress(ipaddress.ip_address(name))
    except ValueError:
        return x509.DNSName(name)


def _builder(subject: str, issuer: str, key: ec.EllipticCurvePublicKey, days: int) -> x509.CertificateBuilder:
    now = datetime.fromtimestamp(time.time(), UTC)
    return (
        x509.CertificateBuilder()
        .subject_name(x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, subject)]))
        .issuer_name(x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, issuer)]))
        .public_key(key)
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(hours=1))
        .not_valid_after(now + timedelta(days=days))
        .add_extension(x509.SubjectKeyIdentifier.from_public_key(key), False)
    )


def _usage(*, signs_others: bool) -> x509.KeyUsage:
    return x509.KeyUsage(not signs_others, False, False, False, False, signs_others, signs_others, False, False)


def _make_authority(folder: Path) -> None:
    key = ec.generate_private_key(ec.SECP256R1())
    name = f"Balise console {socket.gethostname()}"[:64]
    certificate = (
        _builder(name, name, key.public_key(), AUTHORITY_DAYS)
        .add_extension(x509.BasicConstraints(True, 0), True)
        .add_extension(_usage(signs_others=True), True)
        .sign(key, hashes.SHA256())
    )
    _write_key(folder / "authority.key", key)
    (folder / "authority.pem").write_bytes(certificate.public_bytes(serialization.Encoding.PEM))


def _make_leaf(folder: Path, names: Sequence[str]) -> None:
    authority = _read(folder / "authority.pem")[0]
    signer = serialization.load_pem_private_key((folder / "authority.key").read_bytes(), None)
    if not isinstance(signer, ec.EllipticCurvePrivateKey):
        raise CertificateError(f"{folder / 'authority.key'} is not the console's own key: put the right one back")
    key = ec.generate_private_key(ec.SECP256R1())
    issuer = str(authority.subject.get_attributes_for_oid(NameOID.COMMON_NAME)[0].value)
    certificate = (
        _builder("Balise console", issuer, key.public_key(), DAYS)
        .add_extension(x509.SubjectAlternativeName([_general(name) for name in names]), False)
        .add_extension(x509.BasicConstraints(False, None), True)
        .add_extension(_usage(signs_others=False), True)
        .add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH]), False)
        .add_extension(x509.AuthorityKeyIdentifier.from_issuer_public_key(signer.public_key()), False)
        .sign(signer, hashes.SHA256())
    )
    _write_key(folder / "console.key", key)
    pem = serialization.Encoding.PEM
    (folder / "console.pem").write_bytes(certificate.public_bytes(pem) + authority.public_bytes(pem))


def _write_key(path: Path, key: ec.EllipticCurvePrivateKey) -> None:
    descriptor = os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600)
    with os.fdopen(descriptor, "wb") as file:
        file.write(
            key.private_bytes(
                serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
            )
        )
