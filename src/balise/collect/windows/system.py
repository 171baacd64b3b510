"""What a Windows-like system tells: performance counters, services, event channels.

`collect.windows.collectors` reads any system that has these; `collect.windows.office` is one that is made up.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal, Protocol

from balise.collect.system import SpaceLook

ServiceState = Literal["running", "stopped", "starting", "stopping", "paused"]
ServiceStart = Literal["automatic", "manual", "disabled"]
TICKS = 10_000_000
"""Times are counted in ticks of 100 ns."""


@dataclass(frozen=True, slots=True)
class ServiceLook:
    """One service: `restarts` are those that the system made after it had ended by itself."""

    name: str
    state: ServiceState
    start: ServiceStart
    exit_code: int = 0
    restarts: int = 0


@dataclass(frozen=True, slots=True)
class ChannelEvent:
    """One record of an event channel; `level` is 1 critical, 2 error, 3 warning, 4 information, 5 verbose, 0 audit.

    `account`, `address` and `group` are whom and what a record of the security channel is about.
    """

    record: int
    time: float
    level: int
    provider: str
    number: int
    message: str
    audit_failure: bool = False
    account: str = ""
    address: str = ""
    group: str = ""


class WindowsSystem(Protocol):
    """A system that can be asked. Every method raises OSError when it does not answer."""

    @property
    def memory(self) -> int:
        """Bytes of memory there are."""

    def counters(self, of: str, counter: str) -> Mapping[str, float]:
        """The raw value of a performance counter for each instance: what a rate or share is made from."""

    def volumes(self) -> Sequence[SpaceLook]: ...

    def services(self) -> Sequence[ServiceLook]: ...

    def events(self, channel: str, after: int, most: int) -> Sequence[ChannelEvent]:
        """Records of a channel whose number is greater, the oldest first; with `after` -1 only the newest one."""
