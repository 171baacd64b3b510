"""Maintenance windows."""

from __future__ import annotations

from balise.api.maintenance import MaintenanceBody, Window
from balise.client.connection import quoted
from balise.client.noun import Items, Noun


class Maintenances(Noun):
    """Times in which what goes wrong is kept, and nobody is told."""

    def set(self, name: str, body: MaintenanceBody) -> Window:
        """Keeps a window, new or changed.

        >>> painting = MaintenanceBody(about="painting", hosts=["quay-a"], for_="2h")
        >>> balise.maintenance.set("ramp", painting).going_on
        True
        """
        return self._connection.send(Window, "PUT", f"/maintenance/{quoted(name)}", body)

    def list(self) -> Items[Window]:
        """All windows, those that go on first.

        >>> [(window.name, window.paused) for window in balise.maintenance.list()]
        [('ramp', 1)]
        """
        return self._connection.items(Window, "/maintenance")

    def end(self, name: str) -> Window:
        """The time that goes on is over now.

        >>> balise.maintenance.end("ramp").going_on
        False
        """
        return self._connection.send(Window, "POST", f"/maintenance/{quoted(name)}/end")

    def delete(self, name: str) -> str:
        """Takes a window away.

        >>> balise.maintenance.delete("ramp")
        'maintenance window ramp deleted'
        """
        return self._connection.note("DELETE", f"/maintenance/{quoted(name)}")
