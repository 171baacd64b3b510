"""Every part of the service, made once, in order, and handed what it needs."""

from __future__ import annotations

import time
from dataclasses import dataclass
from typing import Any

from balise.api.inventory import EVENT as INVENTORY
from balise.api.keeping import Keeping
from balise.api.services import EVENT as SERVICE_FACTS
from balise.server.alerts.book import AlertBook
from balise.server.alerts.search import AlertSearch
from balise.server.applications.book import ApplicationBook
from balise.server.applications.talks import Talks
from balise.server.asking import read_filter
from balise.server.availability.book import AvailabilityBook
from balise.server.availability.histories import Histories
from balise.server.callouts.book import CalloutBook
from balise.server.callouts.channel_book import ChannelBook
from balise.server.callouts.channels.channel import Outside
from balise.server.callouts.courier import Courier
from balise.server.callouts.links import Links
from balise.server.callouts.news import OwnNews
from balise.server.callouts.persons import PersonBook
from balise.server.callouts.post import Post
from balise.server.callouts.rotas import RotaBook
from balise.server.dashboards.answering import Answering, Sources
from balise.server.dashboards.book import DashboardBook
from balise.server.data.backups import BackupBook
from balise.server.data.exports import ExportBook
from balise.server.data.sizes import Sizes
from balise.server.enrol.keys import Enrolling
from balise.server.enrol.lists import Enrolments
from balise.server.events.changes import ChangeLog
from balise.server.events.days import DayBook
from balise.server.events.evidence import EvidenceReader
from balise.server.events.fields import FieldSearch
from balise.server.events.patterns import PatternSearch
from balise.server.events.search import EventSearch
from balise.server.events.sign_ins import SignInSearch
from balise.server.filters.book import FilterBook
from balise.server.fleet.columns import Columns
from balise.server.fleet.processes import ProcessHistory, Recognised
from balise.server.fleet.requests import RequestHistory
from balise.server.fleet.sessions import SessionHistory
from balise.server.fleet.table import FleetTable
from balise.server.fleet.tree import FleetTree
from balise.server.forwards.book import ForwardBook
from balise.server.fronting import Fronts
from balise.server.hosts.book import HostBook
from balise.server.hosts.clocks import Clocks
from balise.server.hosts.directory import Directory
from balise.server.hosts.erasing import Eraser
from balise.server.hosts.groups import GroupBook
from balise.server.hosts.machines import Machines
from balise.server.hosts.reports import HostReports
from balise.server.hosts.signing_in import SignInFigures
from balise.server.hosts.silence import Silence
from balise.server.hosts.views import ViewBook
from balise.server.incidents.acts import IncidentActs
from balise.server.incidents.book import IncidentBook
from balise.server.incidents.calling import Calling
from balise.server.incidents.charts import Charts
from balise.server.incidents.dead_channels import DeadChannels
from balise.server.incidents.drills import Drills
from balise.server.incidents.first_and_worst import FirstAndWorst
from balise.server.incidents.responses import ResponseBook
from balise.server.incidents.round import Round
from balise.server.incidents.search import IncidentSearch
from balise.server.incidents.surroundings import Surroundings
from balise.server.incidents.telling import Messages
from balise.server.incidents.who import Who
from balise.server.inventory.book import InventoryBook
from balise.server.keeping.figures import OwnFigures
from balise.server.keeping.growth import Growth
from balise.server.keeping.keeper import Keeper
from balise.server.keeping.memory import Memory, own_ceiling
from balise.server.keeping.pruning import Pruner
from balise.server.keeping.retention import RetentionBook
from balise.server.keeping.rubbish import Rubbish
from balise.server.keeping.runs import ConsoleRuns
from balise.server.keeping.settings import SettingsBook
from balise.server.keeping.space import Space
from balise.server.live import Hub
from balise.server.maintenance.book import MaintenanceBook
from balise.server.metrics.moved import MostMoved
from balise.server.metrics.questions import Metrics
from balise.server.people.access import Access
from balise.server.people.sessions import Sessions
from balise.server.people.tokens import TokenBook
from balise.server.people.tries import Passwords
from balise.server.people.users import UserBook
from balise.server.plans.agents import AgentPlans
from balise.server.plans.asks import PathAsks
from balise.server.plans.book import PlanBook
from balise.server.plans.held import HeldPlans
from balise.server.probes.book import ProbeBook
from balise.server.probes.results import ProbeResults
from balise.server.receive.bodies import Room
from balise.server.receive.deliveries import OwnDeliveries
from balise.server.receive.logs import LogIntake
from balise.server.receive.metrics import MetricIntake
from balise.server.receive.taking import Taking
from balise.server.receivers.book import ReceiverBook
from balise.server.receivers.drops import Drops
from balise.server.receivers.senders import SenderBook
from balise.server.remote.book import RemoteBook
from balise.server.remote.credentials import CredentialBook
from balise.server.remote.desk import RelayDesk
from balise.server.remote.relays import RelayBook
from balise.server.remote.speakers import Speakers
from balise.server.remote.thread import RemoteThread
from balise.server.remote.work import RemoteWork
from balise.server.rules.book import RuleBook
from balise.server.rules.doubts import Doubts
from balise.server.rules.foresight import Foresight
from balise.server.rules.kits import KitRules
from balise.server.rules.late_comers import LateComers
from balise.server.rules.learner import History, Learner
from balise.server.rules.listening import Listening, Past
from balise.server.rules.playing import Playing
from balise.server.rules.pulse import Pulse
from balise.server.rules.rehearsals import Rehearsals
from balise.server.rules.tuning import Tuning
from balise.server.rules.units import Units
from balise.server.rules.watch import Watch
from balise.server.rules.zone import local_zone
from balise.server.services.book import ServiceBook
from balise.server.services.health import ServiceHealth
from balise.server.services.kits import KitBook
from balise.server.services.proposals import Proposals
from balise.server.services.reach import Reach
from balise.server.services.reads import ServiceReads
from balise.server.services.rotation import Rotation
from balise.server.services.targets import ServiceTargets
from balise.server.services.trials import KitTrials
from balise.server.settings import Settings
from balise.server.signals import Signal
from balise.server.sources.book import SourceBook
from balise.server.sources.paths import PathTrials
from balise.server.telling import Telling
from balise.server.trail.causes import CauseBook
from balise.server.trail.edges import Edges
from balise.server.trail.gather import Gatherer
from balise.server.trail.happened import Happened
from balise.server.trail.lines import LineReader
from balise.server.trail.said import SaidReader
from balise.server.trail.trails import Trails
from balise.server.turns import Turnstile
from balise.server.workers import Workers
from balise.store.events.aside import Aside
from balise.store.events.store import EventStore
from balise.store.series.store import SeriesStore
from balise.store.state.secrets import Sealer
from balise.store.state.store import StateStore

