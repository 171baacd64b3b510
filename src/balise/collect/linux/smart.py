"""How disks say they are: S.M.A.R.T. and NVMe health, by smartctl's JSON (smartctl(8), --json)."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Sequence
from typing import Any

from balise.collect.readings import CollectorProblem, Meaning, Reading

MOST_DISKS = 64
PROGRAM = "smartctl"
COUNTS = {
    5: "balise.disk.reallocated", 187: "balise.disk.uncorrectable", 197: "balise.disk.pending",
    198: "balise.disk.unreadable",
}  # fmt: skip
"""ATA attributes that foretell a disk's end, by number."""
UNOPENED = 1 << 1
"""The bit of smartctl's exit status that says that a device could not be opened."""
HOUR = 3600.0


class Smart:
    """The health of each disk that tells it.

    Args:
        run: runs a program: its exit status and what it said.
    """

    name = "smart"
    meanings = {
        "balise.disk.health": Meaning("{state}", "gauge", "1 while a disk calls itself well, 0 before it fails"),
        "balise.disk.temperature": Meaning("Cel", "gauge", "Temperature of a disk"),
        "balise.disk.powered": Meaning("s", "counter", "Time a disk has been powered"),
        "balise.disk.worn": Meaning("1", "gauge", "Share of a disk's rated endurance that is used"),
        "balise.disk.reallocated": Meaning("{sector}", "gauge", "Sectors that were replaced by spare ones"),
        "balise.disk.pending": Meaning("{sector}", "gauge", "Sectors that are to be replaced when they are written"),
        "balise.disk.uncorrectable": Meaning("{error}", "gauge", "Errors that could not be corrected"),
        "balise.disk.unreadable": Meaning("{sector}", "gauge", "Sectors that could not be read in a test of its own"),
    }

    def __init__(self, run: Callable[[Sequence[str]], tuple[int, str]]) -> None:
        self._run = run

    def read(self, now: float) -> Iterator[Reading]:
        del now
        _, listed = self._asked("--scan")
        devices = [
            str(d["name"]) for d in listed.get("devices", [])[:MOST_DISKS] if str(d.get("name", ""))[:5] == "/dev/"
        ]
        closed = []
        for device in devices:
            status, told = self._asked("-i", "-H", "-A", device)
            if status & UNOPENED:
                closed.append(device)
                continue
            yield from _readings(device.removeprefix("/dev/"), told)
        if closed:
            raise CollectorProblem(f"the agent's user may not ask {', '.join(closed)} (smartctl needs root's rights)")

    def _asked(self, *words: str) -> tuple[int, dict[str, Any]]:
        try:
            status, text = self._run((PROGRAM, "--json=c", *words))
        except CollectorProblem as problem:
            raise CollectorProblem(f"{problem}: is the package smartmontools installed?") from None
        try:
            told = json.loads(text)
        except ValueError:
            raise CollectorProblem(f"smartctl said no JSON (status {status}): is it version 7 or newer?") from None
        return status, told if isinstance(told, dict) else {}


def _readings(device: str, told: dict[str, Any]) -> Iterator[Reading]:
    named = {"system.device": device, "balise.disk.model": str(told.get("model_name", ""))[:60]}

    def value(*keys: str) -> float | None:
        held: Any = told
        for key in keys:
            held = held.get(key) if isinstance(held, dict) else None
        return float(held) if isinstance(held, int | float) else None

    nvme = "nvme_smart_health_information_log"
    worn, powered = value(nvme, "percentage_used"), value("power_on_time", "hours")
    for metric, found in (
        ("balise.disk.health", value("smart_status", "passed")),
        ("balise.disk.temperature", value("temperature", "current")),
        ("balise.disk.powered", powered * HOUR if powered is not None else None),
        ("balise.disk.worn", worn / 100 if worn is not None else None),
        ("balise.disk.uncorrectable", value(nvme, "media_errors")),
    ):
        if found is not None:
            yield Reading(metric, found, named)
    table = told.get("ata_smart_attributes", {}).get("table", [])
    for row in table if isinstance(table, list) else []:
        counted = COUNTS.get(row.get("id"))
        raw = row.get("raw", {}).get("value")
        if counted and isinstance(raw, int):
            yield Reading(counted, float(raw), named)
