"""Services, applications and inventory of the made-up fleet, and how reading its services goes."""

from __future__ import annotations

import time
from typing import Any

from sqlalchemy.orm import Session

from balise.api.applications import ApplicationBody, ApplicationPart, Need
from balise.api.services import ServicePart, ServiceTurn
from balise.demo.fleet import FLEET, Ship
from balise.server.parts import Parts
from balise.store.state import tables

WHO = "demo"
APPLICATIONS = {
    "Booking": "Where passengers book: web servers, booking servers, database, cache and queue",
    "Boarding gates": "The gates at the quays, and the ticket look-up behind them",
    "Departures": "Timetable pages and the displays at the quays",
    "Office": "Mail, files and the ticket offices",
}
SERVICES: tuple[tuple[str, str, str, dict[str, Any], str], ...] = (
    ("book-db-n1", "booking", "postgresql", {"port": 5432, "database": "booking"}, "15.9"),
    ("book-db-s1", "booking", "postgresql", {"port": 5432, "database": "booking"}, "15.9"),
    ("book-cache-n1", "cache", "redis", {"port": 6379}, "7.0.15"),
    ("book-mq-n1", "queue", "rabbitmq", {"url": "http://127.0.0.1:15672/api/"}, "3.12.6"),
    ("web-n1", "nginx", "nginx", {"url": "http://127.0.0.1/nginx_status"}, "1.24.0"),
    ("web-n2", "nginx", "nginx", {"url": "http://127.0.0.1/nginx_status"}, "1.24.0"),
    ("book-app-n1", "booking", "tomcat", {"url": "http://127.0.0.1:8080/manager/"}, "10.1.20"),
    ("book-app-n2", "booking", "tomcat", {"url": "http://127.0.0.1:8080/manager/"}, "10.1.20"),
    ("mail-h1", "postfix", "postfix", {}, "3.7.11"),
    ("dns-h1", "dns", "dns", {"port": 53}, "9.18.24"),
    ("bastion-h1", "openssh", "openssh", {"port": 22}, "OpenSSH_9.2p1"),
)
_PACKAGES = {
    "openssl": "3.0.15-1", "bash": "5.2.15-2", "openssh-server": "1:9.2p1-2", "tzdata": "2026a-0", "curl": "7.88.1-10",
    "libc6": "2.36-9", "sudo": "1.9.13-3", "rsync": "3.2.7-1", "python3": "3.11.2-1", "ca-certificates": "20230311",
}  # fmt: skip
_OF_ROLE = {
    "database": {"postgresql-15": "15.9-0"}, "web": {"nginx": "1.24.0-1"}, "timetable": {"nginx": "1.24.0-1"},
    "application": {"openjdk-17-jre": "17.0.13", "tomcat10": "10.1.20-1"}, "mail": {"postfix": "3.7.11-0"},
    "dns": {"bind9": "9.18.24-1"}, "cache": {"redis-server": "7.0.15-1"}, "queue": {"rabbitmq-server": "3.12.6-1"},
}  # fmt: skip
_PORTS = {"database": ("postgres", 5432), "web": ("nginx", 443), "timetable": ("nginx", 443), "application": ("java", 8080),
          "cache": ("redis-server", 6379), "queue": ("beam.smp", 5672), "mail": ("master", 25), "dns": ("named", 53)}  # fmt: skip


RESTARTED = {"book-mq-n1": 29 * 3600.0, "web-n2": 46 * 3600.0}
"""Hosts whose services were out for a while in the past, and how many seconds ago that ended."""
OUT = 260.0


def furnish_services(console: Parts) -> None:
    """Services that the hosts' agents read. They are put in as they are: nothing of theirs can be reached."""

    def write(session: Session) -> None:
        for host, name, kit, target, version in SERVICES:
            known = console.directory.find(host)
            if known is None:
                continue
            since = session.get_one(tables.Host, known.id).created_at
            made = tables.Service(
                host=known.id,
                name=name,
                kit=kit,
                mode="resident",
                target=target,
                facts={"version": version},
                every=30.0,
                created_at=since,
            )
            session.add(made)
            session.flush()
            restarted = time.time() - RESTARTED.get(host, 0.0)
            told = [(since, "", "yes")]
            if since < restarted - OUT and host in RESTARTED:
                told += [(restarted - OUT, "yes", "no"), (restarted, "no", "yes")]
            session.add_all(
                tables.ServiceStep(service=made.id, at=at, what="answering", before=before, after=after)
                for at, before, after in told
            )

    console.state.write(write)
    for kit in dict.fromkeys(kit for _, _, kit, _, _ in SERVICES):
        document = console.kits.find(kit)
        if document is not None:
            # The rules are taken up with all others when the console begins.
            console.rules.ship(document.rules, f"the kit {kit}")


