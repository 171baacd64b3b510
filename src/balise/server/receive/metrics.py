"""Metrics that arrive over OTLP become batches of points."""

from __future__ import annotations

import asyncio
import logging
from collections import Counter
from collections.abc import Iterable, Sequence
from pathlib import Path
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from balise.core.moments import NS, Nanos, now_nanos
from balise.core.series.forms import Group, GroupForm, few_groups, groups_of
from balise.core.series.percentiles import bucket_of
from balise.core.series.wire import MOST_NUMBERS, Attributes, ReadMetric, Slot, TooLarge, Trait, read_resource
from balise.server.hosts.clocks import Clocks
from balise.server.hosts.directory import Directory, Known
from balise.server.people.access import Principal
from balise.server.receive.arrivals import Arrivals
from balise.server.receive.bodies import AHEAD, DAY, HeavyBodies, Outcome, Room, kept_of_resource, resource_host
from balise.server.receive.form_book import FormBook
from balise.server.receive.hearing import Hearing
from balise.server.receive.known import KnownBodies, KnownBody, Points, Sender, folded
from balise.server.receive.known_file import read_known, write_known
from balise.server.receive.otlp_json import metrics_from_json
from balise.server.receive.restless import Restless
from balise.server.receive.scopes import Admission
from balise.store.series.catalogue import Keys, Metric, Wanted
from balise.store.series.head import Batch
from balise.store.series.layouts import Layout
from balise.store.series.store import SeriesStore

I64 = NDArray[np.int64]
log = logging.getLogger(__name__)
FORM_BYTES, SENDER_BYTES = 48 << 20, 96 << 20
"""Bytes that may be taken by the forms of bodies, which are a fleet's, and by what is known of each sender's."""
QUICK = 256 << 10
"""Bytes of a body that is looked up where it came in; larger ones beside that."""
MOST_NOTED = 8
Kept = tuple[tuple[str, str], ...]
"""What of a resource tells series apart."""


class Begun(NamedTuple):
    """A series that comes for the first time, and a moment at which it was nothing yet."""

    metric: Metric
    trait: Trait
    at: int


class Found(NamedTuple):
    """A group of a body: its bytes after the resource, and what is known of them."""

    rest: bytes
    known: KnownBody


