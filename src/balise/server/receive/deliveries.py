"""What the console reads itself, taken in as if it had come over OTLP."""

from __future__ import annotations

from balise.server.people.access import Principal
from balise.server.receive.logs import LogIntake
from balise.server.receive.metrics import MetricIntake


class OwnDeliveries:
    """The way from what was read from afar to the stores."""

    def __init__(self, *, metrics: MetricIntake, logs: LogIntake) -> None:
        self._metrics = metrics
        self._logs = logs

    async def of_host(self, principal: Principal, metrics: bytes) -> None:
        """What was read of a host, which proves that it is alive."""
        await self._metrics.take(principal, metrics, as_json=False)

    async def of_service(self, principal: Principal, metrics: bytes) -> None:
        """What was read of a service by somebody else than its host."""
        await self._metrics.take(principal, metrics, as_json=False, of_host=False)

    async def logs(self, principal: Principal, logs: bytes) -> None:
        await self._logs.take(principal, logs, as_json=False)
