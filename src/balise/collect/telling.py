"""What every part of a system tells, for whoever wants to know before it is collected."""

from __future__ import annotations

from collections.abc import Mapping

from balise.collect.linux.clock import Clock
from balise.collect.linux.containers import Containers
from balise.collect.linux.directories import Directories
from balise.collect.linux.interrupts import Interrupts
from balise.collect.linux.kernel import Kernel, Pressure
from balise.collect.linux.messages import KernelMessages
from balise.collect.linux.nfs import Nfs
from balise.collect.linux.smart import Smart
from balise.collect.processes import Processes, Users
from balise.collect.readings import Meaning
from balise.collect.system import Cpu, Disks, Filesystems, Memory, Network, Uptime
from balise.collect.units import Units

MEANINGS: Mapping[str, Mapping[str, Meaning]] = {
    collector.name: collector.meanings
    for collector in (
        Cpu, Memory, Filesystems, Disks, Network, Uptime, Processes, Pressure, Kernel, Users, Clock, Nfs,
        KernelMessages, Units, Containers, Interrupts, Smart, Directories,
    )
}  # fmt: skip
"""By the part's name in plans."""
