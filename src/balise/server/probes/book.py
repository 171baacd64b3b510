"""Probes as they are kept, who makes them, and what their results mean together."""

from __future__ import annotations

import threading
import time
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import urlsplit

import numpy as np
from sqlalchemy import select, update
from sqlalchemy.orm import Session

from balise.api.hosts import State
from balise.api.probes import Probe, ProbeAt, ProbeBody, ProbeResult, ProbeTarget
from balise.api.spans import instant, rfc3339, seconds
from balise.collect.probes.kinds import PROBES
from balise.collect.probes.run import make
from balise.collect.probes.schedule import Probing
from balise.collect.work import Failures
from balise.core.health import worst
from balise.server.errors import Refused, bad_field, unknown
from balise.server.hosts.directory import Directory
from balise.server.hosts.directory import Known as HostKnown
from balise.server.people.access import Principal, audit
from balise.server.remote.credentials import CredentialBook
from balise.server.remote.relays import RelayBook
from balise.server.signals import Signal
from balise.store.series.store import SeriesStore
from balise.store.state import tables
from balise.store.state.store import StateStore

NS = 1_000_000_000
MOST_PROBES = 5000
LATE, GRACE = 3.0, 15.0
CONSOLE = "the console"
LEVELS: dict[State, float] = {"ok": 0.0, "warning": 1.0, "critical": 2.0}
METRICS = {
    "probe.up": ("1", "1 when a probe's answer was good, else 0"),
    "probe.duration": ("s", "How long a probe took in all"),
    "probe.phase.duration": ("s", "How long a phase of a probe took"),
    "probe.state": ("{state}", "A probe's state over all its places: 0 ok, 1 warning, 2 critical"),
    "probe.certificate.left": ("s", "How long the certificate is still good that runs out first"),
}


@dataclass
class Known:
    """One probe in memory. `results` are the last ones by place."""

    name: str
    body: ProbeBody
    host: int
    state: State
    state_since: float
    updated_at: float
    updated_by: str
    results: dict[str, ProbeResult] = field(default_factory=dict)
    heard_at: dict[str, float] = field(default_factory=dict)
    written: bool = True

    @property
    def places(self) -> list[str]:
        return list(self.body.from_) or [CONSOLE]


@dataclass(frozen=True)
class ProbeJudged:
    """A probe has another state."""

    name: str
    state: State


