"""Disturbances that are no cause of anything, as any system has them each day."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from balise.core.trail.things import Thing
from worlds.faults import Place
from worlds.system import Service

Quirk = Callable[[Place], None]


def _any(p: Place) -> Service:
    return p.a_service(needed=False)


def harmless_change(p: Place) -> None:
    service = _any(p)
    p.happens(
        "change",
        Thing("change", f"{service.name} 2.{int(p.rng.integers(40))}", service.host, service.name),
        "a new version",
    )


def package(p: Place) -> None:
    host = _any(p).host
    p.happens("change", Thing("change", f"library {int(p.rng.integers(400))}", host), "a package was updated")


def backup(p: Place) -> None:
    """As every night: what is usual at this hour says so."""
    host = _any(p).host
    for held in (p.strain.cpu, p.strain.disk):
        held[host] += 0.4 * p.strain.profile(p.at, p.until, 30)
    p.strain.usual[host] = p.strain.profile(p.at, p.until, 30)
    p.happens("process", Thing("process", "nightly-copy", host), "began", share=0.8, usual=0.9, deviation=8.0)


def busier_day(p: Place) -> None:
    front = [s for s in p.system.services.values() if s.tier == min(x.tier for x in p.system.services.values())]
    for service in front:
        p.strain.more[service.node] += p.strain.profile(p.at, p.until, 1200, 0.5)


def restart_elsewhere(p: Place) -> None:
    service = _any(p)
    p.strain.more[service.node] -= p.strain.profile(p.at, p.at + 45, 5, 0.9)
    p.happens(
        "state", Thing("service", service.name, service.host, service.name), "was started again", deviation=6.0, off=5.0
    )


def noisy_probe(p: Place) -> None:
    service = _any(p)
    p.happens(
        "state",
        Thing("service", f"probe of {service.name}", "", f"probe {service.name}"),
        "failed once",
        deviation=5.0,
        off=15.0,
    )


def new_words(p: Place) -> None:
    service = _any(p)
    p.pattern(service.host, service.name, "starting scheduled task", deviation=float(p.rng.uniform(5, 12)))


def long_session(p: Place) -> None:
    service = p.a_service(("database",))
    p.happens(
        "session",
        Thing("session", f"report {int(p.rng.integers(99))}", service.host, service.name),
        "began",
        share=float(p.rng.uniform(0, 0.1)),
    )


def short_job(p: Place) -> None:
    host = _any(p).host
    p.strain.cpu[host] += p.strain.profile(p.at, p.at + 90, 5, 0.4)
    p.happens(
        "process",
        Thing("process", f"cron-{int(p.rng.integers(20))}", host),
        "began",
        share=float(p.rng.uniform(0.3, 0.8)),
        until=p.at + 90,
        deviation=5.0,
    )


def outlier(p: Place) -> None:
    node = _any(p).node
    place = int(np.searchsorted(p.strain.times, p.at))
    p.strain.wait[node][place : place + 2] += 4.0


def gap(p: Place) -> None:
    p.strain.gaps.append((_any(p).host, p.at, p.at + float(p.rng.uniform(60, 400))))


def clock_jump(p: Place) -> None:
    host = _any(p).host
    p.happens("change", Thing("change", "clock", host), "the clock was set", off=30.0)


def signed_in(p: Place) -> None:
    host = _any(p).host
    p.happens("session", Thing("user", "operator", host), "signed in", share=0.0)


def warm_room(p: Place) -> None:
    machine = str(p.rng.choice(p.system.machines))
    p.strain.heat[machine] += p.strain.profile(p.at, p.until, 900, 0.2)


def copied_files(p: Place) -> None:
    host = _any(p).host
    volume = p.system.hosts[host].volumes[0]
    p.strain.volume[host, volume] += p.strain.profile(p.at, p.until + 7200, 60, 0.15)


def cold_cache(p: Place) -> None:
    service = p.a_service(("cache", "database"))
    p.strain.disk[service.host] += p.strain.profile(p.at, p.at + 120, 5, 0.15)


def brief_lock(p: Place) -> None:
    """A session holds a few others for a minute: as sure of itself as one that holds a whole system."""
    service = p.a_service(("database",))
    p.strain.wait[service.node] += p.strain.profile(p.at, p.at + 60, 5, 1.5)
    p.happens("session", Thing("session", f"report {int(p.rng.integers(99))}", service.host, service.name),
              "began and holds locks", share=float(p.rng.uniform(0.6, 1)), deviation=4 + float(p.rng.uniform(1, 4)),
              holds="sessions wait for it")  # fmt: skip


def loud_words(p: Place) -> None:
    service = _any(p)
    p.pattern(service.host, service.name if p.rng.random() < 0.5 else "", "cannot read the optional settings",
              deviation=float(p.rng.uniform(8, 45)))  # fmt: skip


def scanner(p: Place) -> None:
    """One address looks for what is not there, and is refused."""
    service = _any(p)
    thing = Thing("address", f"203.0.113.{int(p.rng.integers(1, 255))}", service.host)
    p.happens("pattern", thing, "not found", share=float(p.rng.uniform(0.7, 1)), off=15.0,
              deviation=float(p.rng.uniform(5, 20)), holds="lines")  # fmt: skip


def fleet_update(p: Place) -> None:
    """The same package on many hosts within minutes."""
    name = f"library {int(p.rng.integers(400))}"
    for host in p.system.hosts:
        if p.rng.random() < 0.3:
            p.happens("change", Thing("change", name, host), "a package was updated", late=float(p.rng.uniform(0, 300)))


def busy_process(p: Place) -> None:
    host = _any(p).host
    p.strain.cpu[host] += p.strain.profile(p.at, p.until, 20, 0.06)
    p.happens("process", Thing("process", f"indexer-{int(p.rng.integers(20))}", host), "takes more of the processor",
              share=float(p.rng.uniform(0.5, 1)), deviation=float(p.rng.uniform(7, 12)), holds="more than before")  # fmt: skip


def more_of_a_query(p: Place) -> None:
    service = p.a_service(("database",))
    p.happens("session", Thing("query", f"select {int(p.rng.integers(100_000))}", service.host, service.name),
              "runs in more sessions than before", share=float(p.rng.uniform(0.4, 1)), off=60.0,
              deviation=4 + float(p.rng.uniform(3, 6)), holds="more at a time", sort="traffic")  # fmt: skip


QUIRKS: dict[str, Quirk] = {
    "harmless change": harmless_change, "package": package, "backup": backup, "busier day": busier_day,
    "restart elsewhere": restart_elsewhere, "noisy probe": noisy_probe, "new words": new_words,
    "long session": long_session, "short job": short_job, "outlier": outlier, "gap": gap, "clock jump": clock_jump,
    "brief lock": brief_lock, "loud words": loud_words, "scanner": scanner, "fleet update": fleet_update,
    "busy process": busy_process, "more of a query": more_of_a_query, "signed in": signed_in, "warm room": warm_room, "copied files": copied_files, "cold cache": cold_cache,
}  # fmt: skip
