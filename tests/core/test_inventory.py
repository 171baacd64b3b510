"""Inventory: a system's own texts as items, and what differs between two collections."""

from __future__ import annotations

import pwd
from pathlib import Path

from balise.collect.inventory import Inventory
from balise.core.inventory import texts
from balise.core.inventory.compare import by_name, changes, most_common, sentence

SUDOERS = "Defaults env_reset\nroot ALL=(ALL:ALL) ALL\n%sudo ALL=(ALL:ALL) ALL # all\nmate ALL=(ALL) NOPASSWD: ALL\nodd ALL=/bin/ls\n"


def test_accounts_say_who_may_become_root_and_how() -> None:
    passwd = "root:x:0:0:root:/root:/bin/bash\nmate:x:1000:1000::/home/mate:/bin/sh\ndeck:x:1001:27::/:/bin/sh\n"
    passwd += "toor:x:0:0::/:/bin/sh\nodd:x:1002:1002::/:/bin/sh\nbroken line\n"
    found = {
        i["name"]: i
        for i in texts.accounts(passwd, "sudo:x:27:purser\nmate:x:1000:\n", SUDOERS, "mate:!:1\nroot:$y$x:1\n")
    }
    assert found["root"]["becomes_root"].startswith("it is root") and found["toor"]["becomes_root"] == "it is root"
    assert found["mate"]["becomes_root"] == "by mate" and found["mate"]["password"] == "none"
    assert found["deck"]["becomes_root"] == "by %sudo" and "becomes_root" not in found["odd"]
    assert found["root"]["password"] == "set"


def test_packages_and_what_is_pending_are_read() -> None:
    status = (
        "Package: openssl\nStatus: install ok installed\nArchitecture: amd64\nVersion: 3.0.17-1\nDescription: x\n more: y\n\n"
        "Package: gone\nStatus: deinstall ok config-files\nVersion: 1\n\nPackage: bash\nStatus: install ok installed\nVersion: 5.2\n"
    )
    assert texts.dpkg_packages(status) == [
        {"name": "openssl", "version": "3.0.17-1", "architecture": "amd64"}, {"name": "bash", "version": "5.2"},
    ]  # fmt: skip
    simulated = "Inst openssl [3.0.17-1] (3.0.18-1 Debian-Security:12/stable-security [amd64])\nInst bash [5.2] (5.3 Debian:12.9/stable [amd64])\n"
    assert texts.pending_upgrades(simulated) == {"openssl": ("3.0.18-1", True), "bash": ("5.3", False)}


def test_schedules_routes_and_boot_are_read() -> None:
    table = "SHELL=/bin/sh\n# no\n17 * * * * root cd / && run-parts /etc/cron.hourly\n@daily deck /opt/lamp --night\n"
    assert [(i["name"], i["when"], i["user"]) for i in texts.crontab(table, "crontab", None)] == [
        ("crontab: cd / && run-parts /etc/cron.hourly", "17 * * * *", "root"),
        ("crontab: /opt/lamp --night", "@daily", "deck"),
    ]
    # Iface Destination Gateway Flags RefCnt Use Metric Mask: 192.0.2.0/24 and a default route by 192.0.2.1.
    routes = "Iface\tDestination\tGateway\tFlags\tRefCnt\tUse\tMetric\tMask\neth0\t00000000\t010200C0\t0003\t0\t0\t0\t00000000\n"
    routes += "eth0\t000200C0\t00000000\t0001\t0\t0\t0\t00FFFFFF\n"
    assert texts.routes(routes) == [
        {"name": "default", "interface": "eth0", "gateway": "192.0.2.1"}, {"name": "192.0.2.0/24", "interface": "eth0"},
    ]  # fmt: skip
    found = {i["name"]: i["value"] for i in texts.boot("6.1", "root=/dev/vda quiet", {"vm.swappiness": "60\n"})}
    assert found == {"kernel": "6.1", "boot root": "/dev/vda", "boot quiet": "yes", "kernel vm.swappiness": "60"}


def test_differences_are_told_in_a_sentence() -> None:
    before = by_name([{"name": "openssl", "version": "3.0.17"}, {"name": "mate", "shell": "/bin/sh", "state": "x"}])
    after = by_name(
        [{"name": "openssl", "version": "3.0.18"}, {"name": "mate", "shell": "/bin/sh", "state": "y"}, {"name": "new"}]
    )
    told = [sentence("packages", c) for c in changes(before, after)]
    assert told == ["package new was added", "package openssl: version 3.0.17 → 3.0.18"]
    assert [sentence("accounts", c) for c in changes({"mate": {"id": 7}}, {})] == ["account mate was removed (id 7)"]
    assert most_common([{"a": "1", "b": "x"}, {"a": "1"}, {"a": "2"}]) == {"a": "1"}


def test_this_machine_is_read_as_it_is() -> None:
    inventory = Inventory()
    accounts = {i["name"]: i for i in inventory.read("accounts")}
    assert {a.pw_name for a in pwd.getpwall()} == set(accounts)
    assert accounts["root"]["id"] == 0
    mounted = {line.split()[1] for line in Path("/proc/mounts").read_text().splitlines()}
    volumes = {i["name"] for i in inventory.read("volumes")}
    assert "/" in volumes and volumes <= mounted
    for kind in inventory.kinds:
        if kind != "packages":
            assert all(item["name"] for item in inventory.read(kind)), kind
