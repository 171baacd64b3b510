"""How a service is run."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from balise.server.tls.certificates import ServerCertificate, self_made
from balise.store.series.store import Retention


@dataclass(frozen=True)
class Settings:
    """`base_url` is where the service listens, `public_url` how agents and people elsewhere reach it."""

    data: Path
    base_url: str = "http://127.0.0.1:8808"
    public_url: str = ""
    certificate: ServerCertificate | None = None
    organisation: str = ""
    retention: Retention = field(default_factory=Retention)
    keep_events_days: float = 30.0
    keep_alerts_days: float = 400.0
    """Also for states of hosts, and for what was told to whom."""
    keep_audit_days: float = 800.0
    aside: Path | None = None
    """Where days of events are set aside; a folder beside the data, unless given."""
    backups: Path | None = None
    exports: Path | None = None
    """Where backups and exports are put that the service is asked for; folders beside the data, unless given."""
    memory: int | None = None
    """The ceiling of what the service holds, bytes."""

    channels_may_run: bool = False
    """Whether channels may run commands on this machine."""

    @property
    def reached_at(self) -> str:
        """The address to put into what is sent to people and machines."""
        return self.public_url or self.base_url

    @property
    def aside_folder(self) -> Path:
        return self.aside or self.data / "aside"

    @property
    def backups_folder(self) -> Path:
        return self.backups or self.data / "backups"

    @property
    def exports_folder(self) -> Path:
        return self.exports or self.data / "exports"

    def own_certificate(self) -> ServerCertificate:
        """The certificate that the service is served with, or one it makes for itself."""
        return self.certificate or self_made(self.data / "tls", ())

    def warnings(self, now: float) -> list[str]:
        """What there is to say of the certificate."""
        said = self.certificate.warning(now) if self.certificate is not None else None
        return [said] if said else []

    @property
    def trust_words(self) -> str:
        """What an enrolment command has to say so that the service's certificate is trusted."""
        certificate = self.certificate
        return f" --fingerprint {certificate.fingerprint}" if certificate and certificate.self_made else ""