RECENT_SHARE = 0.15
"""Of the ceiling of memory, what points that are not sealed yet may take."""


@dataclass(frozen=True, kw_only=True)
class Ground:
    """What everything stands on. Each stage has the parts of those before it, and is made of them."""

    settings: Settings
    space: Space
    state: StateStore
    sealer: Sealer
    memory: Memory
    series: SeriesStore
    directory: Directory
    events: EventStore
    room: Room
    workers: Workers
    fronts: Fronts
    hub: Hub
    turnstile: Turnstile


def _ground(settings: Settings) -> Ground:
    space = Space(settings.data)
    state = StateStore(settings.data, when_full=space.spent)
    ceiling = settings.memory or own_ceiling()
    memory = Memory(ceiling)
    directory = Directory(state)
    return Ground(
        settings=settings,
        space=space,
        state=state,
        sealer=Sealer(settings.data),
        memory=memory,
        series=SeriesStore(settings.data, retention=settings.retention, most_recent=int(RECENT_SHARE * ceiling)),
        directory=directory,
        events=EventStore(settings.data, keep_days=settings.keep_events_days, hosts=directory.names_matching),
        room=Room(space.check, memory.check_body),
        workers=Workers(),
        fronts=Fronts(),
        hub=Hub(),
        turnstile=Turnstile(memory),
    )


@dataclass(frozen=True, kw_only=True)
class People(Ground):
    """Who comes in, and how long things are kept for them."""

    access: Access
    users: UserBook
    sessions: Sessions
    tokens: TokenBook
    filters: FilterBook
    collection: SettingsBook
    pruner: Pruner
    growth: Growth
    retention: RetentionBook
    keeper: Keeper
    days: DayBook


