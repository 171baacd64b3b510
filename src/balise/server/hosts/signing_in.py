"""What there is to be looked at among sign-ins, as series that rules can watch."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Callable

from balise.core.events.sign_in_counts import Kind, Tries, counted
from balise.core.moments import nanos
from balise.server.hosts.directory import Directory
from balise.store.events.signed import SignedIn
from balise.store.events.store import EventStore
from balise.store.series.gauges import Gauge, keep_gauges
from balise.store.series.store import SeriesStore

METRICS = {
    "balise.sign_in.entries": (
        "{entry}",
        "Accounts and addresses to be looked at for their sign-ins to a host since the hour before this one began: "
        "`kind` is sweep, success-after-failures or first-seen",
    )
}
SWEEP = 5
"""From how many accounts on that an address tried in vain, it sweeps."""
TOLD: tuple[Kind, ...] = ("sweep", "success-after-failures", "first-seen")
HOUR = 3600.0


class SignInFigures:
    """Counted every minute. Of a host with nothing to be looked at since the service began nothing is kept."""

    def __init__(
        self,
        *,
        series: SeriesStore,
        directory: Directory,
        events: EventStore,
        clock: Callable[[], float] = time.time,
    ) -> None:
        self._series = series
        self._directory = directory
        self._signed = SignedIn(events)
        self._clock = clock
        self._begin = 0.0
        self._known: set[tuple[str, str]] = set()
        self._told: set[str] = set()

    def note(self) -> None:
        now = self._clock()
        begin = now // HOUR * HOUR - HOUR
        if begin != self._begin:
            self._begin, self._known = begin, self._signed.known_before(nanos(begin))
        rows, _ = self._signed.rows(nanos(begin), nanos(now))
        entries: Counter[tuple[str, Kind]] = Counter()
        for by, sweep in (("address", SWEEP), ("pair", None)):
            for tries in counted(rows, by, self._known).values():  # type: ignore[arg-type]
                for kind in _kinds(tries, sweep):
                    entries[tries.hosts.most_common(1)[0][0], kind] += 1
        self._told |= {host for host, _ in entries}
        found = []
        for name in sorted(self._told):
            known = self._directory.find(name)
            if known is None:
                continue
            for kind in TOLD:
                value = float(entries[name, kind])
                found.append(Gauge(known.id, "balise.sign_in.entries", (("kind", kind),), value))
        keep_gauges(self._series, METRICS, found, now)


def _kinds(tries: Tries, sweep: int | None) -> list[Kind]:
    """Each entry counts once for what it is, by address for sweeps and by account and address for all else."""
    kind = tries.kind(sweep)
    if sweep is not None:
        return ["sweep"] if len(tries.refused) >= sweep else []
    return [kind] if kind in TOLD else []
