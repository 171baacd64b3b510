"""What a host is: its name, system, size and addresses."""

from __future__ import annotations

import os
import platform
import socket
import time
from pathlib import Path

import psutil

from balise import __version__
from balise.api.hosts import Facts


def _first_line(path: str) -> str:
    try:
        return Path(path).read_text("utf-8", "replace").strip().splitlines()[0][:100]
    except (OSError, IndexError):
        return ""


def _system_name() -> str:
    try:
        return platform.freedesktop_os_release().get("PRETTY_NAME", "")
    except OSError:
        return platform.platform()


def _virtual() -> str:
    if os.path.exists("/.dockerenv") or os.path.exists("/run/.containerenv"):
        return "container"
    if "hypervisor" in _cpu_flags():
        return "virtual machine"
    return "physical" if _cpu_flags() else ""


def _cpu_flags() -> set[str]:
    try:
        with open("/proc/cpuinfo", encoding="utf-8", errors="replace") as file:
            return next((set(line.split(":", 1)[1].split()) for line in file if line.startswith("flags")), set())
    except OSError:
        return set()


def read_facts(name: str | None = None) -> Facts:
    """The facts of this machine; `name` overrides the name it calls itself."""
    addresses = [
        address.address.split("%")[0]
        for card in psutil.net_if_addrs().values()
        for address in card
        if address.family in (socket.AF_INET, socket.AF_INET6) and not address.address.startswith(("127.", "::1"))
    ]
    return Facts(
        host_name=name or socket.gethostname(),
        machine_id=_first_line("/etc/machine-id") or _first_line("/var/lib/dbus/machine-id"),
        os=_system_name()[:200],
        kernel=platform.release()[:200],
        architecture=platform.machine()[:40],
        cores=psutil.cpu_count() or 0,
        memory=psutil.virtual_memory().total,
        boot_time=psutil.boot_time(),
        addresses=addresses[:64],
        time_zone=time.strftime("%Z"),
        virtual=_virtual(),
        agent_version=__version__,
    )