def _people(on: Ground) -> People:
    access = Access(on.state)
    passwords = Passwords()
    settings = SettingsBook(on.state)
    own = on.settings
    pruner = Pruner(state=on.state, keep_days=own.keep_alerts_days, keep_audit_days=own.keep_audit_days)
    growth = Growth(lambda: on.state.size() + on.series.size() + on.events.size())
    usual = Keeping(
        raw=own.retention.raw,
        five_minutes=own.retention.five_minutes,
        hour=own.retention.hour,
        events=own.keep_events_days,
        alerts=own.keep_alerts_days,
        audit=own.keep_audit_days,
    )
    return People(
        **vars(on),
        access=access,
        users=UserBook(state=on.state, access=access, passwords=passwords),
        sessions=Sessions(state=on.state, access=access, passwords=passwords),
        tokens=TokenBook(state=on.state, access=access),
        filters=FilterBook(on.state),
        collection=settings,
        pruner=pruner,
        growth=growth,
        retention=RetentionBook(
            settings=settings,
            usual=usual,
            series=on.series,
            events=on.events,
            pruner=pruner,
            space=on.space,
            growth=growth,
        ),
        keeper=Keeper(series=on.series, events=on.events, space=on.space, pruner=pruner),
        days=DayBook(state=on.state, events=on.events, aside=Aside(own.aside_folder, on.events)),
    )


@dataclass(frozen=True, kw_only=True)
class Hosts(People):
    """Hosts, what is known of them, and who is told."""

    charts: Charts
    courier: Courier
    channels: ChannelBook
    callouts: CalloutBook
    persons: PersonBook
    rotas: RotaBook
    links: Links
    news: OwnNews
    changes: ChangeLog
    evidence: EvidenceReader
    event_search: EventSearch
    pattern_search: PatternSearch
    field_search: FieldSearch
    sign_in_search: SignInSearch
    alerts: AlertBook
    alert_search: AlertSearch
    clocks: Clocks
    reports: HostReports
    machines: Machines
    hosts: HostBook
    groups: GroupBook
    views: ViewBook
    silence: Silence
    sign_in_figures: SignInFigures
    eraser: Eraser
    metrics: Metrics
    most_moved: MostMoved
    held_plans: HeldPlans
    plans: PlanBook
    inventory: InventoryBook


def _hosts(on: People) -> Hosts:
    state, directory = on.state, on.directory
    links = Links(on.sealer, on.settings.reached_at)
    metrics = Metrics(on.series, directory)
    charts = Charts(state=state, metrics=metrics)
    outside = Outside(
        public_url=on.settings.reached_at,
        link=links.of,
        chart=charts.of,
        may_run=on.settings.channels_may_run,
    )
    post = Post(state=state, sealer=on.sealer, outside=outside)
    courier = Courier(state, post.send)
    changes = ChangeLog(on.events)
    evidence = EvidenceReader(on.events)
    alerts = AlertBook(state=state, evidence=evidence.captured)
    clocks = Clocks()
    plans = HeldPlans(state=state, directory=directory)
    reports = HostReports(state=state, directory=directory)
    machines = Machines(directory=directory, planned=plans.machine_of)
    hosts = HostBook(
        state=state,
        directory=directory,
        alerts=alerts,
        evidence=evidence,
        clocks=clocks,
        reports=reports,
        machines=machines,
    )
    return Hosts(
        **vars(on),
        charts=charts,
        courier=courier,
        channels=ChannelBook(state=state, sealer=on.sealer, post=post, courier=courier),
        callouts=CalloutBook(state),
        persons=PersonBook(state),
        rotas=RotaBook(state),
        links=links,
        news=OwnNews(state=state, courier=courier),
        changes=changes,
        evidence=evidence,
        event_search=EventSearch(events=on.events, attribute_of=directory.attribute_of),
        pattern_search=PatternSearch(on.events),
        field_search=FieldSearch(on.events),
        sign_in_search=SignInSearch(events=on.events, attribute_of=directory.attribute_of),
        alerts=alerts,
        alert_search=AlertSearch(state=state, alerts=alerts),
        clocks=clocks,
        reports=reports,
        machines=machines,
        hosts=hosts,
        groups=GroupBook(state=state, directory=directory),
        views=ViewBook(state),
        silence=Silence(series=on.series, directory=directory, clocks=clocks, planned=plans.every),
        sign_in_figures=SignInFigures(series=on.series, directory=directory, events=on.events),
        eraser=Eraser(hosts=hosts, directory=directory, series=on.series, events=on.events),
        metrics=metrics,
        most_moved=MostMoved(store=on.series, directory=directory),
        held_plans=plans,
        plans=PlanBook(state=state, directory=directory, held=plans, filters=on.filters),
        inventory=InventoryBook(state=state, directory=directory, series=on.series, changes=changes),
    )


@dataclass(frozen=True, kw_only=True)
class Remote(Hosts):
    """What is read over the network, and what is read of services."""

    credentials: CredentialBook
    relays: RelayBook
    speakers: Speakers
    remote: RemoteBook
    thread: RemoteThread
    kits: KitBook
    reach: Reach
    service_health: ServiceHealth
    service_targets: ServiceTargets
    services: ServiceBook
    path_asks: PathAsks
    agent_plans: AgentPlans
    probe_results: ProbeResults
    probes: ProbeBook


