"""Services that were found and are not read yet, each with the kit that fits."""

from __future__ import annotations

from fnmatch import fnmatchcase
from urllib.parse import urlsplit, urlunsplit

from pydantic import ValidationError

from balise.api.kit_documents import KitDocument
from balise.api.kits import Target
from balise.api.services import Accepted, AcceptProposals, FoundService, HostServices, Proposal, Service, ServiceBody
from balise.server.errors import Refused
from balise.server.hosts.directory import Directory, Known
from balise.server.hosts.reports import HostReports
from balise.server.inventory.book import InventoryBook
from balise.server.people.access import Principal
from balise.server.services.book import ServiceBook
from balise.server.services.kits import KitBook
from balise.server.services.reach import Reach

MOST_PROPOSALS = 2000
MOST_NAMED = 8
OWN_PROCESSES = ("balise",)


class Proposals:
    """Compares what agents found, or what inventories have listening, with what kits recognise."""

    def __init__(
        self,
        *,
        services: ServiceBook,
        reach: Reach,
        kits: KitBook,
        directory: Directory,
        reports: HostReports,
        inventory: InventoryBook,
    ) -> None:
        self._services = services
        self._reach = reach
        self._kits = kits
        self._directory = directory
        self._reports = reports
        self._inventory = inventory
        self._names: dict[tuple[int, str], set[str]] = {}
        """Names in inventories that were looked up in this round, so that each host is asked once a kind."""

    def of_host(self, name: str) -> HostServices:
        """The services of a host, and what its agent found listening that nobody reads yet."""
        items = self._services.all(name)
        read = {item.target.get("port") for item in items}
        known = self._services.known(name)
        found = [f for f in self._listening(known) if f.port not in read]
        for one in found:
            kit = self._kit_of(one)
            one.kit = kit.kit if kit is not None else None
        return HostServices(items=items, found=found)

    def _listening(self, known: Known) -> list[FoundService]:
        found: list[FoundService] = []
        if known.mode == "remote":
            return self._inventory.listening(known.id)
        for one in (self._reports.last(known.id) or {}).get("listening") or []:
            try:
                found.append(FoundService.model_validate(one))
            except ValidationError:
                continue
        return found

    def _kit_of(self, found: FoundService) -> KitDocument | None:
        """The kit for what listens: by its process; by its port alone only where the process is not told."""
        for name in self._kits.names():
            kit = self._kits.chosen(name)
            by_process = any(fnmatchcase(found.process, pattern) for pattern in kit.recognise.process)
            if by_process or (not found.process and found.port in kit.recognise.port):
                return kit
        return None

    def all(self) -> list[Proposal]:
        """What could be read and is not, host by host."""
        out: list[Proposal] = []
        self._names.clear()
        for known in self._directory.all():
            if known.mode in ("resident", "remote"):
                out += self._of(known)
            if len(out) >= MOST_PROPOSALS:
                break
        return out[:MOST_PROPOSALS]

    def _of(self, known: Known) -> list[Proposal]:
        items = self._services.all(known.name)
        read = {(item.kit, item.target.get("port")) for item in items}
        ports = {item.target.get("port") for item in items}
        by_kit: dict[str, tuple[KitDocument, list[FoundService]]] = {}
        for found in self._listening(known):
            kit = self._kit_of(found)
            if kit is not None and found.port not in ports:
                by_kit.setdefault(kit.kit, (kit, []))[1].append(found)
        out = []
        for listens, found_at in by_kit.values():
            if not listens.read or any(k == listens.kit for k, _ in read):
                continue
            usual = set(listens.recognise.port)
            one = min(found_at, key=lambda f: (f.port not in usual, f.port))
            how = f"{one.process or 'something'} listens on port {one.port}"
            out.append(self._proposal(known, listens, one, how))
        seen = {p.kit for p in out} | {k for k, _ in read}
        out += [
            self._proposal(known, kit, None, how)
            for name in self._kits.names()
            if (kit := self._kits.chosen(name)).kit not in seen and kit.read and (how := self._by_inventory(known, kit))
        ]
        return out

    def _by_inventory(self, known: Known, kit: KitDocument) -> str:
        """What a kit that listens nowhere is known by: its package or its unit."""
        if kit.recognise.port:
            return ""
        for kind, patterns in (("units", kit.recognise.unit), ("packages", kit.recognise.package)):
            names = self._known_names(known.id, kind) if patterns else set()
            hit = next((n for n in sorted(names) if any(fnmatchcase(n, p) for p in patterns)), None)
            if hit:
                return f"the {kind[:-1]} {hit} is there"
        return ""

    def _known_names(self, host: int, kind: str) -> set[str]:
        if (host, kind) not in self._names:
            if len(self._names) >= MOST_NAMED:
                self._names.clear()
            self._names[host, kind] = set(self._inventory.names_of(host, kind))
        return self._names[host, kind]

    def _proposal(self, known: Known, kit: KitDocument, found: FoundService | None, how: str) -> Proposal:
        target: Target = {}
        if found is not None and "port" in kit.target:
            target["port"] = found.port
        elif found is not None and "url" in kit.target and found.port not in kit.recognise.port:
            target["url"] = _with_port(str(kit.target["url"].default or ""), found.port)
        if known.mode == "remote" and "url" in kit.target:
            # A kit's usual address is that of the host itself, which is not where the reader stands.
            target["url"] = _with_host(
                str(target.get("url") or kit.target["url"].default or ""), self._reach.address_of(known)
            )
        needs = kit.credential is not None and kit.credential.needed
        unclear = any(f.needed and f.default is None and n not in target for n, f in kit.target.items())
        return Proposal(
            host=known.name,
            kit=kit.kit,
            title=kit.title,
            found=how,
            target=target,
            mode="remote" if known.mode == "remote" else "resident",
            free=not needs and kit.grant is None and not unclear,
            grant=kit.grant,
            credential=kit.credential.kind if kit.credential is not None and needs else None,
        )

    def accept(self, body: AcceptProposals, who: Principal) -> Accepted:
        """Takes up proposals, many at once; what cannot be is told, and stays proposed."""
        added: list[Service] = []
        failed: dict[str, str] = {}
        for one in self.all():
            if (body.hosts and one.host not in body.hosts) or (body.kits and one.kit not in body.kits):
                continue
            credential = body.credential if one.credential is not None else None
            new = ServiceBody(host=one.host, kit=one.kit, mode=one.mode, target=one.target, credential=credential)
            try:
                added.append(self._services.add(new, who))
            except Refused as error:
                failed[f"{one.host}, {one.kit}"] = error.detail
        return Accepted(added=added, failed=failed)


def _with_host(url: str, host: str) -> str:
    """A URL at another host, at the same port."""
    parts = urlsplit(url)
    port = f":{parts.port}" if parts.port else ""
    return urlunsplit(parts._replace(netloc=f"[{host}]{port}" if ":" in host else f"{host}{port}"))


def _with_port(url: str, port: int) -> str:
    """A kit's usual URL at the port where something was found."""
    parts = urlsplit(url)
    return urlunsplit(parts._replace(netloc=f"{parts.hostname}:{port}")) if parts.hostname else url