def told_services(console: Parts) -> None:
    """How reading the services goes, as agents would tell it."""
    made_up = {(host, name) for host, name, *_ in SERVICES}
    for service in console.services.all():
        if (service.host, service.name) not in made_up:
            continue
        kit = console.kits.find(service.kit)
        names = [part.part for part in kit.read if not part.optional] if kit is not None else []
        parts = [ServicePart(part=n, seconds=0.001 + len(n) * 0.0004) for n in names]
        console.service_health.note(service.id, ServiceTurn(problem=None, parts=parts, seconds=0.003 * len(parts)))


def furnish_applications(console: Parts) -> None:
    """Every group that people know by name as an application, with the needs that the fleet's model has."""
    services = {host: name for host, name, *_ in SERVICES}
    there = {ship.name: ship for ship in FLEET if console.directory.find(ship.name)}
    for position, (name, about) in enumerate(APPLICATIONS.items()):
        mine = [ship for ship in there.values() if ship.group == name]
        if not mine:
            continue
        wanted = dict.fromkeys(ship.name for ship in mine)
        for ship in mine:
            wanted.update(dict.fromkeys(need for need in ship.needs if need in there))
        parts = [ApplicationPart(name=host, host=host, service=services.get(host)) for host in wanted]
        needs = [_need(there[host], wanted) for host in wanted if set(there[host].needs) & set(wanted)]
        console.applications.put(name, ApplicationBody(about=about, position=position, parts=parts, needs=needs), WHO)


def _need(ship: Ship, wanted: dict[str, None]) -> Need:
    to = [need for need in ship.needs if need in wanted]
    # Web servers can do with one of the two booking servers; everybody else needs all that is named.
    return Need(from_=ship.name, to=to, at_least=1 if ship.role == "web" and len(to) > 1 else None)


def furnish_inventory(console: Parts) -> None:
    """What is on every host, as it was yesterday; and what some of them have other since this morning."""
    now = time.time()
    for ship in FLEET:
        known = console.directory.find(ship.name)
        if known is None or "Windows" in ship.os:
            continue
        for kind, items in inventory_of(ship).items():
            console.inventory.take(known.id, {"kind": kind, "items": items}, now - 26 * 3600)
        for at, kind, items in _later(ship):
            console.inventory.take(known.id, {"kind": kind, "items": items}, now - at)


def inventory_of(ship: Ship) -> dict[str, list[dict[str, Any]]]:
    """The inventory of a made-up host, by kind."""
    packages = {**_PACKAGES, **_OF_ROLE.get(ship.role, {})}
    process, port = _PORTS.get(ship.role, ("agent", 0))
    ports = [{"name": "tcp 22", "address": "0.0.0.0", "process": "sshd"}]  # noqa: S104  what it says of itself
    if port:
        ports.append({"name": f"tcp {port}", "address": ship.address, "process": process})
    return {
        "packages": [{"name": n, "version": v, **_pending(n)} for n, v in sorted(packages.items())],
        "accounts": [
            {"name": "root", "id": 0, "group": "root", "home": "/root", "shell": "/bin/bash", "becomes_root": "it is root"},
            {"name": "ops", "id": 1000, "group": "ops", "home": "/home/ops", "shell": "/bin/bash", "becomes_root": "by %sudo"},
            {"name": ship.role, "id": 998, "group": ship.role, "home": "/nonexistent", "shell": "/usr/sbin/nologin"},
        ],
        "groups": [{"name": "sudo", "id": 27, "members": ["ops"]}, {"name": "root", "id": 0, "members": []}],
        "ports": ports,
        "units": [{"name": f"{process}.service", "enabled": "enabled"}, {"name": "ssh.service", "enabled": "enabled"}],
        "volumes": [
            {"name": v.mountpoint, "device": v.device, "type": "ext4", "mode": "rw"} for v in ship.volumes
        ],
        "interfaces": [{"name": "eth0", "addresses": [ship.address], "mtu": 1500, "up": True}],
        "routes": [{"name": "default", "interface": "eth0", "gateway": ship.address.rsplit(".", 1)[0] + ".1"}],
        "boot": [{"name": "kernel", "value": "6.1.0-18-amd64"}, {"name": "kernel vm.swappiness", "value": "60"}],
    }  # fmt: skip


def _pending(package: str) -> dict[str, Any]:
    return {"pending": "3.0.16-1", "security": True} if package == "openssl" else {}


def _later(ship: Ship) -> list[tuple[float, str, list[dict[str, Any]]]]:
    """What was found later: seconds ago, the kind, and all of it."""
    held = inventory_of(ship)
    found: list[tuple[float, str, list[dict[str, Any]]]] = []
    if ship.name == "web-n1":
        newer = [{**i, "version": "1.24.0-2"} if i["name"] == "nginx" else i for i in held["packages"]]
        found.append((7 * 3600, "packages", newer))
        found.append((7 * 3600, "boot", [held["boot"][0], {"name": "kernel vm.swappiness", "value": "10"}]))
    if ship.name == "gate-s3":
        account = {"name": "rollout", "id": 1001, "group": "rollout", "home": "/home/rollout", "shell": "/bin/bash",
                   "becomes_root": "by rollout"}  # fmt: skip
        found.append((5 * 3600, "accounts", [*held["accounts"], account]))
    return found
