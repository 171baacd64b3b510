"""The inventory of a Linux host that is read by commands: the script that asks, and the reading of its answer.

An ordinary account sees most of it; what only root may see (who listens, sudoers, passwords) is left out.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping

from balise.api.inventory import InventoryKind
from balise.collect import procfs
from balise.collect.inventory import CERTIFICATE_PLACES, CONFIGURATION_PLACES, MOST_CERTIFICATE, MOST_FILES
from balise.collect.ports import sockets_in
from balise.collect.system import is_storage
from balise.core.inventory import texts
from balise.core.inventory.texts import Item

_FILE = "@file "


def _each(places: Iterable[str], command: str) -> str:
    """A command for every file that is there, after a line with its path."""
    return (
        f'n=0; for f in {" ".join(places)}; do [ -f "$f" ] && [ -r "$f" ] && [ $n -lt {MOST_FILES} ] || continue; '
        f'n=$((n+1)); echo "{_FILE}$f"; {command}; done'
    )


_QUERY = "'${Package}\\t${Version}\\t${Architecture}\\t${db:Status-Status}\\n'"
_RPM = "'%{NAME}\\t%{VERSION}-%{RELEASE}\\t%{ARCH}\\n'"
_PLAIN = "--no-legend --plain --no-pager"
_SYSTEMD = "[ -d /run/systemd/system ] &&"
SCRIPT: Mapping[str, str] = {
    "passwd": "cat /etc/passwd",
    "group": "cat /etc/group",
    "sudoers": "cat /etc/sudoers /etc/sudoers.d/*",
    "dpkg": f"dpkg-query -W -f={_QUERY}",
    "rpm": f"rpm -qa --queryformat {_RPM}",
    "tcp": "cat /proc/net/tcp /proc/net/tcp6",
    "unit-files": f"{_SYSTEMD} systemctl list-unit-files {_PLAIN} --type=service",
    "units": f"{_SYSTEMD} systemctl list-units --all {_PLAIN} --type=service",
    "timers": f"{_SYSTEMD} systemctl list-unit-files {_PLAIN} --type=timer",
    "scripts": "[ -d /run/systemd/system ] || ls /etc/init.d",
    "crontab": "cat /etc/crontab",
    "cron-files": _each(["/etc/cron.d/*"], 'head -c 65536 "$f"; echo'),
    "cron-periods": "ls -1 /etc/cron.hourly/* /etc/cron.daily/* /etc/cron.weekly/* /etc/cron.monthly/*",
    "mounts": "cat /proc/mounts",
    "addresses": "ip -o addr show",
    "hardware": "cd /sys/class/net && for i in *; do "
    'echo "$i $(cat $i/address || echo -) $(cat $i/mtu || echo 0) $(cat $i/operstate || echo -)"; done',
    "route": "cat /proc/net/route",
    "route6": "cat /proc/net/ipv6_route",
    "certificates": _each(CERTIFICATE_PLACES, f'head -c {MOST_CERTIFICATE} "$f"; echo'),
    "release": "uname -r",
    "command-line": "cat /proc/cmdline",
    "settings": "; ".join(f"echo {name} $(cat /proc/sys/{name.replace('.', '/')})" for name in texts.SETTINGS),
    "target": "[ -e /etc/systemd/system/default.target ] && readlink -f /etc/systemd/system/default.target",
    "configuration": _each(CONFIGURATION_PLACES, 'echo $(sha256sum < "$f") $(wc -c < "$f")'),
}  # fmt: skip
"""What is asked, by the name of the part of the answer."""
PENDING: Mapping[str, str] = {"pending": "apt-get --simulate -o Debug::NoLocking=true -qq upgrade"}
"""What is asked seldom: working it out takes a second of processor time and more."""


def by_file(text: str) -> list[tuple[str, str]]:
    """What `_each` printed: paths, and what was said of each."""
    found = re.split(rf"^{re.escape(_FILE)}(/[^\n]*)\n", text, flags=re.MULTILINE)
    return list(zip(found[1::2], found[2::2], strict=True))


ALWAYS: frozenset[InventoryKind] = frozenset(("packages", "accounts", "groups", "interfaces", "boot"))
"""What every Linux has some of: none of it means that it was not told, and not that all of it is gone."""


def problem_of(kind: InventoryKind, items: list[Item]) -> str:
    """Why a kind that was read is no collection of it; empty when it is one."""
    return (
        f"the host told of no {kind}: may the account look, and are they dpkg's or rpm's?"
        if (kind in ALWAYS and not items)
        else ""
    )


def inventory_of(parts: Mapping[str, str]) -> dict[InventoryKind, list[Item]]:
    """Every kind of inventory that the answer tells."""

    def get(name: str) -> str:
        return parts.get(name, "")

    settings = dict(line.partition(" ")[::2] for line in get("settings").splitlines() if " " in line)
    target = get("target").strip().rpartition("/")[2]
    units = texts.units(get("unit-files"), get("units"))
    return {
        "accounts": texts.accounts(get("passwd"), get("group"), get("sudoers")),
        "groups": texts.groups(get("group")),
        "packages": _packages(get("dpkg"), get("rpm"), get("pending")),
        "ports": _ports(get("tcp"), get("passwd")),
        "units": units or [{"name": name, "enabled": "script"} for name in get("scripts").split()[:500]],
        "schedules": _schedules(parts),
        "volumes": _volumes(get("mounts")),
        "interfaces": _interfaces(get("hardware"), get("addresses")),
        "routes": texts.routes(get("route"), get("route6")),
        "certificates": [
            {"name": path, "pem": held[0]}
            for path, text in by_file(get("certificates"))
            if (held := texts.certificates_in(text))
        ],
        "boot": texts.boot(get("release"), get("command-line"), settings, target),
        "configuration": _configuration(get("configuration")),
    }


def _ports(tcp: str, passwd: str) -> list[Item]:
    """What listens and whose it is; which process it is only root could say."""
    names = {p[2]: p[0] for line in passwd.splitlines() if len(p := line.split(":")) > 2}
    found = {one.port: one for one in reversed(list(sockets_in(tcp)))}
    return [
        {"name": f"tcp {n}", "address": one.address, "process": "", "user": names.get(str(one.user), str(one.user))}
        for n, one in sorted(found.items())
    ]


def _packages(dpkg: str, rpm: str, pending: str) -> list[Item]:
    if not dpkg.strip():
        return texts.rpm_packages(rpm)
    rows = (line.split("\t") for line in dpkg.splitlines())
    return texts.with_pending(
        texts.unique(
            {"name": r[0], "version": r[1]} | ({"architecture": r[2]} if r[2] != "all" else {})
            for r in rows
            if len(r) == 4 and r[3] == "installed"
        ),
        texts.pending_upgrades(pending),
    )


def _schedules(parts: Mapping[str, str]) -> list[Item]:
    found = texts.crontab(parts.get("crontab", ""), "crontab", None)
    for path, text in by_file(parts.get("cron-files", "")):
        found += texts.crontab(text, f"cron.d/{path.rpartition('/')[2]}", None)
    for path in parts.get("cron-periods", "").splitlines():
        folder, _, name = path.rpartition("/")
        when = folder.rpartition(".")[2]
        if name and when in ("hourly", "daily", "weekly", "monthly"):
            found.append({"name": f"cron.{when}: {name}", "when": f"@{when}", "user": "root"})
    return found + texts.timers(parts.get("timers", ""))


def _volumes(mounts: str) -> list[Item]:
    return [
        {"name": place, "device": device, "type": kind, "mode": "ro" if read_only else "rw"}
        for place, (device, kind, read_only) in procfs.mounted(mounts).items()
        if is_storage(kind, place)
    ]


def _interfaces(hardware: str, addresses: str) -> list[Item]:
    """Lines `NAME HARDWARE MTU STATE`, and what `ip -o addr show` says (ip-address(8))."""
    held: dict[str, list[str]] = {}
    for words in (line.split() for line in addresses.splitlines()):
        if len(words) > 3 and words[2] in ("inet", "inet6"):
            held.setdefault(words[1].partition("@")[0], []).append(words[3].partition("/")[0])
    return [
        {
            "name": w[0],
            "addresses": sorted(held.get(w[0], [])),
            "hardware": "" if w[1] == "-" else w[1],
            "mtu": int(w[2]) if w[2].isdecimal() else 0,
            # A loopback interface never says more than that it does not know.
            "up": w[3] in ("up", "unknown"),
        }
        for w in (line.split() for line in hardware.splitlines())
        if len(w) == 4
    ]


def _configuration(text: str) -> list[Item]:
    rows = ((path, said.split()) for path, said in by_file(text))
    return [{"name": path, "digest": w[0][:16], "size": int(w[-1])} for path, w in rows if len(w) >= 2]
