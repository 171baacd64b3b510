"""What probes find, what it means together, and how it becomes series."""

from __future__ import annotations

import threading
import time
from dataclasses import dataclass, field

from sqlalchemy import update

from balise.api.hosts import State
from balise.api.probes import ProbeBody, ProbeResult
from balise.api.spans import instant, seconds
from balise.server.hosts.directory import Directory
from balise.server.signals import Signal
from balise.store.series.gauges import Gauge, keep_gauges
from balise.store.series.store import SeriesStore
from balise.store.state import tables
from balise.store.state.store import StateStore

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


class ProbeResults:
    """All probes with what was found last from each of their places."""

    def __init__(self, *, state: StateStore, directory: Directory, series: SeriesStore) -> None:
        self._state = state
        self._directory = directory
        self._series = series
        self._lock = threading.Lock()
        self.known: dict[str, Known] = {}
        self.judged = Signal[ProbeJudged]("probe")

    def take_up(self, known: Known) -> None:
        """A probe is made from now on, or another way."""
        with self._lock:
            self.known[known.name] = known

    def forget(self, name: str) -> None:
        with self._lock:
            self.known.pop(name, None)

    def state_of(self, name: str) -> State:
        """A probe's state; silent for one that there is not."""
        known = self.known.get(name)
        return known.state if known is not None else "silent"

    def host_of(self, name: str) -> int:
        """The host that a probe is about; 0 for a probe there is not."""
        known = self.known.get(name)
        return known.host if known is not None else 0

    def heard(self, place: str, name: str, result: ProbeResult) -> None:
        """A result came in from a place."""
        known = self.known.get(name)
        if known is not None and place in known.places:
            self.keep(known, place, result)
            self._write_series(known, place, result)

    def keep(self, known: Known, place: str, result: ProbeResult) -> None:
        with self._lock:
            known.results[place], known.heard_at[place] = result, time.time()
            known.written = False
        self._settle(known, time.time())

    def look(self) -> None:
        """Notices probes of which nothing is heard, and writes down what changed."""
        now = time.time()
        for known in list(self.known.values()):
            self._settle(known, now)
        rows = []
        with self._lock:
            for known in self.known.values():
                if not known.written:
                    known.written = True
                    last = {p: r.model_dump(mode="json") for p, r in known.results.items()}
                    rows.append({"name": known.name, "state": known.state, "state_since": known.state_since,
                                 "last": last})  # fmt: skip
        if rows:
            self._state.write(lambda s: s.execute(update(tables.Probe), rows))

    def _settle(self, known: Known, now: float) -> None:
        state = judge(known, now)
        if state == known.state:
            return
        known.state, known.state_since, known.written = state, now, False
        self.judged.tell(ProbeJudged(known.name, state))

    def _write_series(self, known: Known, place: str, result: ProbeResult) -> None:
        own = (("probe", known.name), ("probe.from", place))
        host = known.host
        values = [
            Gauge(host, "probe.up", own, float(result.good)),
            Gauge(host, "probe.duration", own, result.seconds),
            Gauge(host, "probe.state", own[:1], LEVELS.get(known.state, 0.0)),
            *(Gauge(host, "probe.phase.duration", (*own, ("probe.phase", p)), s) for p, s in result.phases.items()),
        ]
        if result.certificates:
            left = min(c.days_left for c in result.certificates) * 86_400
            values.append(Gauge(host, "probe.certificate.left", own, left))
        keep_gauges(self._series, METRICS, values, instant(result.at, time.time()))
        host_known = self._directory.get(host)
        if host_known is not None and host_known.mode == "probed":
            # A probe says nothing of whether a host's agent is heard: it may well be that nothing answers it.
            self._directory.heard(host, time.time(), time.time())


def state_at(known: Known, place: str, now: float) -> State:
    """A probe's state as seen from one place."""
    result, at = known.results.get(place), known.heard_at.get(place)
    if result is None or at is None or now - at > LATE * seconds(known.body.every) + GRACE:
        return "silent"
    return "critical" if not result.good else "warning" if result.warning else "ok"


def judge(known: Known, now: float) -> State:
    """A probe's state: critical when it fails from so many places, a warning when from fewer."""
    if not known.body.enabled:
        return "paused"
    states = [state_at(known, place, now) for place in known.places]
    failed = states.count("critical")
    heard = len(states) - states.count("silent")
    if not heard:
        return "silent"
    needed = known.body.fail_from or len(states) // 2 + 1
    if failed >= min(needed, heard):
        return "critical"
    return "warning" if failed or "warning" in states else "ok"
