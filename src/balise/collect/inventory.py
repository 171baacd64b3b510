"""What is on this machine: its inventory, kind by kind, within bounds of time and size."""

from __future__ import annotations

import errno
import glob
import hashlib
import os
import platform
import shutil
import time
from collections.abc import Callable, Iterable
from pathlib import Path

import psutil

from balise.api.inventory import InventoryKind
from balise.collect.files import said
from balise.collect.kits.sources.running import run_bounded
from balise.collect.kits.sources.source import SourceProblem
from balise.collect.ports import listening
from balise.collect.system import is_storage
from balise.core.inventory import texts
from balise.core.inventory.texts import Item

LARGEST = 64 << 20
MOST_FILES = 200
MOST_CERTIFICATE = 100_000
COMMAND_SECONDS = 30.0
UPGRADES_EVERY = 12 * 3600.0
CERTIFICATE_PLACES = (
    "/etc/letsencrypt/live/*/cert.pem", "/etc/ssl/*.pem", "/etc/ssl/*.crt", "/etc/ssl/local/*.pem", "/etc/nginx/*.pem",
    "/etc/nginx/*.crt", "/etc/nginx/ssl/*", "/etc/apache2/ssl/*", "/etc/haproxy/*.pem", "/etc/haproxy/certs/*",
    "/etc/pki/tls/certs/localhost*", "/etc/postfix/*.pem", "/etc/postgresql/*/*/server.crt", "/etc/dovecot/*.pem",
)  # fmt: skip
"""Where certificates of services usually are; the bundles of authorities are not among them."""
CONFIGURATION_PLACES = (
    "/etc/ssh/sshd_config",
    "/etc/ssh/sshd_config.d/*.conf",
    "/etc/fstab",
    "/etc/hosts",
    "/etc/resolv.conf",
    "/etc/sudoers",
    "/etc/sudoers.d/*",
    "/etc/nginx/nginx.conf",
    "/etc/nginx/conf.d/*.conf",
    "/etc/nginx/sites-enabled/*",
    "/etc/apache2/apache2.conf",
    "/etc/apache2/sites-enabled/*",
    "/etc/haproxy/haproxy.cfg",
    "/etc/postfix/main.cf",
    "/etc/postfix/master.cf",
    "/etc/postgresql/*/*/*.conf",
    "/etc/mysql/mariadb.conf.d/*.cnf",
    "/etc/redis/redis.conf",
    "/etc/rabbitmq/*.conf",
    "/etc/tomcat*/server.xml",
    "/etc/bind/named.conf*",
    "/etc/sysctl.conf",
    "/etc/sysctl.d/*.conf",
    "/etc/security/limits.conf",
    "/etc/crontab",
    "/etc/systemd/system/*.service",
)
"""Files whose change is worth an event. Their digests are told, never what is in them."""


def _text(path: str) -> str:
    """A file's text; empty when there is none.

    Raises:
        OSError: it is there and may not be read.
    """
    try:
        with open(path, "rb") as file:
            return file.read(LARGEST).decode("utf-8", "replace")
    except (FileNotFoundError, NotADirectoryError):
        return ""


def _told(*words: str) -> str:
    """What a program says; empty where there is none, or it fails."""
    if shutil.which(words[0]) is None:
        return ""
    try:
        code, out, _ = run_bounded(words, COMMAND_SECONDS)
    except SourceProblem:
        return ""
    return out if code == 0 else ""


def _files(patterns: Iterable[str]) -> list[str]:
    found: list[str] = []
    for pattern in patterns:
        for path in sorted(glob.glob(pattern)):
            if len(found) >= MOST_FILES:
                return found
            if os.path.isfile(path):
                found.append(path)
    return found