def _remote(on: Hosts) -> Remote:
    state, directory = on.state, on.directory
    credentials = CredentialBook(state, on.sealer)
    relays = RelayBook(state=state, directory=directory, access=on.access)
    remote = RemoteBook(
        state=state,
        directory=directory,
        credentials=credentials,
        settings=on.collection,
        plans=on.held_plans,
        relays=relays,
        access=on.access,
    )
    thread = RemoteThread()
    kits = KitBook(state=state, folder=on.settings.data)
    reach = Reach(state=state, credentials=credentials, remote=remote, thread=thread)
    health = ServiceHealth(state=state, directory=directory, kits=kits, alerts=on.alerts, changes=on.changes)
    targets = ServiceTargets(state=state, directory=directory, kits=kits, relays=relays, reach=reach, health=health)
    services = ServiceBook(
        state=state,
        directory=directory,
        kits=kits,
        credentials=credentials,
        relays=relays,
        reach=reach,
        alerts=on.alerts,
        health=health,
    )
    asks = PathAsks()
    results = ProbeResults(state=state, directory=directory, series=on.series)
    return Remote(
        **vars(on),
        credentials=credentials,
        relays=relays,
        speakers=Speakers(state=state, directory=directory, relays=relays),
        remote=remote,
        thread=thread,
        kits=kits,
        reach=reach,
        service_health=health,
        service_targets=targets,
        services=services,
        path_asks=asks,
        agent_plans=AgentPlans(directory=directory, plans=on.held_plans, services=targets, asks=asks),
        probe_results=results,
        probes=ProbeBook(state=state, directory=directory, credentials=credentials, results=results, relays=relays),
    )


@dataclass(frozen=True, kw_only=True)
class Intakes(Remote):
    """Where what is collected comes in, from wherever."""

    metric_intake: MetricIntake
    log_intake: LogIntake
    senders: SenderBook
    receivers: ReceiverBook
    taking: Taking
    drops: Drops
    forwards: ForwardBook
    sizes: Sizes
    backups: BackupBook
    exports: ExportBook
    remote_work: RemoteWork
    desk: RelayDesk


def _intakes(on: Remote) -> Intakes:
    metric_intake = MetricIntake(
        store=on.series,
        directory=on.directory,
        clocks=on.clocks,
        room=on.room,
        known=on.settings.data / "known-bodies",
    )
    metric_intake.take_up_known()
    log_intake = LogIntake(
        store=on.events,
        directory=on.directory,
        room=on.room,
        reports=on.reports.take,
        takers={SERVICE_FACTS: on.service_health.take_facts, INVENTORY: on.inventory.take},
    )
    senders = SenderBook(state=on.state, directory=on.directory)
    receivers = ReceiverBook(
        state=on.state,
        events=on.events,
        senders=senders,
        relays=on.relays,
        room=on.room,
        certificate=on.settings.own_certificate,
    )
    return Intakes(
        **vars(on),
        metric_intake=metric_intake,
        log_intake=log_intake,
        senders=senders,
        receivers=receivers,
        taking=Taking(access=on.access, metrics=metric_intake, logs=log_intake, speakers=on.speakers, syslog=receivers),
        drops=Drops(series=on.series, directory=on.directory, senders=senders, receivers=receivers),
        forwards=ForwardBook(
            state=on.state,
            events=on.events,
            series=on.series,
            directory=on.directory,
            filters=on.filters,
            credentials=on.credentials,
        ),
        sizes=Sizes(state=on.state, series=on.series, events=on.events),
        backups=BackupBook(data=on.settings.data, folder=on.settings.backups_folder, state=on.state),
        exports=ExportBook(data=on.settings.data, folder=on.settings.exports_folder, state=on.state),
        remote_work=RemoteWork(
            thread=on.thread,
            remote=on.remote,
            directory=on.directory,
            settings=on.collection,
            services=on.service_targets,
            reports=on.reports,
            intakes=OwnDeliveries(metrics=metric_intake, logs=log_intake),
        ),
        desk=RelayDesk(
            state=on.state,
            directory=on.directory,
            relays=on.relays,
            remote=on.remote,
            services=on.service_targets,
            probes=on.probes,
            probed=on.probe_results.heard,
            reports=on.reports,
            receivers=receivers,
            plans=on.held_plans,
        ),
    )


