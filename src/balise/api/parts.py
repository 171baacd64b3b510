"""The parts of a system that are collected, and what holds for a host; apart from plans, which agents never read."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from pydantic import BaseModel, Field

from balise.api.remote import FollowedFile
from balise.api.services import ServiceTarget
from balise.api.sources import PathAsk
from balise.api.spans import seconds


@dataclass(frozen=True)
class PartAbout:
    """A part of a system that is collected: whether without being asked for, how often, and what that costs."""

    about: str
    cost: str
    on: bool = True
    every: str | None = None
    """How often, when that is not with all others."""


PARTS: Mapping[str, PartAbout] = {
    "cpu": PartAbout("time and shares of the processors, each of them too; the load", "0.3 ms"),
    "memory": PartAbout("memory and swap", "0.4 ms"),
    "filesystem": PartAbout("space and inodes of what is mounted", "0.5 ms"),
    "disk": PartAbout("bytes, operations, latency and queue of disks", "0.4 ms"),
    "network": PartAbout("bytes, packets, errors of interfaces", "0.3 ms"),
    "uptime": PartAbout("how long the system has been up", "0.1 ms"),
    "processes": PartAbout(
        "processes by state, the busiest programs, evidence of the busiest", "5 ms with 100 processes"
    ),
    "pressure": PartAbout("waiting for processor, memory, storage", "0.4 ms"),
    "kernel": PartAbout("context switches, interrupts, file handles, tracked connections, entropy", "0.7 ms"),
    "users": PartAbout("who is signed in, from where, what each uses", "0.05 ms while nobody is"),
    "clock": PartAbout("whether a time service keeps the clock, and how well", "0.2 ms"),
    "nfs": PartAbout("what goes to file servers, and how long they take", "0.2 ms without one"),
    "messages": PartAbout("the kernel's messages as events", "0.05 ms"),
    "journal": PartAbout("the systemd journal as events; with paths, journal files", "one run of journalctl", on=False),
    "units": PartAbout(
        "systemd's units and their restarts; with watch, names that must run",
        "0.02 ms, and where systemd runs one run of systemctl",
        every="60s",
    ),
    "containers": PartAbout("what containers take, by control group", "1 ms with one", every="60s"),
    "inventory": PartAbout(
        "packages, accounts, ports, certificates and more, hourly",
        "0.1 s; twice a day 1 s more for what waits to be upgraded",
        every="1h",
    ),
    "interrupts": PartAbout("interrupts by device and kind: up to 24 series", "0.6 ms with two processors", on=False),
    "smart": PartAbout(
        "the disks' own word on their health; needs smartctl and root's rights",
        "one run of smartctl a disk",
        on=False,
        every="30m",
    ),
    "directories": PartAbout(
        "sizes of directories, their oldest and newest files", "2.5 s for 120,000 files, in 15 s", on=False, every="1h"
    ),
}
"""The parts of a system that a plan can switch on or off or slow down. Costs are processor time a reading."""
COLLECTORS = tuple(PARTS)
ALLOWANCE = 0.02
"""Share of a core that one part may take on average; one that takes more stops itself."""


class CollectorSetting(BaseModel):
    """How a part is collected; `watch` and `paths` are what it is told to look at, for parts that have to be told."""

    on: bool = True
    every: float | None = None
    watch: list[str] = []
    paths: list[str] = []


def default_setting(part: str) -> CollectorSetting:
    """How a part is collected that no plan speaks of."""
    about = PARTS.get(part, PartAbout("", ""))
    return CollectorSetting(on=about.on, every=seconds(about.every) if about.every else None)


class PartShown(BaseModel):
    """A part of a system that plans can switch, for people."""

    part: str
    about: str
    cost: str = Field(description="processor time a reading, as measured on a machine of two processors")
    on: bool = Field(description="whether it is collected when no plan speaks of it")
    every: str | None


class EffectivePlan(BaseModel):
    """What an agent, or whoever reads the host, is to do; `sources` names the plan each setting came from."""

    etag: str = ""
    every: float
    collectors: dict[str, CollectorSetting] = {}
    follow: list[FollowedFile] = []
    services: list[ServiceTarget] = []
    refresh: int = Field(default=0, description="another number means: tell the inventory at once")
    asks: list[PathAsk] = Field(default=[], description="paths to be looked at now, and answered")
    sources: dict[str, str] = {}
