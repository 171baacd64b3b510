"""Dashboards of a console."""

from __future__ import annotations

from balise.api.dashboards import (
    Dashboard,
    DashboardAnswer,
    DashboardAsked,
    DashboardBody,
    DashboardInList,
    DashboardVersion,
    RestoreDashboard,
)
from balise.client.connection import quoted
from balise.client.noun import Items, Noun


class Dashboards(Noun):
    """Pinned charts, values, tables, lists."""

    def list(self) -> Items[DashboardInList]:
        """One's own, those that are shared, and those that kits bring.

        >>> "kit postgresql" in [one.name for one in balise.dashboards.list()]
        True
        """
        return self._connection.items(DashboardInList, "/dashboards")

    def set(self, name: str, body: DashboardBody) -> Dashboard:
        """Keeps a dashboard as it is now; the form before stays as a version.

        >>> tide = {"kind": "chart", "title": "Tide", "at": [0, 0, 6, 4], "query": {"metric": "tide"}}
        >>> balise.dashboards.set("morning", DashboardBody(panels=[tide])).version
        1
        """
        return self._connection.send(Dashboard, "PUT", f"/dashboards/{quoted(name)}", body)

    def show(self, name: str) -> Dashboard:
        """One dashboard.

        >>> balise.dashboards.show("morning").panels[0].title
        'Tide'
        """
        return self._connection.get(Dashboard, f"/dashboards/{quoted(name)}")

    def answers(self, name: str, asked: DashboardAsked | None = None) -> DashboardAnswer:
        """All that a dashboard shows for a span and what was chosen, in one go.

        >>> balise.dashboards.answers("morning").panels[0].chart[0].metric
        'tide'
        """
        path = f"/dashboards/{quoted(name)}/answers"
        return self._connection.send(DashboardAnswer, "POST", path, asked or DashboardAsked())

    def versions(self, name: str) -> Items[DashboardVersion]:
        """Every form that a dashboard had, the newest first.

        >>> [one.version for one in balise.dashboards.versions("morning")]
        [1]
        """
        return self._connection.items(DashboardVersion, f"/dashboards/{quoted(name)}/versions")

    def restore(self, name: str, version: int) -> Dashboard:
        """As it was in an earlier version.

        >>> balise.dashboards.restore("morning", 1).version
        2
        """
        body = RestoreDashboard(version=version)
        return self._connection.send(Dashboard, "POST", f"/dashboards/{quoted(name)}/restore", body)

    def delete(self, name: str) -> str:
        """Takes a dashboard away.

        >>> balise.dashboards.delete("morning")
        'the dashboard morning is gone'
        """
        return self._connection.note("DELETE", f"/dashboards/{quoted(name)}")