@dataclass(frozen=True, kw_only=True)
class Rules(Intakes):
    """Rules, and all that people do with hosts and services."""

    runs: ConsoleRuns
    watch: Watch
    learner: Learner
    late_comers: LateComers
    listening: Listening
    tuning: Tuning
    foresight: Foresight
    units: Units
    rules: RuleBook
    kit_rules: KitRules
    pulse: Pulse
    service_reads: ServiceReads
    proposals: Proposals
    kit_trials: KitTrials
    rotation: Rotation
    applications: ApplicationBook
    maintenance: MaintenanceBook
    talks: Talks
    sources: SourceBook
    path_trials: PathTrials
    enrolling: Enrolling
    enrolments: Enrolments


def _rules(on: Intakes) -> Rules:
    state, directory = on.state, on.directory
    applications = ApplicationBook(
        state=state,
        directory=directory,
        services=on.services,
        probes=on.probe_results,
        kits=on.kits,
        metrics=on.metrics,
        plans=on.held_plans,
        alerts=on.alerts,
    )
    applications.place()
    maintenance = MaintenanceBook(state=state, directory=directory, members=applications.members)
    runs = ConsoleRuns(state=state)
    watch = Watch(
        state=state,
        store=on.series,
        directory=directory,
        clocks=on.clocks,
        alerts=on.alerts,
        plans=on.held_plans,
        applications=applications.members,
        absences=runs.absences,
    )
    zone = local_zone()
    past = Past(events=on.events, directory=directory, clocks=on.clocks)
    history = History(on.metrics)
    learner = Learner(watch=watch, history=history, zone=zone)
    playing = Playing(
        watch=watch,
        store=on.series,
        state=state,
        history=history,
        learner=learner,
        past=past,
        clocks=on.clocks,
        zone=zone,
    )
    catalogue = on.series.catalogue
    rehearsals = Rehearsals(
        catalogue=catalogue,
        metrics=on.metrics,
        directory=directory,
        playing=playing,
        zone=zone,
        absences=runs.absences,
    )
    units = Units(catalogue=catalogue, kits=on.kits)
    rules = RuleBook(
        state=state,
        watch=watch,
        alerts=on.alerts,
        plans=on.held_plans,
        rehearsals=rehearsals,
        units=units,
        doubts=Doubts(catalogue=catalogue, directory=directory),
    )
    tuning = Tuning(
        rules=rules,
        rehearsals=rehearsals,
        alerts=on.alert_search,
        book=on.alerts,
        plans=on.plans,
        held=on.held_plans,
        directory=directory,
        watch=watch,
    )
    return Rules(
        **vars(on),
        runs=runs,
        watch=watch,
        learner=learner,
        late_comers=LateComers(watch=watch, rehearsals=rehearsals, alerts=on.alerts, state=state, plans=on.held_plans),
        listening=Listening(events=on.events, watch=watch, directory=directory, state=state, past=past),
        tuning=tuning,
        foresight=Foresight(metrics=on.metrics, rehearsals=rehearsals, learner=learner, history=history, zone=zone),
        units=units,
        rules=rules,
        kit_rules=KitRules(rules=rules, kits=on.kits, services=on.services),
        pulse=Pulse(watch=watch, directory=directory, alerts=on.alerts, paused=lambda: maintenance.paused),
        service_reads=ServiceReads(services=on.services, evidence=on.evidence, kits=on.kits),
        proposals=Proposals(
            services=on.services,
            reach=on.reach,
            kits=on.kits,
            directory=directory,
            reports=on.reports,
            inventory=on.inventory,
        ),
        kit_trials=KitTrials(kits=on.kits, credentials=on.credentials, reach=on.reach),
        rotation=Rotation(
            credentials=on.credentials,
            remote=on.remote,
            services=on.service_targets,
            reach=on.reach,
            thread=on.thread,
            work=on.remote_work,
            settings=on.collection,
        ),
        applications=applications,
        maintenance=maintenance,
        talks=Talks(directory=directory, services=on.services, reports=on.reports, applications=applications),
        sources=SourceBook(
            directory=directory,
            reports=on.reports,
            senders=on.senders,
            receivers=on.receivers,
            logs=on.log_intake,
        ),
        path_trials=PathTrials(
            state=state,
            directory=directory,
            asks=on.path_asks,
            remote=on.remote,
            thread=on.thread,
            relays=on.desk,
        ),
        enrolling=Enrolling(state=state, directory=directory, access=on.access, senders=on.senders),
        enrolments=Enrolments(
            state=state,
            directory=directory,
            credentials=on.credentials,
            remote=on.remote,
            work=on.remote_work,
            thread=on.thread,
            desk=on.desk,
            settings=on.collection,
        ),
    )


