"""The hosts of Skerry Ferries: site, role, application, size."""

from __future__ import annotations

from dataclasses import dataclass, field

GIB = 1 << 30


@dataclass(frozen=True)
class Volume:
    """A mounted volume: size in bytes and how full it usually is."""

    mountpoint: str
    device: str
    size: int
    level: float


@dataclass(frozen=True)
class Ship:
    """One host. `pace` is how much work it has at the busiest hour, as a share of its processors."""

    name: str
    site: str
    role: str
    group: str
    cores: int
    memory: int
    pace: float
    os: str = "Debian GNU/Linux 12 (bookworm)"
    volumes: tuple[Volume, ...] = ()
    needs: tuple[str, ...] = ()
    address: str = ""
    labels: dict[str, str] = field(default_factory=dict)

    @property
    def machine(self) -> str:
        """The virtualisation host it runs on; nothing for what is a machine itself."""
        return self.labels.get("runs-on", "")


MACHINES = ("hypervisor", "backup")
"""Roles of what is a machine itself."""
_SITES = {"n": "northquay", "s": "southquay", "h": "headland"}
_NETS = {"n": "192.0.2", "s": "198.51.100", "h": "203.0.113"}
_ROOT = Volume("/", "/dev/vda1", 40 * GIB, 0.38)


def _ship(
    name: str,
    role: str,
    group: str,
    cores: int,
    memory: int,
    pace: float,
    *volumes: Volume,
    os: str = "Debian GNU/Linux 12 (bookworm)",
    needs: tuple[str, ...] = (),
) -> Ship:
    site = name.rsplit("-", 1)[1][0]
    number = 10 + sum(ord(c) * (i + 3) for i, c in enumerate(name)) % 230
    return Ship(
        name=name,
        site=_SITES[site],
        role=role,
        group=group,
        cores=cores,
        memory=memory * GIB,
        pace=pace,
        os=os,
        volumes=(_OFFICE_VOLUME,) if os == _WIN else (_ROOT, *volumes),
        needs=needs,
        address=f"{_NETS[site]}.{number}",
        labels={"site": _SITES[site], "role": role, **({} if role in MACHINES else {"runs-on": f"hv-{site}1"})},
    )


_LOG = Volume("/var/log", "/dev/vdb1", 8 * GIB, 0.31)
_DB = Volume("/var/lib/postgresql", "/dev/vdc1", 200 * GIB, 0.57)
_WIN = "Windows-like ticket-office system"
OFFICE = "ticket-office"
_OFFICE_VOLUME = Volume("C:", "C:", 240 * GIB, 0.44)

FLEET: tuple[Ship, ...] = (
    _ship("book-db-n1", "database", "Booking", 8, 32, 0.30, _DB, _LOG),
    _ship("gate-s3", "gate-controller", "Boarding gates", 2, 4, 0.14, _LOG, needs=("gate-mq-s1",)),
    _ship(
        "book-app-n1", "application", "Booking", 4, 16, 0.34, _LOG, needs=("book-db-n1", "book-cache-n1", "book-mq-n1")
    ),
    _ship(
        "book-app-n2", "application", "Booking", 4, 16, 0.33, _LOG, needs=("book-db-n1", "book-cache-n1", "book-mq-n1")
    ),
    _ship("web-n1", "web", "Booking", 2, 8, 0.28, _LOG, needs=("book-app-n1", "book-app-n2")),
    _ship("web-n2", "web", "Booking", 2, 8, 0.27, _LOG, needs=("book-app-n1", "book-app-n2")),
    _ship("gate-n1", "gate-controller", "Boarding gates", 2, 4, 0.15, _LOG, needs=("gate-mq-n1", "web-n1")),
    _ship("gate-n2", "gate-controller", "Boarding gates", 2, 4, 0.14, _LOG, needs=("gate-mq-n1", "web-n1")),
    _ship("gate-n3", "gate-controller", "Boarding gates", 2, 4, 0.13, _LOG, needs=("gate-mq-n1", "web-n2")),
    _ship("gate-s1", "gate-controller", "Boarding gates", 2, 4, 0.15, _LOG, needs=("gate-mq-s1",)),
    _ship("gate-s2", "gate-controller", "Boarding gates", 2, 4, 0.13, _LOG, needs=("gate-mq-s1",)),
    _ship("book-db-s1", "database", "Booking", 8, 32, 0.12, _DB, _LOG, needs=("book-db-n1",)),
    _ship("book-cache-n1", "cache", "Booking", 2, 8, 0.12),
    _ship("book-mq-n1", "queue", "Booking", 2, 8, 0.14),
    _ship("gate-mq-n1", "queue", "Boarding gates", 2, 4, 0.10),
    _ship("gate-mq-s1", "queue", "Boarding gates", 2, 4, 0.09),
    _ship("web-h1", "timetable", "Departures", 2, 8, 0.22, _LOG, needs=("dns-h1",)),
    _ship("web-s1", "timetable", "Departures", 2, 8, 0.16, _LOG, needs=("dns-h1",)),
    _ship("disp-n1", "display", "Departures", 1, 2, 0.18, needs=("web-h1",)),
    _ship("disp-s1", "display", "Departures", 1, 2, 0.17, needs=("web-s1",)),
    _ship("dns-h1", "dns", "Departures", 1, 2, 0.06),
    _ship("mail-h1", "mail", "Office", 4, 8, 0.16, Volume("/var/mail", "/dev/vdb1", 100 * GIB, 0.63)),
    _ship("files-h1", "files", "Office", 4, 16, 0.12, Volume("/srv/files", "/dev/vdb1", 2000 * GIB, 0.71)),
    _ship("tick-s1", "ticket-office", "Office", 4, 8, 0.20, os=_WIN, needs=("web-n1",)),
    _ship("tick-h1", "ticket-office", "Office", 4, 8, 0.18, os=_WIN, needs=("web-n1",)),
    _ship("hv-n1", "hypervisor", "Platform", 32, 256, 0.42, Volume("/srv/vm", "/dev/sdb", 4000 * GIB, 0.66)),
    _ship("hv-s1", "hypervisor", "Platform", 32, 256, 0.36, Volume("/srv/vm", "/dev/sdb", 4000 * GIB, 0.59)),
    _ship("hv-h1", "hypervisor", "Platform", 24, 192, 0.31, Volume("/srv/vm", "/dev/sdb", 4000 * GIB, 0.54)),
    _ship("backup-h1", "backup", "Platform", 8, 32, 0.15, Volume("/srv/backup", "/dev/sdb", 16000 * GIB, 0.74)),
    _ship("bastion-h1", "bastion", "Platform", 1, 2, 0.05, _LOG),
)
GROUPS = ("northquay", "southquay", "headland", "Booking", "Boarding gates", "Departures", "Office", "Platform")
