"""The console: every part, made once and handed to the others, and the work that goes on in the background."""

from __future__ import annotations

import asyncio
import json
import logging
import shutil
import time
from collections import deque
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import psutil

from balise import __version__
from balise.api.alerts import Alert
from balise.api.inventory import EVENT as INVENTORY
from balise.api.keeping import Keeping
from balise.api.kits import KitDocument, KitTrial, Tried
from balise.api.remote import RemoteTarget
from balise.api.services import Service, ServiceStep
from balise.api.spans import seconds
from balise.api.status import Figures, Status, Storage
from balise.collect.kits.reader import LOCAL, tried
from balise.collect.remote.hand import SshHand
from balise.collect.remote.trial import Trial
from balise.collect.work import Worker
from balise.core.kits.documents import TargetError, whole_target
from balise.listen.door import Door, room_for_connections
from balise.server.alerts.book import AlertBook
from balise.server.applications.book import ApplicationBook
from balise.server.callouts.channels import Post, tell_all
from balise.server.callouts.courier import Courier
from balise.server.enrol.keys import Enrolling
from balise.server.enrol.lists import Enrolments
from balise.server.errors import Refused, bad_field
from balise.server.events.evidence import EvidenceReader
from balise.server.hosts.book import HostBook
from balise.server.hosts.clocks import Clocks
from balise.server.hosts.directory import Directory, Known
from balise.server.hosts.groups import GroupBook
from balise.server.inventory.book import InventoryBook
from balise.server.keeping.memory import Memory, own_ceiling
from balise.server.keeping.pruning import Pruner
from balise.server.keeping.settings import SettingsBook
from balise.server.keeping.space import RoomState, Space
from balise.server.live import Hub
from balise.server.metrics.questions import Metrics
from balise.server.people.access import Access, Principal
from balise.server.plans.book import PlanBook
from balise.server.probes.book import ProbeBook
from balise.server.receive.intake import LogIntake, MetricIntake, Room
from balise.server.remote.credentials import CredentialBook
from balise.server.remote.relays import RelayBook
from balise.server.remote.work import RemoteBook, RemoteWork
from balise.server.rules.book import Rulebook
from balise.server.rules.rehearsals import Rehearsals
from balise.server.rules.watch import Watch
from balise.server.services.book import ServiceBook
from balise.server.services.kits import KitBook
from balise.server.services.proposals import Proposals
from balise.server.services.reads import ServiceReads
from balise.server.tls.certificates import ServerCertificate
from balise.server.turns import Turns
from balise.store.events.day import NewEvent
from balise.store.events.store import Delivery, EventStore, read_event
from balise.store.series.store import Retention, SeriesStore
from balise.store.state.secrets import Sealer
from balise.store.state.store import StateStore

log = logging.getLogger(__name__)
NS = 1_000_000_000
NOTICE = 5
REPORTS_EVERY = 300
"""Seconds between writings of the agents' reports, which are in memory and only needed after a restart."""
PRUNE_EVERY = 3600
ROTATION_SECONDS = 120.0
SOON_FULL = 7.0
"""Days within which a disk that fills up is told of."""
RECENT_SHARE, SAMPLE_BYTES = 0.2, 16
"""Of the ceiling of memory, what points that are not sealed yet may take; one is a time and a value."""
_ROOM_SEVERITY: dict[RoomState, str] = {"enough": "recovered", "low": "warning", "full": "critical"}
GROWTH_KNOWN = 1800.0
"""Seconds over which sizes are watched before growth is told: the first minutes after a start say nothing."""


@dataclass(frozen=True)
class Settings:
    """How a console is run. `base_url` is where it listens, `public_url` how agents elsewhere reach it."""

    data: Path
    base_url: str = "http://127.0.0.1:8808"
    public_url: str = ""
    certificate: ServerCertificate | None = None
    organisation: str = ""
    retention: Retention = field(default_factory=Retention)
    keep_events_days: float = 30.0
    keep_alerts_days: float = 400.0
    """Also for states of hosts, and for what was told to whom."""
    keep_audit_days: float = 800.0
    memory: int | None = None
    """The ceiling of what the service holds, bytes."""