@dataclass(frozen=True, kw_only=True)
class Incidents(Rules):
    """What belongs together, who has it, and who is told."""

    surroundings: Surroundings
    incidents: IncidentBook
    incident_acts: IncidentActs
    incident_search: IncidentSearch
    calling: Calling
    messages: Messages
    round: Round
    drills: Drills
    who: Who
    dead_channels: DeadChannels
    responses: ResponseBook
    first_and_worst: FirstAndWorst


def _incidents(on: Rules) -> Incidents:
    state, directory = on.state, on.directory
    surroundings = Surroundings(directory=directory, applications=on.applications, machines=on.machines)

    def paused() -> dict[int, str]:
        return on.maintenance.paused

    incidents = IncidentBook(state=state, directory=directory, surroundings=surroundings, paused=paused)
    calling = Calling(state=state, directory=directory, incidents=incidents, callouts=on.callouts)
    messages = Messages(
        state=state,
        directory=directory,
        incidents=incidents,
        paused=paused,
        wake=on.courier.wake,
        public_url=on.settings.reached_at,
    )
    return Incidents(
        **vars(on),
        surroundings=surroundings,
        incidents=incidents,
        incident_acts=IncidentActs(state=state, incidents=incidents),
        incident_search=IncidentSearch(state=state, directory=directory, paused=paused),
        calling=calling,
        messages=messages,
        round=Round(incidents=incidents, calling=calling, messages=messages),
        drills=Drills(state=state, callouts=on.callouts, incidents=incidents),
        who=Who(state=state, callouts=on.callouts, directory=directory, surroundings=surroundings),
        dead_channels=DeadChannels(incidents=incidents),
        first_and_worst=FirstAndWorst(state=state, evidence=on.evidence),
        responses=ResponseBook(
            state=state, directory=directory, incidents=incidents, evidence=on.evidence, probe=on.probes.again
        ),
    )


@dataclass(frozen=True, kw_only=True)
class Drilling(Incidents):
    """From the whole fleet down to one thing."""

    columns: Columns
    fleet_table: FleetTable
    tree: FleetTree
    process_history: ProcessHistory
    session_history: SessionHistory
    request_history: RequestHistory
    availability: AvailabilityBook
    dashboards: DashboardBook
    answering: Answering
    causes: CauseBook
    trails: Trails


def _drilling(on: Incidents) -> Drilling:
    histories = Histories(
        state=on.state,
        directory=on.directory,
        probes=on.probe_results,
        applications=on.applications,
        metrics=on.metrics,
        runs=on.runs,
    )
    columns = Columns(
        metrics=on.metrics,
        directory=on.directory,
        events=on.events,
        counts={
            "alerts": lambda where: on.alerts.open.by_host(read_filter(where, "where")),
            "incidents": on.incident_search.open_by_host,
        },
        kits=on.services.versions,
    )
    table = FleetTable(directory=on.directory, metrics=on.metrics, columns=columns)
    causes = CauseBook(on.state)
    edges = Edges(
        directory=on.directory,
        applications=on.applications,
        talks=on.talks,
        services=on.services,
        probes=on.probe_results,
        machines=on.machines,
    )
    tree = FleetTree(
        directory=on.directory,
        alerts=on.alerts.open,
        services=on.services.states_by_host,
        applications=on.applications.all,
    )
    return Drilling(
        **vars(on),
        columns=columns,
        fleet_table=table,
        tree=tree,
        dashboards=DashboardBook(state=on.state, kits=lambda: {name: on.kits.chosen(name) for name in on.kits.names()}),
        answering=Answering(
            directory=on.directory,
            named=on.filters.text,
            sources=Sources(
                metrics=on.metrics,
                table=table,
                tree=tree,
                events=on.event_search,
                patterns=on.pattern_search,
                incidents=on.incident_search,
                alerts=on.alert_search,
                foresight=on.foresight,
            ),
        ),
        causes=causes,
        trails=Trails(
            state=on.state,
            gatherer=Gatherer(
                edges=edges,
                lines=LineReader(store=on.series, clocks=on.clocks, units=on.units),
                said=SaidReader(on.events),
                happened=Happened(events=on.events, hosts=on.hosts, maintenance=on.maintenance),
            ),
            edges=edges,
            causes=causes,
            advice=on.rules.advice_on,
            zone=local_zone(),
        ),
        availability=AvailabilityBook(state=on.state, directory=on.directory, histories=histories, zone=local_zone()),
        session_history=SessionHistory(directory=on.directory, events=on.events),
        request_history=RequestHistory(directory=on.directory, events=on.events),
        process_history=ProcessHistory(
            directory=on.directory,
            events=on.events,
            metrics=on.metrics,
            services=lambda host: [
                Recognised(service.name, kit.recognise)
                for service in on.services.all(host)
                if (kit := on.kits.find(service.kit)) is not None
            ],
        ),
    )


