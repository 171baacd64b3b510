"""Which host runs on which: as a host's label or a plan says it, for machines that are hosts themselves."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from balise.server.errors import bad_field
from balise.server.hosts.directory import Directory, Known

LABEL = "runs-on"
"""The label of a virtual machine that names the host it is on."""
MOST_DEEP = 8
"""Machines on machines."""
Planned = Callable[[Known], tuple[str, str]]
"""The machine that plans say a host is on, and which plan says it; both empty for none."""


class Machines:
    """Answers from the hosts as they are now. What a host says itself is stronger than a plan."""

    def __init__(self, *, directory: Directory, planned: Planned) -> None:
        self._directory = directory
        self._planned = planned

    def of(self, known: Known) -> tuple[str, str]:
        """The machine that a host runs on, and who says so; both empty for none, and for one that is no host."""
        said = (known.labels.get(LABEL, ""), "its label")
        name, by = said if said[0] else self._planned(known)
        if not name or name == known.name or self._directory.find(name) is None:
            return "", ""
        return name, by

    def carried(self) -> dict[str, list[str]]:
        """By machine the hosts that run on it, by name."""
        found: dict[str, list[str]] = {}
        for name, machine in sorted(self.all().items()):
            found.setdefault(machine, []).append(name)
        return found

    def all(self) -> Mapping[str, str]:
        """By host its machine."""
        found = ((known.name, self.of(known)[0]) for known in self._directory.all())
        return {name: machine for name, machine in found if machine}

    def check(self, host: str, machine: str) -> None:
        """Raises Refused 422 for a machine that is no host, or that runs on the host itself."""
        at = machine
        for _ in range(MOST_DEEP):
            known = self._directory.find(at)
            if known is None:
                raise bad_field("runs_on", f"there is no host {at}: enrol the machine first, or add it as a host")
            if known.name == host:
                raise bad_field("runs_on", f"{machine} runs on {host}, or is it: name the machine below")
            at = self.of(known)[0]
            if not at:
                return
        raise bad_field("runs_on", f"there are more than {MOST_DEEP} machines below {machine}")
