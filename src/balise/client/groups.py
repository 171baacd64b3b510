"""Groups of hosts."""

from __future__ import annotations

from balise.api.hosts import Group, GroupBody
from balise.client.connection import quoted
from balise.client.noun import Items, Noun


class Groups(Noun):
    """Sets of hosts, listed or chosen by a filter; sites too."""

    def list(self, *, from_: str = "-24h", to: str = "now") -> Items[Group]:
        """Every group with its hosts' states now, and its own over a span.

        >>> [group.name for group in balise.groups.list()]
        ['Quays']
        """
        return self._connection.items(Group, "/groups", from_=from_, to=to)

    def set(self, name: str, body: GroupBody) -> Group:
        """Makes a group or changes one; fields that were not set stay.

        >>> balise.groups.set("North", GroupBody(where='label.site eq "north"')).hosts
        1
        """
        sent = body.model_dump(mode="json", exclude_unset=True)
        return self._connection.send(Group, "PUT", f"/groups/{quoted(name)}", sent)

    def delete(self, name: str) -> str:
        """Takes a group away; its hosts stay.

        >>> balise.groups.delete("North")
        'the group North is gone; its hosts stay'
        """
        return self._connection.note("DELETE", f"/groups/{quoted(name)}")