class Console:
    """All parts of the service, without its HTTP face."""

    def __init__(self, settings: Settings) -> None:
        self.settings = settings
        self.started_at = time.time()
        self._open(settings)
        self.hub = Hub()
        self.door = Door(most=room_for_connections())
        self.turns = Turns()
        self.trials = Turns(8, 2, waiting=16)
        self.access = Access(self.state)
        self.directory = Directory(self.state)
        self.clocks = Clocks()
        self.events.hosts = self.directory.names_matching
        self.metrics = Metrics(self.series, self.directory)
        self.evidence = EvidenceReader(self.events)
        self.book = AlertBook(self.state, self.evidence.of_breach)
        self.hosts = HostBook(
            state=self.state, directory=self.directory, book=self.book, evidence=self.evidence, clocks=self.clocks
        )
        self.groups = GroupBook(self.state, self.directory)
        self.enrolling = Enrolling(self.state, self.directory)
        self.credentials = CredentialBook(self.state, self.sealer)
        self.book_of_settings = SettingsBook(self.state)
        self.remote = RemoteBook(self.state, self.directory, self.credentials, self.book_of_settings)
        self.relays = RelayBook(self.state, self.directory, self.remote)
        self.kits = KitBook(self.state, settings.data)
        self.services = ServiceBook(self.state, self.directory, self.kits, self.credentials)
        self.probes = ProbeBook(self.state, self.directory, self.credentials, self.series)
        self.service_reads = ServiceReads(self.services, self.evidence, self.kits)
        self.inventory = InventoryBook(self.state, self.directory, self.series)
        self.proposals = Proposals(
            services=self.services,
            kits=self.kits,
            directory=self.directory,
            report_of=self.hosts.last_report,
            names_of=self.inventory.names_of,
            ports_of=self.inventory.listening,
        )
        self.remote_work = RemoteWork(self.remote, self.directory, self.book_of_settings)
        self.enrolments = Enrolments(
            state=self.state,
            directory=self.directory,
            credentials=self.credentials,
            remote=self.remote,
            work=self.remote_work,
            settings=self.book_of_settings,
        )
        self.applications = ApplicationBook(
            state=self.state,
            directory=self.directory,
            services=self.services,
            probes=self.probes,
            kits=self.kits,
            metrics=self.metrics,
        )
        self.watch = Watch(
            state=self.state, store=self.series, directory=self.directory, clocks=self.clocks, book=self.book
        )
        rehearsals = Rehearsals(store=self.series, metrics=self.metrics, directory=self.directory, clocks=self.clocks)
        self.rules = Rulebook(
            state=self.state, metrics=self.metrics, watch=self.watch, book=self.book, rehearsals=rehearsals
        )
        self.plans = PlanBook(self.state, self.directory)
        self.post = Post(self.state, self.sealer, settings.public_url or settings.base_url)
        self.courier = Courier(self.state, self.post.send)
        self.metric_intake = MetricIntake(self.series, self.directory, self.clocks, self._room)
        self.log_intake = LogIntake(self.events, self.directory, self.hosts.report, self._room)
        self._workers: list[Worker] = []
        self._reported = time.time_ns()
        self._pruner = Pruner(self.state, keep_days=settings.keep_alerts_days, keep_audit_days=settings.keep_audit_days)
        self._pruned = 0
        self._measure_itself()
        self._keep_for(self.keeping())
        self._wire()

    def _open(self, settings: Settings) -> None:
        """Opens what everything is kept in."""
        self.space = Space(settings.data, tell=self._tell_of_room)
        self.state = StateStore(settings.data, when_full=self.space.spent)
        self.sealer = Sealer(settings.data)
        ceiling = settings.memory or own_ceiling()
        recent = int(RECENT_SHARE * ceiling / SAMPLE_BYTES)
        self.series = SeriesStore(settings.data, retention=settings.retention, most_recent=recent)
        self.events = EventStore(settings.data, keep_days=settings.keep_events_days)
        self.memory = Memory(ceiling, let_go=self._let_go)

    def _measure_itself(self) -> None:
        self._process = psutil.Process()
        self._process.cpu_percent()
        self._rates: deque[tuple[float, int, int]] = deque(maxlen=61)
        self._sizes: deque[tuple[float, int]] = deque(maxlen=1000)

    def _wire(self) -> None:
        self.loop: asyncio.AbstractEventLoop | None = None

        def on_alert(alert: Alert, what: str) -> None:
            log.info("alert=%d rule=%s host=%s severity=%s %s", alert.id, alert.rule, alert.host, alert.severity, what)
            self.hub.tell("alert", {"what": what, "alert": alert.model_dump(mode="json")})
            self.courier.wake()

        def on_state(host: Known) -> None:
            self.hub.tell("state", {"host": host.name, "state": host.state, "at": host.state_since})

        async def take_metrics(principal: Principal, body: bytes) -> object:
            return await self.metric_intake.take(principal, body, as_json=False)

        async def take_service(principal: Principal, body: bytes) -> object:
            return await self.metric_intake.take(principal, body, as_json=False, of_host=False)

        async def take_logs(principal: Principal, body: bytes) -> object:
            return await self.log_intake.take(principal, body, as_json=False)

        self.remote_work.take_metrics, self.remote_work.take_logs = take_metrics, take_logs
        self.remote.plan_of = self.plans.from_afar
        self.watch.limits_of, self.watch.planned = self.plans.limits_of, self.plans.planned_rules
        self.plans.rule_direction = self.rules.direction
        self.plans.changed = self._plans_changed
        self.remote_work.take_service, self.remote_work.services = take_service, self.services
        self.relays.services, self.relays.probes = self.services, self.probes
        self.probes.relays, self.probes.changed = self.relays.names, self.relays.wake
        self.probes.told = lambda name, state: self.hub.tell("probe", {"name": name, "state": state})
        self.services.owner_of, self.services.name_of = self.relays.owner_of, self.relays.name_of
        self.services.reach.ssh_of, self.services.reach.hand_of = self.remote.by_ssh, self._hand_of
        self.services.alerts_of = self.book.of_service
        self.services.first_of_kit = self._ship_kit
        self.services.stepped = self._service_stepped
        self.kits.changed = self._kit_changed
        self.log_intake.asides["balise.service.facts"] = self.services.take_facts
        self.log_intake.asides[INVENTORY] = self.inventory.take
        self.inventory.tell = self.tell_changes
        self.applications.report_of = self.hosts.last_report
        self.applications.planned = self.plans.applications
        self.services.changed = self.collectors_changed
        self.plans.services_of = self.services.of_agent
        self.hosts.on_report = self.services.note_report
        self.remote_work.on_facts = self.relays.on_facts = self.hosts.set_facts
        self.relays.on_moved = self.remote_work.refresh
        self.enrolments.relays = self.relays
        self.enrolling.tokens_ended = self.access.forget_host
        self.hosts.left = self.metric_intake.forget_shapes
        self.hosts.changed = self.enrolling.changed = self.owners_changed
        self.hosts.regrouped = self._regrouped
        self.enrolments.listeners.append(lambda number: self.hub.tell("enrolment", {"id": number}))
        self.book.listeners.append(on_alert)
        self.directory.state_listeners.append(on_state)
        self.events.listeners.append(self._on_events)

    def _on_events(self, day: int, ids: object, events: object) -> None:
        if self.hub.listeners:
            for number, e in zip(ids, events, strict=True):  # type: ignore[call-overload]
                row = (number, e.time, e.host, e.severity, e.source, e.body, e.attributes)
                self.hub.tell("event", read_event(day, row).model_dump(mode="json"))

    # --- work in the background

    def begin(self, loop: asyncio.AbstractEventLoop) -> None:
        """Takes up the rules and starts the workers."""
        self.loop = loop
        self.hub.start(loop)
        self.rules.ship()
        self.kits.start()
        for kit in self.kits.of_system():
            self.rules.ship(kit.rules, f"the kit {kit.kit}")
        self.watch.load(time.time())
        self._workers += [
            Worker("watch", self.tick, 1.0),
            Worker("holds", lambda: self.watch.keep_holds(time.time()), 1.0),
            Worker("courier", self._send, 0.1),
            Worker("room", self.space.look, 2.0),
            Worker("memory", self.memory.look, 1.0),
            Worker("keeper", self.keep, 20.0),
            Worker("silence", self.note_silence, 15.0),
            Worker("services", self.services.judge, 5.0),
            Worker("probes", self.probes.look, 5.0),
            Worker("relays", self.relays.look, 5.0),
            Worker("certificates", self.inventory.look_at_certificates, 300.0),
            Worker("eraser", self.erase_due, 5.0),
        ]
        for worker in self._workers:
            worker.start()
        self.plans.start(loop)
        self.relays.start(loop)
        self.relays.settle()
        self.remote_work.start(loop)
        self.probes.start()
        self.enrolments.resume()

    def _ship_kit(self, kit: KitDocument) -> None:
        """A kit has a service now: its rules are put to work, except those that somebody changed or removed."""
        self.rules.ship_with_kit(kit.kit, kit.rules)

    def _kit_changed(self, name: str, before: str) -> None:
        kit = self.kits.find(name)
        if kit is not None and (kit.system or self.services.all(kit=name)):
            self._ship_kit(kit)
            self.services.kit_changed(name, kit.version, before)

    def _service_stepped(self, host: Known, service: Service, step: ServiceStep) -> None:
        words = {
            "version": f"{service.name} went from version {step.before} to {step.after}",
            "identity": f"{service.name} is another instance now: its identity changed",
            "role": f"{service.name} was {step.before} and is {step.after} now",
        }
        self.tell_change(host.name, words.get(step.what, f"{service.name}: {step.what}"), {
            "change.kind": "service", "change.name": service.name, "service.name": service.name,
            "change.what": step.what, "change.before": step.before, "change.after": step.after,
        })  # fmt: skip

    def tell_change(self, host: str, body: str, attributes: dict[str, str], at: float | None = None) -> None:
        """Something on a host is other than it was: an event of source `change`."""
        self.tell_changes([(host, body, attributes, at)])

    def tell_changes(self, changes: list[tuple[str, str, dict[str, str], float | None]]) -> None:
        """Many at once; `at` in unix seconds, now where there is none."""
        events = [
            NewEvent(int((at or time.time()) * NS), host, NOTICE, "change", body, json.dumps(attributes))
            for host, body, attributes, at in changes
        ]
        if events:
            self.events.accept_now(Delivery(events))

    def try_kit(self, name: str, body: KitTrial, who: Principal) -> Tried:
        """Reads a target once with a kit. What could be read goes nowhere but into the answer."""
        kit = self.kits.chosen(name)
        if body.credential is not None:
            self.credentials.usable(body.credential, who, None)
        if body.target.get("socket") and who.role != "administrator":
            raise bad_field("target.socket", "only an administrator may have a socket of this machine asked")
        try:
            target = whole_target(kit, body.target, here=True)
        except TargetError as error:
            raise bad_field(error.field, error.detail) from None
        limit = seconds(body.time_limit)
        if not 0.5 <= limit <= 60:
            raise bad_field("time_limit", "between 1s and 60s")
        if kit.by in LOCAL:
            raise bad_field("kit", f"{name} looks at the host itself: try it there (balise kit try {name} --here)")
        return tried(
            kit, target, self.services.reach.attempt(kit, target, self.services.reach.secret(body.credential), limit)
        )

    def _hand_of(self, known: Known) -> SshHand | None:
        target = self.remote.by_ssh(known)
        return self.remote_work.hand(target) if target is not None else None

    def owners_changed(self) -> None:
        """Hosts came, left or changed hands: who collects what follows."""
        self.relays.settle()
        self.remote_work.refresh()

    def collectors_changed(self) -> None:
        """Groups, plans or services changed: what is collected anywhere may be another."""
        self.owners_changed()
        self.plans.wake()

    def _regrouped(self, hosts: list[int]) -> None:
        """Labels or groups of hosts changed, and with them the plans that are for them."""
        self.plans.wake(hosts)
        self.remote_work.refresh()

    def _plans_changed(self, rules: set[str]) -> None:
        self.watch.plans_changed(sorted(rules), time.time())
        self.collectors_changed()

    def trust_words(self) -> str:
        """What an enrolment command has to say so that the console's certificate is trusted."""
        certificate = self.settings.certificate
        return f" --fingerprint {certificate.fingerprint}" if certificate and certificate.self_made else ""

    def warnings(self) -> list[str]:
        """What whoever runs this console has to know before it hurts."""
        found = [] if self.space.state == "enough" else [self.space.words]
        if self.memory.state == "tight":
            found.append(self.memory.words)
        grown = self._growth()
        if not found and grown is not None and grown > 0 and self.space.free / grown < SOON_FULL:
            days = max(0.0, self.space.free / grown)
            found.append(f"at the pace of the last hours the console's disk is full in {days:.1f} days")
        if self.settings.certificate is not None and (said := self.settings.certificate.warning(time.time())):
            found.append(said)
        found += [
            f"the relay {r.name} has dropped {r.report['dropped']} requests: its buffer was full"
            for r in self.relays.all()
            if r.report and r.report["dropped"]
        ]
        now = time.time()
        own = [*(worker.failures for worker in self._workers), self.remote_work.failures, self.probes.failures]
        found += [said for failures in own if (said := failures.warning(now))]
        found += [f"the rule {name} cannot be checked: {why}" for name, why in sorted(self.watch.problems.items())]
        if aside := self.series.aside():
            found.append(f"{aside} rows of points could not be sealed and are set aside in series.db")
        return found

    @property
    def _room(self) -> Room:
        """What whoever takes bodies in asks first."""
        return Room(self.space.check, self.memory.check_body)

    def _let_go(self) -> None:
        """Caches that can be filled again."""
        self.metric_intake.forget_shapes()

    def keeping(self) -> Keeping:
        """How long things are kept."""
        said, own = self.book_of_settings.keeping(), self.settings
        return said or Keeping(
            raw=own.retention.raw,
            five_minutes=own.retention.five_minutes,
            hour=own.retention.hour,
            events=own.keep_events_days,
            alerts=own.keep_alerts_days,
            audit=own.keep_audit_days,
        )

    def set_keeping(self, keeping: Keeping, who: str) -> Keeping:
        """Keeps things so long from now on; what is older goes within a minute."""
        self.book_of_settings.set_keeping(keeping, who)
        self._keep_for(keeping)
        return keeping

    def _keep_for(self, keeping: Keeping) -> None:
        self.series.retention = Retention(raw=keeping.raw, five_minutes=keeping.five_minutes, hour=keeping.hour)
        self.events.keep_days = keeping.events
        self._pruner.keep_days, self._pruner.keep_audit_days = keeping.alerts, keeping.audit
        self._pruned = 0

    def _tell_of_room(self, state: RoomState, words: str) -> None:
        """A new state of the disk goes to every channel by which anybody is called."""
        about = "the console's own disk"
        tell_all(self.state, {"about": about, "detail": words, "severity": _ROOM_SEVERITY[state]}, time.time())
        self.courier.wake()

    def rotate_credential(self, name: str, body: Any, *, anyway: bool) -> None:
        """Tries a credential that is in use on every host that uses it.

        Raises:
            Refused: 409 naming the hosts where it does not work.
        """
        targets = [t.model_copy(update={"credential": body}) for t in self.remote.users_of(name)]
        services = self.services.users_of(name)
        if anyway or not (targets or services):
            return
        results = self.remote_work.submit(self._try_all(targets)).result(ROTATION_SECONDS) if targets else []
        bad = [(t.host, r.message) for t, r in zip(targets, results, strict=True) if r.result != "added"]
        for called, target in services:
            if target.service is not None:
                read = self.services.reach.attempt(target.service.kit, target.service.target, body)
                if read.nothing:
                    bad.append((called, read.nothing))
        if bad:
            raise Refused(
                409,
                f"It does not work on {len(bad)} of the {len(targets) + len(services)} that use {name!r}, "
                "and is not kept: " + "; ".join(f"{host}: {message}" for host, message in bad[:5]),
            )

    async def _try_all(self, targets: list[RemoteTarget]) -> list[Trial]:
        gate = asyncio.Semaphore(self.book_of_settings.collection().side_by_side)

        async def one(target: RemoteTarget) -> Trial:
            async with gate:
                return await self.remote_work.attempt(target)

        return await asyncio.gather(*(one(target) for target in targets))

    def add_worker(self, worker: Worker) -> None:
        """More work in the background, started and stopped with the rest."""
        self._workers.append(worker)

    def tick(self) -> None:
        """One look at everything: rules, then the states of hosts."""
        now = time.time()
        self.watch.tick(now)
        self.directory.judge(self.book.severities(), now)
        self._rates.append((now, self.series.points, self.events.events))

    def _send(self) -> None:
        self.courier.wait(1.0)
        self.courier.send_due(time.time())

    def keep(self) -> None:
        """Sealing, compacting, forgetting, and keeping what changes slowly."""
        now = time.time_ns()
        self.book.write_values()
        self.directory.write_heard()
        self.access.write_used()
        self.kits.look()
        if now - self._reported > REPORTS_EVERY * NS:
            self._reported = now
            self.hosts.write_reports()
        if self.space.state != "full":
            # Sealing takes room before it gives some back.
            self.series.seal_due(now)
            self.series.compact(now)
        self._sizes.append((time.time(), self._size()))
        if self.settings.certificate is not None:
            self.settings.certificate.look(time.time())
        if self.started_at + 60 < time.time() or self.space.state == "full":
            self.series.forget(now)
            self.events.forget(now)
            self.inventory.forget(time.time() - self.events.keep_days * 86_400)
            if self.series.make_room(now):
                self.metric_intake.forget_shapes()
            if now - self._pruned > PRUNE_EVERY * NS:
                self._pruned = now
                self._pruner.prune(time.time())

    def erase_due(self) -> None:
        """Removes the history of hosts that were erased, one after the other; goes on after a restart."""
        for number, name in self.hosts.to_erase():
            self.series.erase(number)
            if self.directory.find(name) is None:
                # Events are kept by name: when it was given to another host at once, they are the other's now.
                self.events.erase(name)
            self.hosts.erased(number)
            log.info("host=%s erased", name)

    def end_waits(self) -> None:
        """Ends what holds connections open, so that the service can stop."""
        self.hub.stop()
        self.plans.stop()
        self.relays.stop()

    def note_silence(self) -> None:
        """For each collected host, how long nothing was heard of it and how far its clock is off, as series."""
        now = time.time()
        known = [k for k in self.directory.all() if k.mode != "received" and k.last_seen is not None]
        if now - self.started_at < 30:
            # After a start, agents first have to find their console again.
            return
        silence = {k.id: max(0.0, now - (k.last_seen or now)) for k in known}
        clocks = {k.id: abs(behind) for k in known if (behind := self.clocks.known(k.id)) is not None}
        about = "How long nothing has been heard from a host that is collected from"
        self._keep_own("balise.host.silence", about, silence, now)
        self._keep_own("balise.host.clock.error", "How far a host's clock is from the console's", clocks, now)

    def _keep_own(self, name: str, about: str, by_host: dict[int, float], now: float) -> None:
        """Keeps a number for each host, in seconds, as a metric of the console's own."""
        if not by_host:
            return
        catalogue = self.series.catalogue
        metric = catalogue.metric(name, "s", "gauge", about)
        ids = np.array([catalogue.series_id(host, metric, (), "", "gauge") for host in by_host])
        times = np.full(len(ids), int(now * NS), np.int64)
        values = np.round(np.array(list(by_host.values())), 1)
        self.series.accept_now(self.series.batch(catalogue.layout(ids), times, values))

    # --- telling of itself

    def status(self, *, whole: bool) -> Status:
        return Status(
            version=__version__,
            state="ready",
            organisation=self.settings.organisation,
            needs_first_user=not self.access.has_users(),
            warnings=self.warnings() if whole else [],
            figures=self.figures() if whole else None,
        )

    def _size(self) -> int:
        return self.state.size() + self.series.size() + self.events.size()

    def _growth(self) -> float | None:
        """Bytes a day, None until they are known."""
        if self._sizes and (known := self._sizes[-1][0] - self._sizes[0][0]) >= GROWTH_KNOWN:
            return (self._sizes[-1][1] - self._sizes[0][1]) / known * 86_400
        return None

    def figures(self) -> Figures:
        now = time.time()
        first = self._rates[0] if self._rates else (now, self.series.points, self.events.events)
        span = max(now - first[0], 1.0)
        counters = {
            **self.metric_intake.counters,
            **self.log_intake.counters,
            "points.repeated": self.series.repeated,
            "series.refused": self.series.catalogue.refused,
            "series.forgotten": self.series.forgotten,
            "shapes.hit": self.metric_intake.shape_hits,
            "shapes.learnt": self.metric_intake.shape_misses,
            "arrivals.dropped": self.watch.dropped,
            "workers.failed": sum(w.failures.count for w in self._workers),
            "windows.left_out": self.watch.left_out,
            "alerts.failed": self.book.failed,
            "listeners.failed": self.series.untold + self.events.untold,
            "courier.failed": self.courier.failed,
            "memory.refused": self.memory.refused,
            "connections.turned-out": self.door.counters["turned-out"],
        }
        return Figures(
            uptime_seconds=now - self.started_at,
            cpu=self._process.cpu_percent() / 100,
            memory=self._process.memory_info().rss,
            points_per_second=(self.series.points - first[1]) / span,
            events_per_second=(self.events.events - first[2]) / span,
            hosts=len(self.directory.all()),
            watched_groups=self.watch.groups,
            last_tick_seconds=self.watch.last_tick,
            counters=counters,
            storage=Storage(
                state=self.state.size(),
                series=self.series.size(),
                events=self.events.size(),
                free=shutil.disk_usage(self.settings.data).free,
                growth=self._growth(),
                series_count=len(self.series.catalogue.series),
                samples_waiting=self.series.head.samples,
                keeps_raw_days=self.series.retention.raw,
                keeps_5m_days=self.series.retention.five_minutes,
                keeps_1h_days=self.series.retention.hour,
                keeps_events_days=self.events.keep_days,
            ),
        )

    def close(self) -> None:
        """Ends the work in order: nothing new, then what waits is written."""
        for worker in self._workers:
            worker.stop()
        self.courier.wake()
        for worker in self._workers:
            worker.join()
        self.watch.keep_holds(time.time(), all_of_them=True)
        self.remote_work.stop()
        self.probes.stop()
        self.access.write_used()
        self.book.write_values()
        self.directory.write_heard()
        self.hosts.write_reports()
        self.courier.close()
        self.hub.stop()
        self.events.close()
        self.series.close()
        self.state.close()
