"""For which hosts a token may deliver."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import Any

from balise.api.hosts import NOBODYS
from balise.core import filters
from balise.core.filters import Filter
from balise.server.errors import Refused
from balise.server.hosts.directory import Directory, Known, attribute_of, clean_name
from balise.server.people.access import Principal

MOST_REMEMBERED = 100_000


class Admission:
    """Decides whether what a sender says of a host is taken, by the scope of its token."""

    def __init__(self, directory: Directory) -> None:
        self._directory = directory
        self._filters: dict[str, Filter] = {}
        self._decided: dict[tuple[int | None, int], bool] = {}
        self._version = -1

    def check_kind(self, principal: Principal, kind: str) -> None:
        """Raises Refused 403 when the token is not for `metrics` or `logs`."""
        if principal.scope is not None and kind not in principal.scope.kinds:
            raise Refused(403, f"The token {principal.name!r} may deliver {' and '.join(principal.scope.kinds)} only.")

    def is_new(self, principal: Principal, name: str) -> bool:
        """Whether a host of this name is not there, and this sender may make it."""
        name = clean_name(name)
        return bool(name) and self._directory.find(name) is None and self._may_make(principal, name)

    def _may_make(self, principal: Principal, name: str) -> bool:
        scope = principal.scope
        if scope is None or not scope.hosts:
            return True
        return self._chosen(scope.hosts, {"host": name, "name": name}.get)

    def make(self, asked: Sequence[tuple[Principal, str]]) -> None:
        """Makes hosts that are new, all in one transaction; those that may not be made are left out."""
        self._directory.ensure_all(
            [(name, p.token, p.scope.new_hosts if p.scope is not None else None) for p, name in asked]
        )

    def host_for(self, principal: Principal, name: str) -> Known | None:
        """The host of a name; None when nothing of it is taken, or it was not to be made."""
        known = self._directory.find(clean_name(name))
        if known is None or known.retired or not self.allows(principal, known):
            return None
        if known.mode == "probed":
            self._directory.set_mode(known.id, "received")
        return known

    def all_allowed(self, principal: Principal, hosts: Iterable[int]) -> bool:
        """Whether points of all these hosts are taken from this sender."""
        if principal.scope is None:
            return True
        known = (self._directory.get(number) for number in hosts)
        return all(one is not None and self.allows(principal, one) for one in known)

    def allows(self, principal: Principal, host: Known) -> bool:
        """Whether what this sender says of a host is taken."""
        if principal.scope is None:
            return True
        if self._version != self._directory.version or len(self._decided) > MOST_REMEMBERED:
            self._version = self._directory.version
            self._decided.clear()
        key = (principal.token, host.id)
        found = self._decided.get(key)
        if found is None:
            found = self._decided[key] = self._decide(principal, host)
        return found

    def _decide(self, principal: Principal, host: Known) -> bool:
        scope = principal.scope
        if scope is None:
            return True
        if host.mode not in NOBODYS and not scope.collected:
            return False
        return not scope.hosts or self._chosen(scope.hosts, lambda name: attribute_of(host, name))

    def _chosen(self, text: str, of: Any) -> bool:
        node = self._filters.get(text)
        if node is None:
            if len(self._filters) > 1000:
                self._filters.clear()
            node = self._filters[text] = filters.parse(text)
        return filters.matches(node, of)
