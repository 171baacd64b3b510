"""Probes as they are kept, who makes them, and what their results mean together."""

from __future__ import annotations

import time
from typing import Any
from urllib.parse import urlsplit

from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.probes import Probe, ProbeAt, ProbeBody, ProbeResult, ProbeTarget
from balise.api.spans import rfc3339
from balise.collect.probes.kinds import PROBES
from balise.collect.probes.run import make
from balise.collect.probes.schedule import Probing
from balise.collect.work import Failures
from balise.core.health import worst
from balise.server.errors import Refused, bad_field, unknown
from balise.server.hosts.directory import Directory
from balise.server.hosts.directory import Known as HostKnown
from balise.server.people.access import Principal, audit
from balise.server.probes.results import CONSOLE, Known, ProbeResults, state_at
from balise.server.remote.credentials import CredentialBook
from balise.server.remote.relays import RelayBook
from balise.server.signals import Signal
from balise.store.state import tables
from balise.store.state.store import StateStore

MOST_PROBES = 5000


class ProbeBook:
    """All probes."""

    def __init__(
        self,
        *,
        state: StateStore,
        directory: Directory,
        credentials: CredentialBook,
        results: ProbeResults,
        relays: RelayBook,
    ) -> None:
        self._state = state
        self._directory = directory
        self._credentials = credentials
        self._results = results
        self._known = results.known
        self._probing = Probing(lambda probe, result: results.heard(CONSOLE, probe.name, result))
        self._relays = relays
        self.changed = Signal[None]("probes")
        """What is to be probed, or from where, is other than it was."""
        self._load()

    @property
    def failures(self) -> Failures:
        """How the making of probes fails, if it does."""
        return self._probing.failures

    def _load(self) -> None:
        for row in self._state.read(lambda s: list(s.scalars(select(tables.Probe)))):
            known = Known(
                row.name,
                ProbeBody.model_validate(row.body),
                row.host,
                row.state,  # type: ignore[arg-type]
                row.state_since,
                row.updated_at,
                row.updated_by,
            )
            if row.last:
                known.results = {p: ProbeResult.model_validate(r) for p, r in row.last.items() if p in known.places}
            self._results.take_up(known)

    def start(self) -> None:
        self._probing.start()
        self._probing.set_probes(self.targets(CONSOLE))

    def stop(self) -> None:
        self._probing.stop()

    # --- asking

    def all(self, host: str | None = None) -> list[Probe]:
        found = [self._answer(known) for known in list(self._known.values())]
        return sorted((p for p in found if host is None or p.on_host == host), key=lambda p: p.name)

    def get(self, name: str) -> Probe:
        known = self._known.get(name)
        if known is None:
            raise unknown("probe", name)
        return self._answer(known)

    def _answer(self, known: Known) -> Probe:
        now = time.time()
        places = [ProbeAt(place=p, state=state_at(known, p, now), last=known.results.get(p)) for p in known.places]
        by_state = {place.state: place for place in reversed(places)}
        top = by_state[worst(p.state for p in places)]
        return Probe(
            **known.body.model_dump(by_alias=True),
            name=known.name,
            on_host=self._directory.name(known.host) or "",
            state=known.state,
            state_since=rfc3339(known.state_since),
            last=top.last,
            places=places,
            updated_at=rfc3339(known.updated_at),
            updated_by=known.updated_by,
        )

    # --- changing

    def put(self, name: str, body: ProbeBody, who: Principal) -> Probe:
        """Keeps a probe and makes it at once.

        Raises:
            Refused: 422 naming the field that is wrong.
        """
        self._check(body, who)
        known = self._known.get(name)
        host = self._host(body.host or place_name(name, body))
        now = time.time()
        held = Known(name, body, host.id, "silent", now, now, who.name)
        if known is not None:
            held.state, held.state_since = known.state, known.state_since
        if not body.enabled:
            held.state, held.state_since = "paused", now

        def write(session: Session) -> None:
            row = session.get(tables.Probe, name)
            if row is None:
                if len(self._known) >= MOST_PROBES:
                    raise Refused(409, f"There are {MOST_PROBES} probes already: delete some first.")
                row = tables.Probe(name=name, state=held.state, state_since=now)
                session.add(row)
            row.body, row.host, row.credential = body.model_dump(mode="json", by_alias=True), host.id, body.credential
            row.updated_at, row.updated_by = now, who.name
            row.last = None
            audit(session, who.name, "probe.put", name, kind=body.kind)

        self._state.write(write)
        self._results.take_up(held)
        self._take_up()
        return self.get(name)

    def _host(self, name: str) -> HostKnown:
        """The host that a probe is about; one that is not there yet is known from probes alone."""
        known = self._directory.find(name)
        if known is not None and not known.retired:
            return known
        made = self._directory.ensure(name)
        self._directory.set_mode(made.id, "probed")
        return self._directory.find(made.name) or made

    def _check(self, body: ProbeBody, who: Principal) -> None:
        wrong = PROBES[body.kind].problem(body)
        if wrong is not None:
            raise bad_field(*wrong)
        if body.credential is not None:
            self._credentials.usable(body.credential, who, None)
            if self._credentials.get(body.credential).kind != "login":
                raise bad_field("credential", "a probe signs in with a credential of kind login")
        missing = [relay for relay in body.from_ if relay not in self._relays.names()]
        if missing:
            raise bad_field("from", f"there is no relay {missing[0]!r}")

    def delete(self, name: str, who: str) -> None:
        self.get(name)

        def write(session: Session) -> None:
            session.delete(session.get_one(tables.Probe, name))
            audit(session, who, "probe.delete", name)

        self._state.write(write)
        self._results.forget(name)
        self._take_up()

    def _take_up(self) -> None:
        self._probing.set_probes(self.targets(CONSOLE))
        self.changed.tell(None)

    def once(self, name: str, body: ProbeBody, who: Principal) -> ProbeResult:
        """Makes a probe once from here, kept or not."""
        self._check(body, who)
        credential = self._credentials.secret(body.credential) if body.credential else None
        return make(ProbeTarget(name=name, body=body, credential=credential))

    # --- making them

    def again(self, name: str) -> ProbeResult:
        """Makes a probe that is made from the console now. Raises Refused 404, 409 for one that relays make."""
        known = self._known.get(name)
        if known is None:
            raise unknown("probe", name)
        if CONSOLE not in known.places:
            raise Refused(409, f"The probe {name!r} is made from relays, at its own time.")
        result = self.once(name, known.body, Principal("the console", "administrator"))
        self._results.heard(CONSOLE, name, result)
        return result

    def targets(self, place: str) -> list[ProbeTarget]:
        """The probes that are made at a place: a relay's name, or the console."""
        found = []
        for known in list(self._known.values()):
            if place not in known.places or not known.body.enabled:
                continue
            try:
                held = self._credentials.secret(known.body.credential) if known.body.credential else None
            except Refused as error:
                self._results.keep(known, place, ProbeResult(at=rfc3339(time.time()), good=False, seconds=0.0,
                                                     message=error.detail))  # fmt: skip
                continue
            found.append(ProbeTarget(name=known.name, body=known.body, credential=held))
        return found


def place_name(name: str, body: ProbeBody) -> str:
    """The host a probe is shown on when it names none: as its target is called."""
    place: dict[str, Any] = ProbeTarget(name=name, body=body).place()
    return urlsplit(place["url"]).hostname or name if "url" in place else str(place["address"])