class MetricIntake:
    """Reads metric requests and hands their points to the series store."""

    def __init__(self, *, store: SeriesStore, directory: Directory, clocks: Clocks, room: Room, known: Path) -> None:
        """`known` is the file in which what is known of bodies is kept."""
        self._file = known
        self._kept = 0
        self._store = store
        self._directory = directory
        self._hearing = Hearing(catalogue=store.catalogue, directory=directory, clocks=clocks)
        self._room = room
        self._admission = Admission(directory)
        self._arrivals = Arrivals(self._admission)
        self._heavy = HeavyBodies(room)
        self._forms = FormBook(capacity=FORM_BYTES)
        self._senders = KnownBodies(SENDER_BYTES)
        self.restless = Restless()
        self.shape_hits = 0
        self.shape_misses = 0
        self.counters: Counter[str] = Counter()

    async def take(
        self,
        principal: Principal,
        body: bytes,
        *,
        as_json: bool,
        arrived: Nanos | None = None,
        of_host: bool = True,
        behind: float | None = None,
    ) -> Outcome:
        """Done when every point that was taken is durable. `arrived` is when a relay took it, unix nanoseconds.

        `behind` is by how many seconds the clock of an agent, or of who reads a host, is behind ours.

        What is not `of_host` is about a service on it, read by somebody else: it does not prove that the host is alive.

        Raises:
            WireError: the body is no metrics request.
            Busy: too much waits to be written, or there is no room.
        """
        self._room.on_disk()
        self._admission.check_kind(principal, "metrics")
        if as_json:
            sent = body
            body = await self._heavy.work(principal, sent, lambda: metrics_from_json(sent), as_json=True)
        sender = _sender_of(principal)
        groups, found = self._known_first(principal, sender, body)
        if groups is None or len(found) < len(groups):
            self.shape_misses += 1
            if principal.host is None:
                names = await self._heavy.work(principal, body, lambda: self._hosts_in(sender, body))
                await self._arrivals.welcome(principal, names)
            layout, points = await self._heavy.work(
                principal, body, lambda: self._look(principal, sender, body, groups, found)
            )
        else:
            self.shape_hits += 1
            layout, points = self._points_of(found)
        if of_host and layout is not None:
            self._hearing.note_clocks(layout, points.times, arrived, behind)
        batch, outcome = self._checked(points, layout, sum(one.known.skipped for one in found), arrived)
        if of_host and layout is not None:
            self._hearing.note_refused(layout, batch, outcome)
        if batch is not None:
            await self._store.accept(batch)
            if of_host:
                self._hearing.note_alive(batch)
        return outcome

    def take_known(
        self, principal: Principal, body: bytes, *, behind: float | None = None
    ) -> asyncio.Future[None] | None:
        """`take` of a body of which all is known and taken: done when it is durable. None for any other, of which
        nothing is taken. Raises as `take` does."""
        self._room.on_disk()
        self._admission.check_kind(principal, "metrics")
        groups, found = self._known_first(principal, _sender_of(principal), body)
        if groups is None or len(found) < len(groups) or any(one.known.skipped for one in found):
            return None
        layout, points = self._points_of(found)
        if layout is None or not len(points.values) or not self._is_in_time(points.times, now_nanos()):
            return None
        self._hearing.note_clocks(layout, points.times, None, behind)
        batch = self._store.batch(layout, points.times, points.values)
        durable = self._store.accept(batch)
        self.shape_hits += 1
        durable.add_done_callback(lambda done: self._note_alive(done, batch))
        return durable

    def _note_alive(self, durable: asyncio.Future[None], batch: Batch) -> None:
        if not durable.cancelled() and durable.exception() is None:
            self._hearing.note_alive(batch)

    def _known_first(
        self, principal: Principal, sender: Sender, body: bytes
    ) -> tuple[Sequence[Group] | None, list[Found]]:
        """The groups of a body, and what is known of them up to the first that has to be learnt; None and nothing of
        a body that takes longer to look at."""
        groups = few_groups(body) if len(body) <= QUICK else None
        found: list[Found] = []
        for group in groups or ():
            one = self._known(principal, sender, body, group)
            if one is None:
                break
            found.append(one)
        return groups, found

    def _known(self, principal: Principal, sender: Sender, body: bytes, group: Group) -> Found | None:
        rest = body[group.start : group.end]
        known = self._senders.find((sender, body[slice(*group.resource)], len(rest)), rest)
        return Found(rest, known) if known is not None and self._admitted(principal, known.layout) else None

    def _admitted(self, principal: Principal, layout: Layout | None) -> bool:
        """Whether what a known body is about is still what its sender may say."""
        return (
            principal.scope is None
            or layout is None
            or self._admission.all_allowed(principal, self._hearing.hosts_in(layout)[0].tolist())
        )

    def _points_of(self, found: Sequence[Found]) -> tuple[Layout | None, Points]:
        held = [one for one in found if one.known.layout is not None]
        pieces = [one.known.gather(one.rest) for one in held]
        if len(held) == 1:
            return held[0].known.layout, pieces[0]
        layouts = [one.known.layout for one in held if one.known.layout is not None]
        none = np.empty(0, np.int64)
        points = Points(
            folded(np.concatenate([none, *(piece.each_time for piece in pieces)])),
            np.concatenate([none.astype(np.float64), *(piece.values for piece in pieces)]),
        )
        if not held:
            return None, points
        return self._store.catalogue.layouts.of(np.concatenate([layout.series for layout in layouts])), points

    def _hosts_in(self, sender: Sender, body: bytes) -> list[str]:
        """The names of the hosts that a body is of, but for those of which the sender sent the like before."""
        return [
            resource_host(read_resource(body, group.resource))
            for group in groups_of(body)
            if (sender, body[slice(*group.resource)], group.end - group.start) not in self._senders
        ]

    def _look(
        self, principal: Principal, sender: Sender, body: bytes, groups: Sequence[Group] | None, found: list[Found]
    ) -> tuple[Layout | None, Points]:
        """Looks at a body, however many groups it has: into `found`, what is known of the first of them, comes that of
        the others; what is not known is learnt."""
        numbers = sum(len(one.known.shape) for one in found)
        for group in (groups_of(body) if groups is None else groups)[len(found) :]:
            one = self._known(principal, sender, body, group) or self._learn(principal, sender, body, group)
            numbers += len(one.known.shape)
            if numbers > MOST_NUMBERS:
                raise TooLarge(MOST_NUMBERS, "numbers")
            found.append(one)
        return self._points_of(found)

    def _learn(self, principal: Principal, sender: Sender, body: bytes, group: Group) -> Found:
        rest, resource = body[group.start : group.end], body[slice(*group.resource)]
        form = self._forms.of(sender, rest)
        if form.fixed:
            self.restless.learnt((sender, resource), principal.name)
        host, kept = self._resource(principal, read_resource(body, group.resource))
        known = self._placed(host, kept, form)
        if form.fixed and known.layout is not None:
            self._senders.keep((sender, resource, len(rest)), known)
        return Found(rest, known)

    def _resource(self, principal: Principal, attributes: dict[str, str]) -> tuple[Known | None, Kept]:
        if principal.host is not None:
            # An agent speaks for its own host, whatever its resource says.
            return self._directory.get(principal.host), kept_of_resource(attributes)
        host = self._admission.host_for(principal, resource_host(attributes))
        return (host, kept_of_resource(attributes)) if host is not None else (None, ())

    def _placed(self, host: Known | None, kept: Kept, form: GroupForm) -> KnownBody:
        """Which series of a host the numbers of a form are."""
        if host is None:
            return KnownBody.of(form, None, skipped=len(form.shape) + form.skipped)
        quick = self._placed_like(host, kept, form)
        if quick is not None:
            return quick
        catalogue = self._store.catalogue
        wanted: list[Wanted] = []
        places: list[I64] = []
        begun: list[Begun] = []
        at = 0
        for metric in form.metrics:
            read, count = metric.read, len(metric.shape)
            if read.name and count and (metric_of := self._metric(host, read)) is not None:
                traits = _with_kept(((slot.attributes, slot.part, slot.kind) for slot in read.slots), kept)
                wanted.append((metric_of, traits))
                places.append(np.arange(at, at + count))
                if read.variable:
                    begun += self._begun_before(host.id, metric_of, traits, read.slots)
            at += count
        if not wanted:
            return KnownBody.of(form, None, skipped=at + form.skipped)
        whole = sum(len(some) for some in places) == at and form.fixed
        numbers, keys = catalogue.numbers_of(host.id, wanted, form.notes.get(kept) if whole else None)
        if whole:
            _note(form, kept, keys)
        chosen = np.concatenate(places)[numbers >= 0]
        skipped = form.skipped + at - len(chosen)
        series = numbers[numbers >= 0]
        if not len(series):
            return KnownBody.of(form, None, skipped=skipped)
        began = [(catalogue.find(host.id, one.metric, *one.trait), one.at) for one in begun]
        added = [(number, moment) for number, moment in began if number is not None]
        layout = catalogue.layouts.of(np.concatenate([series, np.array([n for n, _ in added], np.int64)]))
        return KnownBody.of(
            form,
            layout,
            chosen=None if len(chosen) == at else chosen,
            begun=[moment for _, moment in added],
            skipped=skipped,
        )

    def _placed_like(self, host: Known, kept: Kept, form: GroupForm) -> KnownBody | None:
        """`_placed` for a form that is like another whose series were found before; None for any other."""
        keys = form.like.form.notes.get(kept) if form.like is not None else None
        if keys is None or form.like is None:
            return None
        _, traits, places, which = form.like
        layout = self._store.catalogue.layout_like(host.id, keys, places, _with_kept(traits, kept), which)
        if layout is None:
            return None
        self._hearing.learn(layout, host.id)
        return KnownBody.of(form, layout, skipped=form.skipped)

    def _metric(self, host: Known, read: ReadMetric) -> Metric | None:
        catalogue = self._store.catalogue
        held = catalogue.metrics.get(read.name)
        if held is None and catalogue.may_make_metric(host.id):
            held = catalogue.metric(read.name, read.unit, read.kind, read.description)
        return held

    def _begun_before(self, host: int, metric: Metric, traits: Sequence[Trait], slots: Sequence[Slot]) -> list[Begun]:
        """Buckets of exponential histograms that come for the first time, with when the histogram was heard last,
        nanoseconds: until then they held nothing."""
        found = []
        for slot, trait in zip(slots, traits, strict=True):
            moment = self._heard_before(host, metric, trait[0], slot)
            if moment is not None:
                found.append(Begun(metric, trait, moment))
        return found

    def _heard_before(self, host: int, metric: Metric, attributes: Attributes, slot: Slot) -> int | None:
        """When an exponential histogram was heard last, nanoseconds, if `slot` is a bucket of it that comes for the
        first time. A sender that takes wider buckets moves all it counted, and nothing is known."""
        bounds = bucket_of(slot.part)
        if slot.kind != "counter" or not slot.part.startswith("in:") or bounds is None:
            return None
        catalogue = self._store.catalogue
        if catalogue.find(host, metric, attributes, slot.part, slot.kind) is not None:
            return None
        count = catalogue.find(host, metric, attributes, "count", slot.kind)
        newest = self._store.newest(count) if count is not None else None
        if newest is None or not 0 < newest < slot.time:
            return None
        for number in catalogue.series_of(metric.id, host):
            one = catalogue.series[number]
            other = bucket_of(one.part)
            if one.attributes == attributes and other is not None and _overlap(bounds, other):
                return None
        return newest

    def _checked(
        self, points: Points, layout: Layout | None, skipped: int, arrived: Nanos | None = None
    ) -> tuple[Batch | None, Outcome]:
        why = (
            f"{skipped} points have no host, no value, are for hosts that the token is not for, or are too many series"
        )
        outcome = Outcome(skipped, why) if skipped else Outcome()
        if not len(points.values) or layout is None:
            self.counters["points.rejected"] += skipped
            return None, outcome
        now, times = now_nanos(), points.times
        if _ends(times)[0] <= 0:
            times = np.where(times == 0, arrived or now, times)
        if self._is_in_time(times, now):
            return self._store.batch(layout, times, points.values), outcome
        times = Points(times, points.values).each_time
        good = (times >= self._oldest(now)) & (times <= now + AHEAD)
        lost = int((~good).sum())
        self.counters["points.out-of-time"] += lost
        why = (
            f"{lost} points are older than raw points are kept, or more than {AHEAD // NS} s in the future: "
            "check the sender's clock"
        )
        if not good.any():
            return None, Outcome(skipped + lost, why)
        layout = self._store.catalogue.layouts.of(layout.series[good])
        return self._store.batch(layout, times[good], points.values[good]), Outcome(skipped + lost, why)

    def _is_in_time(self, times: I64, now: int) -> bool:
        low, high = _ends(times)
        return low >= self._oldest(now) and high <= now + AHEAD

    def _oldest(self, now: int) -> int:
        """The earliest moment of which points are taken, nanoseconds."""
        return now - int(self._store.retention.raw * DAY)

    def forget_shapes(self) -> None:
        """A host or series have left: what was known of bodies is looked at anew."""
        self._senders.forget()
        self._forms.forget()
        self._file.unlink(missing_ok=True)

    def keep_known(self) -> None:
        """Keeps what is known of bodies for the next start; without room for it they are learnt anew then."""
        changes = self._senders.changes
        if changes == self._kept:
            return
        try:
            write_known(self._file, self._senders)
            self._kept = changes
        except OSError as error:
            log.warning("what is known of bodies is not kept: %s", error)

    def take_up_known(self) -> None:
        """Takes up what was kept."""
        read_known(self._file, self._senders, self._layout_of)
        self._kept = self._senders.changes

    def _layout_of(self, key: bytes) -> Layout | None:
        layout = self._store.catalogue.layouts.find(key)
        if layout is None or not self._store.catalogue.series.has(layout.series).all():
            return None
        hosts = np.unique(self._store.catalogue.series.hosts_of(layout.series)).tolist()
        return layout if all(self._directory.is_here(host) for host in hosts) else None

    def let_go(self) -> None:
        """Memory is short: forms are learnt anew. What is known of senders stays, as without it each body costs more
        than it holds."""
        self._forms.forget()


def _sender_of(principal: Principal) -> Sender:
    return principal.name, principal.host if principal.host is not None else principal.token


def _ends(times: I64) -> tuple[int, int]:
    """The first and the last of some moments."""
    return (int(times[0]),) * 2 if len(times) == 1 else (int(times.min()), int(times.max()))


def _with_kept(traits: Iterable[Trait], kept: Kept) -> list[Trait]:
    """What tells series apart, with what is kept of their resource."""
    if not kept:
        return list(traits)
    named: dict[Attributes, Attributes] = {}
    found: list[Trait] = []
    for attributes, part, kind in traits:
        if attributes not in named:
            named[attributes] = tuple(sorted({**dict(kept), **dict(attributes)}.items()))
        found.append((named[attributes], part, kind))
    return found


def _note(form: GroupForm, kept: Kept, keys: Keys) -> None:
    """Keeps what finds the series of a form for the next host, for some of the resources that it comes with."""
    if len(form.notes) >= MOST_NOTED and kept not in form.notes:
        form.notes.clear()
    form.notes[kept] = keys


def _overlap(one: tuple[float, float], other: tuple[float, float]) -> bool:
    return max(one[0], other[0]) < min(one[1], other[1])
