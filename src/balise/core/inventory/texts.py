"""A Unix system's own texts as items of its inventory. Each item has a `name`."""

from __future__ import annotations

import ipaddress
import re
import shlex
import struct
from collections.abc import Iterable, Mapping
from typing import Any

Item = dict[str, Any]
MOST_WORDS = 200
_SECURITY = re.compile(r"[Ss]ecurity")
_UPGRADE = re.compile(r"Inst (?P<name>\S+) \[(?P<old>[^\]]+)\] \((?P<new>\S+) (?P<origin>[^)]*)\)")
_SHORTHAND = re.compile(r"@(reboot|yearly|annually|monthly|weekly|daily|midnight|hourly)\s+(.*)")
ADMIN_GROUPS = ("sudo", "wheel", "admin", "root")
SETTINGS = (
    "fs.file-max", "kernel.panic", "kernel.pid_max", "kernel.randomize_va_space", "kernel.sysrq", "kernel.core_pattern",
    "net.core.somaxconn", "net.ipv4.conf.all.rp_filter", "net.ipv4.ip_forward", "net.ipv4.tcp_syncookies",
    "net.ipv6.conf.all.disable_ipv6", "net.ipv6.conf.all.forwarding", "vm.dirty_ratio", "vm.overcommit_memory",
    "vm.swappiness",
)  # fmt: skip
"""Kernel settings that are worth a look, by their names in /proc/sys."""


def dpkg_packages(status: str) -> list[Item]:
    """/var/lib/dpkg/status: what is installed, with its version."""
    found = []
    for block in status.split("\n\n"):
        fields = {k: v for line in block.splitlines() if (pair := _pair(line)) for k, v in [pair]}
        if fields.get("Status", "").endswith(" installed") and fields.get("Package"):
            item = {"name": fields["Package"], "version": fields.get("Version", "")}
            if fields.get("Architecture") not in (None, "all"):
                item["architecture"] = fields["Architecture"]
            found.append(item)
    return unique(found)


def _pair(line: str) -> tuple[str, str] | None:
    if line.startswith((" ", "\t")):
        return None
    key, there, value = line.partition(": ")
    return (key, value) if there else None


def unique(items: Iterable[Item]) -> list[Item]:
    """Of several of a name (two architectures, two kernels) each gets a name of its own."""
    seen: dict[str, int] = {}
    out = []
    for item in items:
        name = str(item["name"])
        seen[name] = seen.get(name, 0) + 1
        if seen[name] > 1:
            mark = item.get("architecture") or item.get("version") or seen[name]
            item = {**item, "name": f"{name}:{mark}"}
        out.append(item)
    return out


def rpm_packages(text: str) -> list[Item]:
    """`rpm -qa --queryformat '%{NAME}\\t%{VERSION}-%{RELEASE}\\t%{ARCH}\\n'`."""
    rows = (line.split("\t") for line in text.splitlines())
    return unique({"name": r[0], "version": r[1], "architecture": r[2]} for r in rows if len(r) == 3)


def pending_upgrades(simulation: str) -> dict[str, tuple[str, bool]]:
    """What `apt-get --simulate upgrade` would install: the new version, and whether it closes a security hole."""
    return {m["name"]: (m["new"], bool(_SECURITY.search(m["origin"]))) for m in _UPGRADE.finditer(simulation)}


def with_pending(packages: Iterable[Item], pending: Mapping[str, tuple[str, bool]]) -> list[Item]:
    """Packages with the version that waits to be installed, and whether it closes a security hole."""
    found = []
    for item in packages:
        if item["name"] in pending:
            newer, secure = pending[item["name"]]
            item = {**item, "pending": newer, **({"security": True} if secure else {})}
        found.append(item)
    return found


def accounts(passwd: str, group: str, sudoers: str = "", shadow: str | None = None) -> list[Item]:
    """/etc/passwd, with who may become root and how. `shadow` only says which accounts have no password."""
    members = {g["name"]: g["members"] for g in groups(group)}
    numbers = {int(g["id"]): g["name"] for g in groups(group)}
    locked = _locked(shadow) if shadow is not None else {}
    rules = _sudo_rules(sudoers)
    found = []
    for line in passwd.splitlines():
        part = line.split(":")
        if len(part) < 7 or not part[2].isdecimal() or not part[3].isdecimal():
            continue
        name, uid, gid = part[0], int(part[2]), int(part[3])
        mine = sorted({g for g, who in members.items() if name in who} | {numbers.get(gid, str(gid))})
        item: Item = {"name": name, "id": uid, "group": numbers.get(gid, str(gid)), "home": part[5], "shell": part[6]}
        ways = (["it is root"] if uid == 0 else []) + [
            f"by {rule}" for rule in rules if rule == name or (rule.startswith("%") and rule[1:] in mine)
        ]
        ways += [f"in the group {g}" for g in mine if g in ADMIN_GROUPS and uid != 0 and f"by %{g}" not in ways]
        if ways:
            item["becomes_root"] = ", ".join(ways)
        if name in locked:
            item["password"] = locked[name]
        found.append(item)
    return found


