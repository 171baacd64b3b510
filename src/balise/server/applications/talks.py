"""Who was seen talking to whose listening port: edges that could be drawn."""

from __future__ import annotations

from typing import Any

from balise.api.applications import (
    Talk,
)
from balise.server.applications.book import ApplicationBook
from balise.server.hosts.directory import Directory
from balise.server.hosts.reports import HostReports
from balise.server.services.book import ServiceBook

MOST_TALKS = 500


class Talks:
    """Reads what agents saw of connections."""

    def __init__(
        self, *, directory: Directory, services: ServiceBook, reports: HostReports, applications: ApplicationBook
    ) -> None:
        self._directory = directory
        self._services = services
        self._reports = reports
        self._applications = applications

    def all(self) -> list[Talk]:
        """Who talks to whose listening port, as agents saw it; the most seen first."""
        places = self._addresses()
        services = {(s.host, s.target.get("port")): s.name for s in self._services.all() if s.target.get("port")}
        drawn = self._applications.drawn()
        found: list[Talk] = []
        for known in self._directory.all():
            report = self._report(known.id)
            for one in report.get("talks") or []:
                if not (isinstance(one, list | tuple) and len(one) == 3):
                    continue
                address, port, seen = str(one[0]), int(one[1]), int(one[2])
                to = known.name if address.startswith("127.") or address == "::1" else places.get(address)
                if to is None:
                    continue
                process = self._listener(to, port)
                if not process and (to, port) not in services:
                    continue
                service = services.get((to, port))
                found.append(
                    Talk(
                        from_host=known.name,
                        to_host=to,
                        to_service=service,
                        port=port,
                        process=process,
                        seen=seen,
                        known=(known.name, to) in drawn,
                    )
                )
        found = [talk for talk in found if talk.from_host != talk.to_host or talk.to_service]
        return sorted(found, key=lambda t: (t.known, -t.seen, t.from_host))[:MOST_TALKS]

    def _addresses(self) -> dict[str, str]:
        return {
            str(address): known.name
            for known in self._directory.all()
            for address in known.facts.get("addresses") or []
        }

    def _report(self, host: int) -> dict[str, Any]:
        return self._reports.last(host) or {}

    def _listener(self, host: str, port: int) -> str:
        known = self._directory.find(host)
        listening = self._report(known.id).get("listening") or [] if known is not None else []
        return next((str(f.get("process") or "something") for f in listening if f.get("port") == port), "")
