"""Which collector reads which part of this system; those that are off until asked for are loaded only then."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping, Sequence

from balise.api.parts import CollectorSetting
from balise.collect.files import said
from balise.collect.here import begun
from balise.collect.position import Position
from balise.collect.readings import Collector, CollectorProblem

SLOW = ("units", "containers", "smart", "directories")
"""Parts that may take long: they are read aside, so that nothing waits for them."""
PROGRAM_SECONDS = 60.0
MOST_INTERRUPTS = 1 << 20

Make = Callable[[CollectorSetting, Position | None], Collector]


def _clock(_setting: CollectorSetting, _position: Position | None) -> Collector:
    from balise.collect.linux.clock import Clock

    return Clock()


def _nfs(_setting: CollectorSetting, _position: Position | None) -> Collector:
    from balise.collect.linux.nfs import Nfs

    return Nfs(lambda: said("/proc/self/mountstats", 1 << 20) if "nfs" in said("/proc/mounts", 1 << 20) else "")


def _messages(_setting: CollectorSetting, position: Position | None) -> Collector:
    from balise.collect.linux.messages import KernelMessages, boot_number

    return KernelMessages(boot_number(), position)


def _journal(setting: CollectorSetting, position: Position | None) -> Collector:
    from balise.collect.linux.journal import Journal

    return Journal(setting.paths, position)


def _units(setting: CollectorSetting, _position: Position | None) -> Collector:
    from balise.collect.units import ASK, Units, WatchedProcesses, units

    if os.path.isdir("/run/systemd/system"):
        return Units(lambda: units(_told(ASK)[1]), setting.watch)
    return Units(WatchedProcesses(begun, setting.watch).look, setting.watch)


def _containers(_setting: CollectorSetting, _position: Position | None) -> Collector:
    from balise.collect.linux.containers import Containers

    return Containers()


def _interrupts(_setting: CollectorSetting, _position: Position | None) -> Collector:
    from balise.collect.linux.interrupts import Interrupts

    return Interrupts(lambda: said("/proc/interrupts", MOST_INTERRUPTS))


def _smart(_setting: CollectorSetting, _position: Position | None) -> Collector:
    from balise.collect.linux.smart import Smart

    return Smart(_told)


def _directories(setting: CollectorSetting, _position: Position | None) -> Collector:
    from balise.collect.linux.directories import Directories

    return Directories(setting.paths)


MADE: Mapping[str, Make] = {
    "clock": _clock,
    "nfs": _nfs,
    "messages": _messages,
    "journal": _journal,
    "units": _units,
    "containers": _containers,
    "interrupts": _interrupts,
    "smart": _smart,
    "directories": _directories,
}
"""Parts beyond those of every system."""


def _told(words: Sequence[str]) -> tuple[int, str]:
    """A program's exit status and what it says.

    Raises:
        CollectorProblem: there is no such program, or it does not end in time.
    """
    from balise.collect.kits.sources.running import run_bounded
    from balise.collect.kits.sources.source import SourceProblem

    try:
        code, out, _ = run_bounded(words, PROGRAM_SECONDS)
    except SourceProblem as problem:
        raise CollectorProblem(str(problem)) from None
    return code, out