def _locked(shadow: str) -> dict[str, str]:
    words = {}
    for line in shadow.splitlines():
        part = line.split(":")
        if len(part) > 2:
            words[part[0]] = "none" if part[1] in ("*", "!", "!*", "!!") else "empty" if not part[1] else (
                "locked" if part[1].startswith("!") else "set"
            )  # fmt: skip
    return words


def _sudo_rules(sudoers: str) -> list[str]:
    """Whom a sudoers file names as allowed to run everything."""
    rules = []
    for line in sudoers.splitlines():
        words = line.split("#", maxsplit=1)[0].split()
        if len(words) >= 2 and "=" in line and words[-1].endswith("ALL") and not words[0].startswith("Defaults"):
            rules.append(words[0])
    return rules


def groups(text: str) -> list[Item]:
    """/etc/group."""
    found: list[Item] = []
    for line in text.splitlines():
        part = line.split(":")
        if len(part) >= 4 and part[2].isdecimal():
            found.append({"name": part[0], "id": int(part[2]), "members": sorted(m for m in part[3].split(",") if m)})
    return found


def crontab(text: str, where: str, user: str | None) -> list[Item]:
    """A crontab; with `user` None each line names its own, as those of the system do."""
    found = []
    for line in text.splitlines():
        line = line.strip()
        if not line or line.startswith("#") or re.match(r"[A-Za-z_]+\s*=", line):
            continue
        short = _SHORTHAND.match(line)
        words = line.split(None, 5)
        when, rest = (f"@{short[1]}", short[2]) if short else (" ".join(words[:5]), words[5] if len(words) > 5 else "")
        who = user
        if who is None:
            who, _, rest = rest.partition(" ")
        if rest:
            found.append({"name": f"{where}: {rest.strip()[:MOST_WORDS]}", "when": when, "user": who})
    return unique(found)


def units(files: str, running: str) -> list[Item]:
    """`systemctl list-unit-files` and `list-units`, both `--no-legend --plain --type=service`."""
    states = {w[0]: w[2] for line in running.splitlines() if len(w := line.split(None, 4)) >= 4}
    found = []
    for line in files.splitlines():
        words = line.split()
        if len(words) >= 2 and "@." not in words[0]:
            item: Item = {"name": words[0], "enabled": words[1]}
            if states.get(words[0]) == "failed":
                item["state"] = "failed"
            found.append(item)
    return found


def timers(text: str) -> list[Item]:
    """`systemctl list-unit-files --type=timer --no-legend --plain`."""
    rows = (line.split() for line in text.splitlines())
    return [{"name": f"timer: {w[0]}", "when": "see the timer", "enabled": w[1]} for w in rows if len(w) >= 2]


def routes(ipv4: str, ipv6: str = "") -> list[Item]:
    """/proc/net/route and /proc/net/ipv6_route, without what the kernel makes for its own addresses."""
    found = []
    for line in ipv4.splitlines()[1:]:
        w = line.split()
        if len(w) >= 8 and int(w[3], 16) & 1:
            prefix = int(w[7], 16).bit_count()
            found.append(_route(f"{_ipv4(w[1])}/{prefix}", _ipv4(w[2]), w[0]))
    for line in ipv6.splitlines():
        w = line.split()
        if len(w) >= 10 and w[9] != "lo" and not w[0].startswith(("fe80", "ff")):
            target = f"{ipaddress.IPv6Address(bytes.fromhex(w[0]))}/{int(w[1], 16)}"
            found.append(_route(target, str(ipaddress.IPv6Address(bytes.fromhex(w[4]))), w[9]))
    return unique(found)


def _ipv4(text: str) -> str:
    # The kernel writes the number in the machine's own byte order.
    return str(ipaddress.IPv4Address(struct.pack("<I", int(text, 16))))


def _route(target: str, gateway: str, card: str) -> Item:
    item = {"name": "default" if target in ("0.0.0.0/0", "::/0") else target, "interface": card}
    if gateway not in ("0.0.0.0", "::"):  # noqa: S104  it means that there is none
        item["gateway"] = gateway
    return item


def boot(release: str, command_line: str, settings: Mapping[str, str], target: str = "") -> list[Item]:
    """The kernel, how it was started, and its settings."""
    words = {"kernel": release.strip(), "default target": target.strip()}
    for word in _split(command_line):
        key, _, value = word.partition("=")
        words[f"boot {key}"] = value or "yes"
    words |= {f"kernel {name}": " ".join(value.split()) for name, value in settings.items()}
    return [{"name": name, "value": value[:300]} for name, value in words.items() if value]


def _split(text: str) -> list[str]:
    try:
        return shlex.split(text)
    except ValueError:
        return text.split()


def certificates_in(pem: str) -> list[str]:
    """The certificates of a PEM file (RFC 7468), each whole; keys are left where they are."""
    return re.findall(r"-----BEGIN CERTIFICATE-----[A-Za-z0-9+/=\s]{1,20000}-----END CERTIFICATE-----", pem)