class ProbeBook:
    """All probes."""

    def __init__(
        self,
        *,
        state: StateStore,
        directory: Directory,
        credentials: CredentialBook,
        series: SeriesStore,
        relays: RelayBook,
    ) -> None:
        self._state = state
        self._directory = directory
        self._credentials = credentials
        self._series = series
        self._lock = threading.Lock()
        self._known: dict[str, Known] = {}
        self._probing = Probing(lambda probe, result: self.heard(CONSOLE, probe.name, result))
        self._relays = relays
        self.changed = Signal[None]("probes")
        """What is to be probed, or from where, is other than it was."""
        self.judged = Signal[ProbeJudged]("probe")
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
            self._known[row.name] = known

    def start(self) -> None:
        self._probing.start()
        self._probing.set_probes(self.targets(CONSOLE))

    def stop(self) -> None:
        self._probing.stop()

    # --- asking

    def all(self, host: str | None = None) -> list[Probe]:
        found = [self._answer(known) for known in list(self._known.values())]
        return sorted((p for p in found if host is None or p.on_host == host), key=lambda p: p.name)

    def state_of(self, name: str) -> State:
        """A probe's state; silent for one that there is not."""
        known = self._known.get(name)
        return known.state if known is not None else "silent"

    def get(self, name: str) -> Probe:
        known = self._known.get(name)
        if known is None:
            raise unknown("probe", name)
        return self._answer(known)

    def _answer(self, known: Known) -> Probe:
        now = time.time()
        places = [
            ProbeAt(place=p, state=self._state_at(known, p, now), last=known.results.get(p)) for p in known.places
        ]
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

    @staticmethod
    def _state_at(known: Known, place: str, now: float) -> State:
        result, at = known.results.get(place), known.heard_at.get(place)
        if result is None or at is None or now - at > LATE * seconds(known.body.every) + GRACE:
            return "silent"
        return "critical" if not result.good else "warning" if result.warning else "ok"

    def _judge(self, known: Known, now: float) -> State:
        """A probe's state: critical when it fails from so many places, a warning when from fewer."""
        if not known.body.enabled:
            return "paused"
        states = [self._state_at(known, place, now) for place in known.places]
        failed = states.count("critical")
        heard = len(states) - states.count("silent")
        if not heard:
            return "silent"
        needed = known.body.fail_from or len(states) // 2 + 1
        if failed >= min(needed, heard):
            return "critical"
        return "warning" if failed or "warning" in states else "ok"

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
        with self._lock:
            self._known[name] = held
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
        with self._lock:
            self._known.pop(name, None)
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

    def targets(self, place: str) -> list[ProbeTarget]:
        """The probes that are made at a place: a relay's name, or the console."""
        found = []
        for known in list(self._known.values()):
            if place not in known.places or not known.body.enabled:
                continue
            try:
                held = self._credentials.secret(known.body.credential) if known.body.credential else None
            except Refused as error:
                self._keep(known, place, ProbeResult(at=rfc3339(time.time()), good=False, seconds=0.0,
                                                     message=error.detail))  # fmt: skip
                continue
            found.append(ProbeTarget(name=known.name, body=known.body, credential=held))
        return found

    def heard(self, place: str, name: str, result: ProbeResult) -> None:
        """A result came in from a place."""
        known = self._known.get(name)
        if known is not None and place in known.places:
            self._keep(known, place, result)
            self._write_series(known, place, result)

    def _keep(self, known: Known, place: str, result: ProbeResult) -> None:
        with self._lock:
            known.results[place], known.heard_at[place] = result, time.time()
            known.written = False
        self._settle(known, time.time())

    def _settle(self, known: Known, now: float) -> None:
        state = self._judge(known, now)
        if state == known.state:
            return
        known.state, known.state_since, known.written = state, now, False
        self.judged.tell(ProbeJudged(known.name, state))

    def look(self) -> None:
        """Notices probes of which nothing is heard, and writes down what changed."""
        now = time.time()
        for known in list(self._known.values()):
            self._settle(known, now)
        rows = []
        with self._lock:
            for known in self._known.values():
                if not known.written:
                    known.written = True
                    last = {p: r.model_dump(mode="json") for p, r in known.results.items()}
                    rows.append({"name": known.name, "state": known.state, "state_since": known.state_since,
                                 "last": last})  # fmt: skip
        if rows:
            self._state.write(lambda s: s.execute(update(tables.Probe), rows))

    def _write_series(self, known: Known, place: str, result: ProbeResult) -> None:
        own = (("probe", known.name), ("probe.from", place))
        values: list[tuple[str, tuple[tuple[str, str], ...], float]] = [
            ("probe.up", own, float(result.good)),
            ("probe.duration", own, result.seconds),
            ("probe.state", own[:1], LEVELS.get(known.state, 0.0)),
            *(("probe.phase.duration", (*own, ("probe.phase", p)), s) for p, s in result.phases.items()),
        ]
        if result.certificates:
            left = min(c.days_left for c in result.certificates) * 86_400
            values.append(("probe.certificate.left", own, left))
        catalogue = self._series.catalogue
        ids = np.array(
            [
                catalogue.series_id(
                    known.host, catalogue.metric(m, METRICS[m][0], "gauge", METRICS[m][1]), a, "", "gauge"
                )
                for m, a, _ in values
            ]
        )
        times = np.full(len(ids), int(instant(result.at, time.time()) * NS), np.int64)
        self._series.accept_now(
            self._series.batch(catalogue.layout(ids), times, np.array([round(v, 6) for *_, v in values]))
        )
        self._directory.heard(known.host, time.time(), time.time())


def place_name(name: str, body: ProbeBody) -> str:
    """The host a probe is shown on when it names none: as its target is called."""
    place: dict[str, Any] = ProbeTarget(name=name, body=body).place()
    return urlsplit(place["url"]).hostname or name if "url" in place else str(place["address"])
