"""Alerts."""

from __future__ import annotations

from collections.abc import Iterator

from balise.api.alerts import Acknowledge, Alert, AlertDetail
from balise.api.tuning import Tune, Tuned
from balise.client.noun import Noun


class Alerts(Noun):
    """Breaches of limits."""

    def list(
        self, where: str | None = None, *, filter: str | None = None, state: str | None = None, from_: str = "-7d"
    ) -> Iterator[Alert]:
        """Alerts, the newest first, page by page.

        >>> [(alert.host, alert.severity) for alert in balise.alerts.list('rule eq "high-water"')]
        [('quay-a', 'critical')]
        """
        return self._connection.pages(Alert, "/alerts", where=where, filter=filter, state=state, from_=from_)

    def show(self, number: int) -> AlertDetail:
        """One alert with its evidence, its story and who was told.

        >>> balise.alerts.show(1).story[0]["what"]
        'opened'
        """
        return self._connection.get(AlertDetail, f"/alerts/{number}")

    def acknowledge(self, number: int, note: str = "") -> Alert:
        """Says that you have it.

        >>> balise.alerts.acknowledge(1, "on my way").acknowledged_by
        'the administrator'
        """
        return self._connection.send(Alert, "POST", f"/alerts/{number}/acknowledge", Acknowledge(note=note))

    def tune(self, number: int, body: Tune) -> Tuned:
        """Other limits for the alert's host, its group or everybody, and what that would have changed.

        >>> limits = Limits.model_validate({"critical": {"above": 5}})
        >>> asked = Tune(for_="host", limits=limits, why="a deep quay", dry_run=True)
        >>> balise.alerts.tune(1, asked).after
        'critical above 5'
        """
        return self._connection.send(Tuned, "POST", f"/alerts/{number}/tune", body)