@dataclass(frozen=True, kw_only=True)
class Parts(Drilling):
    """All parts of the service."""

    figures: OwnFigures


def build(settings: Settings) -> Parts:
    """Makes all parts over one folder. Nothing works in the background before `life.begin`."""
    on = _drilling(_incidents(_rules(_intakes(_remote(_hosts(_people(_ground(settings))))))))
    parts = Parts(**vars(on), figures=_figures(on))
    _connect_reading(parts)
    _connect_telling(parts)
    _employ(parts)
    return parts


def _figures(on: Incidents) -> OwnFigures:
    points, records = on.metric_intake.counters, on.log_intake.counters
    return OwnFigures(
        organisation=on.settings.organisation,
        access=on.access,
        state=on.state,
        series=on.series,
        events=on.events,
        space=on.space,
        memory=on.memory,
        growth=on.growth,
        counts={
            "hosts": lambda: len(on.directory.all()),
            "watched_groups": lambda: on.watch.groups,
            "last_tick_seconds": lambda: on.watch.last_tick,
            "cpu_beside": lambda: on.fronts.cpu,
            "memory_beside": lambda: on.fronts.memory,
        },
        counters={
            "points.rejected": lambda: points["points.rejected"],
            "points.out-of-time": lambda: points["points.out-of-time"],
            "points.repeated": lambda: on.series.repeated,
            "events.rejected": lambda: records["events.rejected"],
            "events.too-old": lambda: records["events.too-old"],
            "series.refused": lambda: on.series.catalogue.refused,
            "series.forgotten": lambda: on.series.forgotten,
            "shapes.hit": lambda: on.metric_intake.shape_hits,
            "shapes.learnt": lambda: on.metric_intake.shape_misses,
            "arrivals.dropped": lambda: on.watch.dropped,
            "workers.failed": lambda: sum(failures.count for failures in on.workers.failures()),
            "windows.left_out": lambda: on.watch.left_out,
            "events.not-compared": lambda: on.listening.dropped,
            "alerts.failed": lambda: on.alerts.unwritten,
            "listeners.failed": lambda: on.series.untold + on.events.untold + sum(s.failed for s in signals_of(on)),
            "courier.failed": lambda: on.courier.failed,
            "callouts.failed": lambda: on.calling.failed,
            "memory.refused": lambda: on.memory.refused,
            "connections.turned-out": lambda: on.fronts.counters["turned-out"],
        },
        warnings=(
            on.settings.warnings,
            on.relays.warnings,
            on.workers.warnings,
            on.fronts.warnings,
            on.remote_work.failures.warnings,
            on.probes.failures.warnings,
            on.receivers.warnings,
            on.sources.warnings,
            on.metric_intake.restless.warnings,
            on.forwards.warnings,
            on.exports.warnings,
            on.days.warnings,
            on.watch.warnings,
            on.calling.warnings,
        ),
    )


def signals_of(parts: Ground) -> list[Signal[Any]]:
    """All that parts tell each other."""
    return [value for part in vars(parts).values() for value in getattr(part, "__dict__", {}).values()
            if isinstance(value, Signal)]  # fmt: skip


def _connect_reading(parts: Parts) -> None:
    """Whoever reads hosts and services follows what people change."""
    owners = (parts.desk.settle, parts.remote_work.refresh)
    agents = parts.agent_plans
    parts.hosts.left.then(parts.metric_intake.forget_shapes, *owners)
    parts.hosts.left.connect(parts.access.forget_host)
    parts.hosts.regrouped.then(parts.remote_work.refresh)
    parts.hosts.regrouped.connect(agents.wake)
    parts.enrolling.came.then(*owners)
    parts.groups.changed.then(*owners, agents.wake)
    parts.collection.changed.then(parts.remote_work.refresh)
    parts.remote.changed.then(*owners)
    parts.relays.changed.then(parts.desk.settle)
    parts.receivers.changed.then(parts.desk.wake)
    parts.desk.moved.then(parts.remote_work.refresh)
    parts.plans.changed.connect(lambda rules: parts.watch.plans_changed(sorted(rules), time.time()))
    parts.plans.changed.then(*owners, agents.wake)
    parts.path_asks.changed.connect(lambda host: agents.wake([host]))
    parts.held_plans.asked.then(*owners)
    parts.held_plans.asked.connect(lambda host: agents.wake([host]))
    parts.services.kit_used.connect(parts.kit_rules.used)
    parts.services.changed.then(parts.service_targets.forget, *owners, agents.wake)
    parts.kits.changed.then(parts.units.forget)
    parts.kits.changed.connect(parts.kit_rules.changed)
    parts.probes.changed.then(parts.desk.wake)
    parts.reports.reported.connect(parts.service_health.note_report)