class Inventory:
    """Reads every kind of this machine's inventory. `certificates` are more places to look for them."""

    def __init__(self, certificates: Iterable[str] = ()) -> None:
        self._places = [*CERTIFICATE_PLACES, *certificates]
        self._upgrades: tuple[float, dict[str, tuple[str, bool]]] = (0.0, {})
        self.kinds: dict[InventoryKind, Callable[[], list[Item]]] = {
            "accounts": self._accounts,
            "groups": lambda: texts.groups(_text("/etc/group")),
            "ports": self._ports,
            "units": self._units,
            "schedules": self._schedules,
            "volumes": self._volumes,
            "interfaces": self._interfaces,
            "routes": lambda: texts.routes(_text("/proc/net/route"), _text("/proc/net/ipv6_route")),
            "certificates": self._certificates,
            "boot": self._boot,
            "configuration": self._configuration,
            "packages": self._packages,
        }

    def read(self, kind: InventoryKind) -> list[Item]:
        """The items of a kind. Raises OSError when what it is read from may not be read."""
        return self.kinds[kind]()

    def _packages(self) -> list[Item]:
        status = _text("/var/lib/dpkg/status")
        if not status:
            form = "%{NAME}\t%{VERSION}-%{RELEASE}\t%{ARCH}\n"
            found = texts.rpm_packages(_told("rpm", "-qa", "--queryformat", form))
            if not found and shutil.which("rpm"):
                # An empty answer would mean that everything was removed.
                raise OSError(errno.EAGAIN, "rpm told of no package", "rpm")
            return found
        return texts.with_pending(texts.dpkg_packages(status), self._pending())

    def _pending(self) -> dict[str, tuple[str, bool]]:
        """Asked for seldom: working it out takes about a second of processor time."""
        at, held = self._upgrades
        if not at or not 0 <= time.monotonic() - at < UPGRADES_EVERY:
            said = _told("apt-get", "--simulate", "-o", "Debug::NoLocking=true", "-qq", "upgrade")
            held = texts.pending_upgrades(said)
            self._upgrades = (time.monotonic(), held)
        return held

    @staticmethod
    def _accounts() -> list[Item]:
        sudoers = ""
        shadow: str | None = None
        if os.access("/etc/sudoers", os.R_OK):
            sudoers = "\n".join(_text(p) for p in ["/etc/sudoers", *sorted(glob.glob("/etc/sudoers.d/*"))[:50]])
        if os.access("/etc/shadow", os.R_OK):
            shadow = _text("/etc/shadow")
        return texts.accounts(_text("/etc/passwd"), _text("/etc/group"), sudoers, shadow)

    @staticmethod
    def _ports() -> list[Item]:
        return [
            {"name": f"tcp {one.port}", "address": one.address, "process": one.process, "user": one.user}
            for one in listening()
        ]

    @staticmethod
    def _units() -> list[Item]:
        if os.path.isdir("/run/systemd/system"):
            plain = ("--no-legend", "--plain", "--type=service", "--no-pager")
            return texts.units(
                _told("systemctl", "list-unit-files", *plain), _told("systemctl", "list-units", "--all", *plain)
            )
        return [{"name": p.name, "enabled": "script"} for p in sorted(Path("/etc/init.d").glob("*"))[:500]]

    @staticmethod
    def _schedules() -> list[Item]:
        found = texts.crontab(_text("/etc/crontab"), "crontab", None)
        for path in _files(["/etc/cron.d/*"]):
            found += texts.crontab(_text(path), f"cron.d/{os.path.basename(path)}", None)
        for path in _files(["/var/spool/cron/crontabs/*", "/var/spool/cron/*"]):
            user = os.path.basename(path)
            found += texts.crontab(_text(path), f"of {user}", user)
        for when in ("hourly", "daily", "weekly", "monthly"):
            for path in _files([f"/etc/cron.{when}/*"]):
                found.append({"name": f"cron.{when}: {os.path.basename(path)}", "when": f"@{when}", "user": "root"})
        if os.path.isdir("/run/systemd/system"):
            plain = ("--no-legend", "--plain", "--type=timer", "--no-pager")
            found += texts.timers(_told("systemctl", "list-unit-files", *plain))
        return found

    @staticmethod
    def _volumes() -> list[Item]:
        return [
            {
                "name": p.mountpoint,
                "device": p.device,
                "type": p.fstype,
                "mode": "ro" if "ro" in p.opts.split(",") else "rw",
            }
            for p in psutil.disk_partitions(all=True)
            if is_storage(p.fstype, p.mountpoint)
        ]

    @staticmethod
    def _interfaces() -> list[Item]:
        states = psutil.net_if_stats()
        found = []
        for name, held in psutil.net_if_addrs().items():
            addresses = sorted(a.address.split("%")[0] for a in held if a.family.name in ("AF_INET", "AF_INET6"))
            hardware = next((a.address for a in held if a.family.name in ("AF_PACKET", "AF_LINK")), "")
            state = states.get(name)
            found.append(
                {
                    "name": name,
                    "addresses": addresses,
                    "hardware": hardware,
                    "mtu": state.mtu if state else 0,
                    "up": bool(state and state.isup),
                }
            )
        return found

    def _certificates(self) -> list[Item]:
        found = []
        for path in _files(self._places):
            try:
                if os.path.getsize(path) > MOST_CERTIFICATE:
                    continue
                held = texts.certificates_in(_text(path))
            except OSError:
                # Often a key lies in the same file, and is not ours to read.
                continue
            if held:
                found.append({"name": path, "pem": held[0]})
        return found

    @staticmethod
    def _boot() -> list[Item]:
        # The kernel refuses a large read of a setting.
        settings = {name: said(f"/proc/sys/{name.replace('.', '/')}", 4096).strip() for name in texts.SETTINGS}
        target = os.path.realpath("/etc/systemd/system/default.target")
        known = os.path.basename(target) if os.path.exists(target) else ""
        return texts.boot(platform.release(), _text("/proc/cmdline"), settings, known)

    @staticmethod
    def _configuration() -> list[Item]:
        found = []
        for path in _files(CONFIGURATION_PLACES):
            try:
                content = Path(path).read_bytes()[:LARGEST]
            except OSError:
                continue
            found.append({"name": path, "digest": hashlib.sha256(content).hexdigest()[:16], "size": len(content)})
        return found
