"""Hosts of a console."""

from __future__ import annotations

from collections.abc import Iterator

from balise.api.hosts import Evidence, Host, HostChange, HostsChange, HostsChanged, Stretch
from balise.api.plans import HostPlan
from balise.api.processes import (
    ProcessOf,
    ProcessOrder,
    ProcessSpans,
    RequestOf,
    RequestSpans,
    SessionOf,
    SessionSpans,
)
from balise.api.remote import Remote, RemoteBody
from balise.api.table import HostTable, HostTableQuery
from balise.api.tree import Tree
from balise.client.connection import quoted
from balise.client.noun import Items, Noun


class Hosts(Noun):
    """Servers, and what is known of them."""

    def list(self, where: str | None = None, *, filter: str | None = None, sort: str = "name") -> Iterator[Host]:
        """All hosts that pass a filter, page by page.

        >>> [host.name for host in balise.hosts.list('name sw "quay-"')]
        ['quay-a', 'quay-b']
        """
        return self._connection.pages(Host, "/hosts", where=where, filter=filter, sort=sort)

    def show(self, name: str) -> Host:
        """One host.

        >>> balise.hosts.show("quay-a").state
        'critical'
        """
        return self._connection.get(Host, f"/hosts/{quoted(name)}")

    def change(self, name: str, change: HostChange) -> Host:
        """Sets labels and groups.

        >>> balise.hosts.change("quay-a", HostChange(labels={"site": "north"})).labels
        {'site': 'north'}
        """
        return self._connection.send(Host, "PATCH", f"/hosts/{quoted(name)}", change)

    def change_many(self, change: HostsChange) -> int:
        """One change of many hosts, all or none; answers how many.

        >>> balise.hosts.change_many(HostsChange(where='name sw "quay-"', join=["Quays"]))
        2
        """
        return self._connection.send(HostsChanged, "POST", "/hosts/change", change).changed

    def table(self, query: HostTableQuery) -> HostTable:
        """Hosts with any metric, fact, label or count as columns.

        >>> level = HostTableQuery(columns=[{"metric": "tide", "take": "max"}], where='name eq "quay-a"')
        >>> balise.hosts.table(level).items[0].values
        [4.2]
        """
        return self._connection.send(HostTable, "POST", "/hosts/table", query)

    def tree(self, by: str = "site", below: str | None = None) -> Tree:
        """One level of the fleet, the worst first, with the reason in words.

        >>> balise.hosts.tree("label.site").items[0].state
        'critical'
        """
        return self._connection.get(Tree, "/tree", by=by, below=below)

    def processes(
        self, name: str, *, from_: str = "-1h", to: str = "now", by: ProcessOrder = "cpu", of: ProcessOf = "process"
    ) -> ProcessSpans:
        """What processes, programs or users took of a host over a span, the busiest first.

        >>> balise.hosts.processes("quay-a").items
        []
        """
        path = f"/hosts/{quoted(name)}/processes"
        return self._connection.get(ProcessSpans, path, from_=from_, to=to, by=by, of=of)

    def sessions(self, name: str, *, from_: str = "-1h", to: str = "now", of: SessionOf = "session") -> SessionSpans:
        """What sessions of a host's services did over a span, or their users, clients, statements.

        >>> balise.hosts.sessions("quay-a", of="statement").items
        []
        """
        return self._connection.get(SessionSpans, f"/hosts/{quoted(name)}/sessions", from_=from_, to=to, of=of)

    def requests(self, name: str, *, from_: str = "-1h", to: str = "now", of: RequestOf = "path") -> RequestSpans:
        """Web requests of a host over a span, as its access logs tell them.

        >>> balise.hosts.requests("quay-a").items
        []
        """
        return self._connection.get(RequestSpans, f"/hosts/{quoted(name)}/requests", from_=from_, to=to, of=of)

    def remote(self, name: str, body: RemoteBody) -> Remote:
        """Collects a host over the network from now on.

        >>> by_ssh = RemoteBody(protocol="ssh", address="192.0.2.9", credential="quays")
        >>> balise.hosts.remote("quay-b", by_ssh).port
        22
        """
        return self._connection.send(Remote, "PUT", f"/hosts/{quoted(name)}/remote", body)

    def plan(self, name: str) -> HostPlan:
        """What holds for a host, each setting with the plan it came from.

        >>> balise.hosts.plan("quay-a").applied
        'no agent'
        """
        return self._connection.get(HostPlan, f"/hosts/{quoted(name)}/plan")

    def states(self, name: str, *, from_: str = "-24h", to: str = "now") -> Items[Stretch]:
        """How a host's state went: each state from a moment on, until the next.

        >>> balise.hosts.states("quay-a", from_="-1h")[-1].state
        'critical'
        """
        return self._connection.items(Stretch, f"/hosts/{quoted(name)}/states", from_=from_, to=to)

    def evidence(self, name: str, *, from_: str = "-15m", to: str = "now") -> Evidence:
        """Busiest processes and sessions over a span.

        >>> balise.hosts.evidence("quay-a").processes
        []
        """
        return self._connection.get(Evidence, f"/hosts/{quoted(name)}/evidence", from_=from_, to=to)

    def retire(self, name: str) -> Host:
        """The host leaves; its history stays until it is forgotten.

        >>> balise.hosts.retire("quay-b").retired_at is not None
        True
        """
        return self._connection.send(Host, "POST", f"/hosts/{quoted(name)}/retire")

    def erase(self, name: str) -> str:
        """The host goes with all its history, for good.

        >>> balise.hosts.erase("quay-b")
        'quay-b is gone; its history is being erased'
        """
        return self._connection.note("DELETE", f"/hosts/{quoted(name)}")
