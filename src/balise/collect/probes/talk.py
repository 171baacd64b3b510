"""One try of a probe: its phases, what it found, and how it ends."""

from __future__ import annotations

import contextlib
import ipaddress
import socket
import ssl
import time
from collections.abc import Iterator
from dataclasses import dataclass, field

from balise.api.places import is_nobodys
from balise.api.probes import Certificate
from balise.collect.probes.certificates import judge, shown_chain
from balise.collect.probes.errors import ProbeFailed

MOST_BODY = 1 << 20


@dataclass
class Talk:
    """What a try gives on the way. `warnings` do not fail it."""

    limit: float
    began: float = field(default_factory=time.monotonic)
    phases: dict[str, float] = field(default_factory=dict)
    warnings: list[str] = field(default_factory=list)
    certificates: list[Certificate] = field(default_factory=list)

    @contextlib.contextmanager
    def phase(self, name: str) -> Iterator[None]:
        """Times a phase; one that comes again is added up."""
        began = time.monotonic()
        try:
            yield
        except TimeoutError:
            raise ProbeFailed(f"nothing came within {self.limit:g} s while it was to {name}") from None
        finally:
            self.phases[name] = round(self.phases.get(name, 0.0) + time.monotonic() - began, 6)

    def left(self) -> float:
        """Seconds that are left of the limit.

        Raises:
            ProbeFailed: none are.
        """
        left = self.limit - (time.monotonic() - self.began)
        if left <= 0:
            raise ProbeFailed(f"it took longer than {self.limit:g} s")
        return left

    def resolve(self, address: str, port: int) -> tuple[str, int]:
        """Where a name leads. Raises ProbeFailed for one that is unknown, or leads where no server can be."""
        with self.phase("resolve"):
            try:
                found = [(str(ipaddress.ip_address(address)), port)]
            except ValueError:
                try:
                    found = [(str(i[4][0]), port) for i in socket.getaddrinfo(address, port, type=socket.SOCK_STREAM)]
                except (OSError, UnicodeError):
                    raise ProbeFailed(f"the name {address!r} is not known to the resolver here") from None
        if any(is_nobodys(one) for one, _ in found):
            raise ProbeFailed(f"{address} leads to a link-local, multicast or reserved address")
        return found[0]

    def connect(self, address: str, port: int) -> socket.socket:
        place = self.resolve(address, port)
        with self.phase("connect"):
            try:
                return socket.create_connection(place, self.left())
            except ConnectionRefusedError:
                raise ProbeFailed(f"{place[0]} port {port} refused the connection") from None
            except TimeoutError:
                raise ProbeFailed(f"{place[0]} port {port} did not accept a connection in {self.limit:g} s") from None
            except OSError as error:
                raise ProbeFailed(f"{place[0]} port {port}: {error.strerror or error}") from None

    def secure(self, talk: socket.socket, name: str, *, trusted: bool, days: float) -> ssl.SSLSocket:
        """TLS over a connection; the chain that was shown is kept, and judged by how long it is good."""
        context = ssl.create_default_context()
        if not trusted:
            context.check_hostname, context.verify_mode = False, ssl.CERT_NONE
        talk.settimeout(self.left())
        with self.phase("agree on TLS"):
            try:
                secured = context.wrap_socket(talk, server_hostname=name)
            except ssl.SSLCertVerificationError as error:
                raise ProbeFailed(f"the certificate is not trusted: {error.verify_message}") from None
            except TimeoutError:
                raise
            except (ssl.SSLError, OSError) as error:
                reason = getattr(error, "reason", None) or error.strerror or str(error)
                raise ProbeFailed(f"no TLS could be agreed on: {str(reason)[:200]}") from None
        self.certificates = shown_chain(secured)
        self.warnings += judge(self.certificates, days)
        return secured