def _connect_telling(parts: Parts) -> None:
    """What happens is told to those who look, and what can be had again is let go."""
    parts.events.may_forget = lambda day: not parts.retention.get().set_aside or parts.days.may_forget(day)
    telling = Telling(parts.hub)
    parts.directory.state_changed.connect(telling.state)
    parts.alerts.changed.connect(telling.alert)
    parts.alerts.changed.then(parts.courier.wake, parts.incidents.wake)
    parts.applications.changed.then(parts.applications.place, parts.surroundings.forget)
    parts.plans.changed.then(parts.applications.place, parts.surroundings.forget)
    parts.incidents.changed.connect(telling.incident, parts.first_and_worst.changed)
    parts.courier.liveness.connect(parts.dead_channels.heard)
    parts.channels.removed.connect(parts.dead_channels.removed)
    parts.probe_results.judged.connect(telling.probe)
    parts.enrolments.progressed.connect(telling.enrolment)
    parts.events.listeners += [telling.events, parts.forwards.written, parts.listening.written]
    parts.watch.changed.connect(parts.listening.changed)
    parts.watch.changed.connect(parts.learner.forget)
    parts.access.ended.then(parts.hub.recheck)
    parts.space.changed.connect(parts.news.of_room)
    parts.memory.tight.then(
        parts.metric_intake.let_go, parts.series.reader.let_go, parts.series.scan.let_go, parts.metrics.selector.let_go
    )
    parts.keeper.made_room.then(parts.metric_intake.forget_shapes)
    parts.keeper.forgot.connect(parts.inventory.forget)


def _employ(parts: Parts) -> None:
    """What goes on in the background: what, and seconds between."""
    add, aside = parts.workers.add, parts.workers.add_aside
    add("watch", parts.pulse.beat, 1.0)
    add("listening", parts.listening.work, 0.3)
    add("learner", parts.learner.work, 2.0)
    aside("late", lambda: parts.late_comers.work(time.time()), 5.0)
    aside("plans-over", lambda: parts.plans.end_those_over(time.time()), 5.0)
    aside("holds", lambda: parts.watch.keep_holds(time.time()), 1.0)
    add("incidents", parts.round.go, 0.0)
    add("responses", lambda: parts.responses.look(time.time()), 1.0)
    add("evidence", lambda: parts.first_and_worst.look(time.time()), 1.0)
    add("pictures", parts.charts.warm, 2.0)
    add("alive", parts.runs.note, 20.0)
    add("columns", parts.columns.look, 1.0)
    add("trails", parts.trails.look, 1.0)
    add("courier", parts.courier.work, 0.02)
    add("maintenance", lambda: parts.maintenance.look(time.time()), 1.0)
    add("room", parts.space.look, 2.0)
    add("memory", parts.memory.look, 1.0)
    aside("rubbish", Rubbish().set_aside, 60.0)
    aside("figures", parts.figures.look, 1.0)
    add("keeper", parts.keeper.keep, 20.0)
    aside("values", parts.alerts.write_values, 20.0)
    aside("heard", parts.directory.write_heard, 20.0)
    aside("used", parts.access.write_used, 20.0)
    aside("reports", parts.reports.write, 300.0)
    add("kits", parts.kits.look, 20.0)
    aside("silence", parts.silence.note, 15.0)
    aside("services", parts.service_health.judge, 5.0)
    add("probes", parts.probe_results.look, 5.0)
    add("receivers", parts.receivers.look, 5.0)
    aside("senders", parts.senders.write, 5.0)
    aside("sources", parts.sources.look, 30.0)
    aside("drops", parts.drops.note, 30.0)
    aside("sign-ins", parts.sign_in_figures.note, 60.0)
    add("relays", parts.desk.look, 5.0)
    aside("certificates", parts.inventory.look_at_certificates, 300.0)
    add("backups", parts.backups.look, 1.0)
    add("exports", parts.exports.look, 1.0)
    aside("known bodies", parts.metric_intake.keep_known, 600.0)
    add("eraser", parts.eraser.erase_due, 5.0)
    certificate = parts.settings.certificate
    if certificate is not None:
        add("certificate", lambda: certificate.look(time.time()), 20.0)
