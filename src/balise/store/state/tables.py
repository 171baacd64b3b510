"""The tables of state.db. Times are unix seconds."""

from __future__ import annotations

from typing import Any

from sqlalchemy import JSON, Float, ForeignKey, Index, Integer, LargeBinary, Text, UniqueConstraint, text
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column


class Base(DeclarativeBase):
    type_annotation_map = {dict[str, Any]: JSON, list[str]: JSON, str: Text, bytes: LargeBinary}


class User(Base):
    __tablename__ = "user"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    role: Mapped[str]
    password: Mapped[str]
    created_at: Mapped[float]
    signed_in_at: Mapped[float | None]
    places: Mapped[list[str]] = mapped_column(JSON, default=list, server_default="[]")
    """Addresses signed in from, the last ones first."""
    first_page: Mapped[str] = mapped_column(default="", server_default="")


class SessionCookie(Base):
    """`digest` is the SHA-256 of the cookie."""

    __tablename__ = "session"
    digest: Mapped[str] = mapped_column(primary_key=True)
    user: Mapped[int] = mapped_column(ForeignKey("user.id", ondelete="CASCADE"))
    expires_at: Mapped[float]


class Token(Base):
    """`digest` is the SHA-256 of the token. `host` is set for an agent's own token, `relay` for a relay's."""

    __tablename__ = "token"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str]
    role: Mapped[str]
    digest: Mapped[str] = mapped_column(unique=True)
    host: Mapped[int | None] = mapped_column(ForeignKey("host.id", ondelete="CASCADE"), index=True)
    relay: Mapped[int | None] = mapped_column(ForeignKey("relay.id"), index=True)
    scope: Mapped[dict[str, Any] | None]
    new_hosts: Mapped[int] = mapped_column(default=0, server_default="0")
    created_at: Mapped[float]
    expires_at: Mapped[float | None]
    used_at: Mapped[float | None]


class EnrolmentKey(Base):
    """`approval` is `automatic` or `manual`; a revoked key stays, so that what it enrolled can still be told."""

    __tablename__ = "enrolment_key"
    id: Mapped[int] = mapped_column(primary_key=True)
    label: Mapped[str]
    digest: Mapped[str] = mapped_column(unique=True)
    group: Mapped[str | None]
    site: Mapped[str | None]
    labels: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    approval: Mapped[str] = mapped_column(default="automatic", server_default="automatic")
    uses_left: Mapped[int]
    created_at: Mapped[float]
    expires_at: Mapped[float]
    revoked_at: Mapped[float | None]


class Candidate(Base):
    """A machine that used a key of manual approval and waits to be let in; `digest` is of its token to be."""

    __tablename__ = "candidate"
    id: Mapped[int] = mapped_column(primary_key=True)
    key: Mapped[int] = mapped_column(ForeignKey("enrolment_key.id", ondelete="CASCADE"))
    name: Mapped[str]
    facts: Mapped[dict[str, Any]]
    take_over: Mapped[bool] = mapped_column(default=False)
    digest: Mapped[str] = mapped_column(unique=True)
    origin: Mapped[str]
    created_at: Mapped[float]


class Host(Base):
    """`mode` is the collection mode; `received` for what only other senders tell of.

    A retired host keeps its history until it is forgotten, and takes nothing in any more.
    """

    __tablename__ = "host"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    machine_id: Mapped[str] = mapped_column(default="", index=True)
    labels: Mapped[dict[str, Any]] = mapped_column(default=dict)
    facts: Mapped[dict[str, Any] | None]
    agent: Mapped[dict[str, Any] | None]
    mode: Mapped[str] = mapped_column(default="received")
    collected_by: Mapped[str] = mapped_column(default="")
    enrolled_with: Mapped[int | None] = mapped_column(ForeignKey("enrolment_key.id", ondelete="SET NULL"))
    retired_at: Mapped[float | None]
    state: Mapped[str] = mapped_column(default="ok")
    state_since: Mapped[float]
    last_seen: Mapped[float | None]
    created_at: Mapped[float]


class Remote(Base):
    """How a host is reached over the network. It is used while the host's mode is `remote`.

    `site` names the group of kind site whose relays collect the host; without one the console does.
    `owner` is the id of the relay that has it, 0 for the console; `owners` who had it from when on, the last ones.
    """

    __tablename__ = "remote"
    host: Mapped[int] = mapped_column(ForeignKey("host.id", ondelete="CASCADE"), primary_key=True)
    protocol: Mapped[str]
    address: Mapped[str]
    port: Mapped[int]
    credential: Mapped[str] = mapped_column(ForeignKey("credential.name"))
    every: Mapped[float | None]
    time_limit: Mapped[float | None]
    host_key: Mapped[str] = mapped_column(default="")
    site: Mapped[str | None]
    owner: Mapped[int] = mapped_column(default=0)
    owners: Mapped[list[Any]] = mapped_column(JSON, default=list)
    positions: Mapped[dict[str, Any]] = mapped_column(default=dict)


class Service(Base):
    """A service on a host. `owner` and `owners` as for `Remote`, for modes `split` and `remote`.

    `facts` is what it last said of itself: its version, identity and role. `every` is 0 where its kit decides.
    """

    __tablename__ = "service"
    id: Mapped[int] = mapped_column(primary_key=True)
    host: Mapped[int] = mapped_column(ForeignKey("host.id", ondelete="CASCADE"), index=True)
    name: Mapped[str]
    kit: Mapped[str]
    mode: Mapped[str]
    target: Mapped[dict[str, Any]]
    credential: Mapped[str | None] = mapped_column(ForeignKey("credential.name"))
    facts: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    every: Mapped[float]
    site: Mapped[str | None]
    owner: Mapped[int] = mapped_column(default=0)
    owners: Mapped[list[Any]] = mapped_column(JSON, default=list)
    created_at: Mapped[float]
    __table_args__ = (UniqueConstraint("host", "name"),)


class ServiceStep(Base):
    """Something that happened to a service: `what` changed from `before` to `after`."""

    __tablename__ = "service_step"
    id: Mapped[int] = mapped_column(primary_key=True)
    service: Mapped[int] = mapped_column(ForeignKey("service.id", ondelete="CASCADE"))
    at: Mapped[float]
    what: Mapped[str]
    before: Mapped[str] = mapped_column(default="")
    after: Mapped[str] = mapped_column(default="")
    __table_args__ = (Index("service_step_of", "service", "at"),)


class Kit(Base):
    """One version of a kit. `chosen` marks the version that services are read with; `text` is the YAML as written."""

    __tablename__ = "kit"
    name: Mapped[str] = mapped_column(primary_key=True)
    version: Mapped[str] = mapped_column(primary_key=True)
    text: Mapped[str]
    shipped: Mapped[bool] = mapped_column(default=False)
    chosen: Mapped[bool] = mapped_column(default=False)
    added_at: Mapped[float]
    added_by: Mapped[str]


class Probe(Base):
    """An active check. `owners` are the relays it is made from; empty for the console."""

    __tablename__ = "probe"
    name: Mapped[str] = mapped_column(primary_key=True)
    body: Mapped[dict[str, Any]]
    host: Mapped[int] = mapped_column(ForeignKey("host.id", ondelete="CASCADE"))
    credential: Mapped[str | None] = mapped_column(ForeignKey("credential.name"))
    state: Mapped[str]
    state_since: Mapped[float]
    last: Mapped[dict[str, Any] | None]
    updated_at: Mapped[float]
    updated_by: Mapped[str]


class InventoryItem(Base):
    """One thing of a host's inventory, from when until when it was so; `until` is null for what is so now."""

    __tablename__ = "inventory_item"
    id: Mapped[int] = mapped_column(primary_key=True)
    host: Mapped[int] = mapped_column(ForeignKey("host.id", ondelete="CASCADE"))
    kind: Mapped[str]
    scope: Mapped[str] = mapped_column(default="")
    name: Mapped[str]
    item: Mapped[dict[str, Any]]
    since: Mapped[float]
    until: Mapped[float | None]
    __table_args__ = (
        Index("inventory_of_host", "host", "kind", "until"),
        Index("inventory_by_name", "kind", "name", "until"),
    )


class InventoryLook(Base):
    """When a kind of a host's inventory was last collected, and what could not be."""

    __tablename__ = "inventory_look"
    host: Mapped[int] = mapped_column(ForeignKey("host.id", ondelete="CASCADE"), primary_key=True)
    kind: Mapped[str] = mapped_column(primary_key=True)
    scope: Mapped[str] = mapped_column(primary_key=True, default="")
    first_at: Mapped[float]
    at: Mapped[float]
    problem: Mapped[str] = mapped_column(default="")


class Application(Base):
    """Parts and the edges between them, as one document."""

    __tablename__ = "application"
    name: Mapped[str] = mapped_column(primary_key=True)
    body: Mapped[dict[str, Any]]
    position: Mapped[int] = mapped_column(default=0)
    updated_at: Mapped[float]
    updated_by: Mapped[str]


class Credential(Base):
    """`settings` without secrets; `secret` is the whole of it, encrypted."""

    __tablename__ = "credential"
    name: Mapped[str] = mapped_column(primary_key=True)
    kind: Mapped[str]
    settings: Mapped[dict[str, Any]]
    secret: Mapped[bytes]
    role: Mapped[str]
    groups: Mapped[list[str]]
    updated_at: Mapped[float]
    updated_by: Mapped[str]


class Enrolment(Base):
    """A list of hosts being tested and added, side by side."""

    __tablename__ = "enrolment"
    id: Mapped[int] = mapped_column(primary_key=True)
    state: Mapped[str]
    time_limit: Mapped[float]
    created_at: Mapped[float]
    created_by: Mapped[str]
    role: Mapped[str]
    done_at: Mapped[float | None]


class EnrolmentEntry(Base):
    """One line of such a list; `result` is null until it is tested."""

    __tablename__ = "enrolment_entry"
    id: Mapped[int] = mapped_column(primary_key=True)
    enrolment: Mapped[int] = mapped_column(ForeignKey("enrolment.id", ondelete="CASCADE"), index=True)
    position: Mapped[int]
    wanted: Mapped[dict[str, Any]]
    result: Mapped[str | None]
    message: Mapped[str] = mapped_column(default="")
    host: Mapped[str | None]


class Relay(Base):
    """A collector at a site. `report` is what it last said of itself."""

    __tablename__ = "relay"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    site: Mapped[str | None]
    machine_id: Mapped[str] = mapped_column(default="")
    report: Mapped[dict[str, Any] | None]
    enrolled_with: Mapped[int | None] = mapped_column(ForeignKey("enrolment_key.id", ondelete="SET NULL"))
    last_seen: Mapped[float | None]
    created_at: Mapped[float]


class RelaySender(Base):
    """Whom a relay may speak for: it has shown a token of theirs."""

    __tablename__ = "relay_sender"
    relay: Mapped[int] = mapped_column(ForeignKey("relay.id", ondelete="CASCADE"), primary_key=True)
    sender: Mapped[str] = mapped_column(primary_key=True)


class Plan(Base):
    """`text` is the YAML as written; `body` what it says. Every change makes a new version."""

    __tablename__ = "plan"
    name: Mapped[str] = mapped_column(primary_key=True)
    version: Mapped[int]
    text: Mapped[str]
    body: Mapped[dict[str, Any]]
    updated_at: Mapped[float]
    updated_by: Mapped[str]


class SavedView(Base):
    """A way to look at the fleet: its filter, columns and order, under a name."""

    __tablename__ = "saved_view"
    name: Mapped[str] = mapped_column(primary_key=True)
    body: Mapped[dict[str, Any]]
    updated_by: Mapped[str]


class SavedFilter(Base):
    """A filter that has a name. `owner` made it, and changes it."""

    __tablename__ = "saved_filter"
    name: Mapped[str] = mapped_column(primary_key=True)
    where: Mapped[str]
    about: Mapped[str]
    owner: Mapped[str]
    updated_at: Mapped[float]


class Dashboard(Base):
    """`body` is its `DashboardBody`. `owner` made it, and unless it is shared nobody else sees it."""

    __tablename__ = "dashboard"
    name: Mapped[str] = mapped_column(primary_key=True)
    owner: Mapped[str]
    shared: Mapped[bool]
    version: Mapped[int]
    body: Mapped[dict[str, Any]]
    updated_at: Mapped[float]
    updated_by: Mapped[str]


class DashboardVersion(Base):
    """A dashboard as it was once kept."""

    __tablename__ = "dashboard_version"
    dashboard: Mapped[str] = mapped_column(ForeignKey("dashboard.name", ondelete="CASCADE"), primary_key=True)
    version: Mapped[int] = mapped_column(primary_key=True)
    at: Mapped[float]
    who: Mapped[str]
    body: Mapped[dict[str, Any]]


class Target(Base):
    """What share of a period something is to be up: a host, service, probe or application."""

    __tablename__ = "availability_target"
    of: Mapped[str] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(primary_key=True)
    share: Mapped[float]
    per: Mapped[str]


class ConsoleRun(Base):
    """From a start of the console to when it was last alive."""

    __tablename__ = "console_run"
    id: Mapped[int] = mapped_column(primary_key=True)
    began_at: Mapped[float]
    alive_at: Mapped[float]


class Receiver(Base):
    """An address at which syslog is taken in; `document` is its `ReceiverBody`."""

    __tablename__ = "receiver"
    name: Mapped[str] = mapped_column(primary_key=True)
    document: Mapped[dict[str, Any]]


class Forward(Base):
    """Events sent on; `document` is its `ForwardBody`, `places` how far each day was sent."""

    __tablename__ = "forward"
    name: Mapped[str] = mapped_column(primary_key=True)
    document: Mapped[dict[str, Any]]
    places: Mapped[dict[str, Any]]
    credential: Mapped[str | None]


class Export(Base):
    """History written as Parquet; `document` is its `ExportBody`. Times in unix seconds."""

    __tablename__ = "export"
    name: Mapped[str] = mapped_column(primary_key=True)
    document: Mapped[dict[str, Any]]
    written_at: Mapped[float | None]
    ended_at: Mapped[float | None]


class Sender(Base):
    """Who says something to a receiver under a name that no host has."""

    __tablename__ = "sender"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    address: Mapped[str]
    receiver: Mapped[str]
    named_by: Mapped[str]
    events: Mapped[int]
    first_at: Mapped[float]
    last_at: Mapped[float]
    refused: Mapped[bool]


class Group(Base):
    """Listed members, those a filter chooses, or both. `kind` is `group` or `site`."""

    __tablename__ = "group"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(unique=True)
    kind: Mapped[str] = mapped_column(default="group", server_default="group")
    about: Mapped[str] = mapped_column(default="", server_default="")
    where: Mapped[str | None]
    parent: Mapped[int | None] = mapped_column(ForeignKey("group.id"))
    position: Mapped[int] = mapped_column(Integer, default=0)


class Member(Base):
    __tablename__ = "member"
    group: Mapped[int] = mapped_column(ForeignKey("group.id", ondelete="CASCADE"), primary_key=True)
    host: Mapped[int] = mapped_column(ForeignKey("host.id", ondelete="CASCADE"), primary_key=True, index=True)


class StateChange(Base):
    __tablename__ = "state_change"
    id: Mapped[int] = mapped_column(primary_key=True)
    host: Mapped[int] = mapped_column(ForeignKey("host.id", ondelete="CASCADE"))
    at: Mapped[float]
    state: Mapped[str]
    __table_args__ = (Index("state_change_of", "host", "at"),)


class Rule(Base):
    """`body` is the rule as written; `shipped` marks one that came with Balise and was not changed."""

    __tablename__ = "rule"
    name: Mapped[str] = mapped_column(primary_key=True)
    body: Mapped[dict[str, Any]]
    shipped: Mapped[bool] = mapped_column(default=False)
    updated_at: Mapped[float]
    updated_by: Mapped[str]


class RuleState(Base):
    """Since when the groups of a rule are breached: compressed JSON, by group key, of warning and critical."""

    __tablename__ = "rule_state"
    rule: Mapped[str] = mapped_column(ForeignKey("rule.name", ondelete="CASCADE"), primary_key=True)
    at: Mapped[float]
    content: Mapped[bytes]


class RuleVersion(Base):
    """A form of a rule. The newest is the one at work, unless it says that the rule was deleted."""

    __tablename__ = "rule_version"
    rule: Mapped[str] = mapped_column(primary_key=True)
    version: Mapped[int] = mapped_column(primary_key=True)
    at: Mapped[float]
    who: Mapped[str]
    why: Mapped[str]
    what: Mapped[str]
    body: Mapped[dict[str, Any]]


class RuleHeard(Base):
    """When the groups of a rule about events were heard first and last: compressed JSON, by group key.

    `form` is what of the rule decides that, so that another form does not go on from it.
    """

    __tablename__ = "rule_heard"
    rule: Mapped[str] = mapped_column(ForeignKey("rule.name", ondelete="CASCADE"), primary_key=True)
    at: Mapped[float]
    form: Mapped[str]
    content: Mapped[bytes]


class RuleLate(Base):
    """What came late to a rule and was not looked at yet: compressed JSON, by group key from when to when."""

    __tablename__ = "rule_late"
    rule: Mapped[str] = mapped_column(ForeignKey("rule.name", ondelete="CASCADE"), primary_key=True)
    content: Mapped[bytes]


class Alert(Base):
    """`detail` is what is usual, or when it runs out; `calm_since` when one that flaps would have recovered.

    `group_key` is the JSON of the values of the rule's `each`; `level` 1 warning, 2 critical."""

    __tablename__ = "alert"
    id: Mapped[int] = mapped_column(primary_key=True)
    rule: Mapped[str]
    about: Mapped[str]
    group_key: Mapped[str]
    host: Mapped[int | None] = mapped_column(ForeignKey("host.id", ondelete="SET NULL"))
    host_name: Mapped[str]
    attributes: Mapped[dict[str, Any]]
    measure: Mapped[dict[str, Any]]
    limits: Mapped[dict[str, Any]]
    advice: Mapped[str]
    unit: Mapped[str]
    level: Mapped[int]
    silent: Mapped[bool] = mapped_column(default=False)
    value: Mapped[float] = mapped_column(Float)
    worst_value: Mapped[float] = mapped_column(Float)
    bound: Mapped[float] = mapped_column(Float)
    opened_at: Mapped[float]
    changed_at: Mapped[float]
    recovered_at: Mapped[float | None]
    recovery: Mapped[str | None]
    acknowledged_by: Mapped[str | None]
    acknowledged_at: Mapped[float | None]
    acknowledged_note: Mapped[str | None]
    evidence: Mapped[dict[str, Any] | None]
    detail: Mapped[dict[str, Any] | None]
    flapping_since: Mapped[float | None]
    calm_since: Mapped[float | None]
    __table_args__ = (
        Index("alert_open", "recovered_at", "opened_at"),
        Index("alert_of_rule", "rule", "group_key"),
        Index("alert_of_host", "host", "opened_at"),
    )


class AlertStep(Base):
    """What happened to an alert: opened, worsened, eased, silent, heard again, acknowledged, recovered.

    `placed` says that incidents have taken note of it."""

    __tablename__ = "alert_step"
    id: Mapped[int] = mapped_column(primary_key=True)
    alert: Mapped[int] = mapped_column(ForeignKey("alert.id", ondelete="CASCADE"), index=True)
    at: Mapped[float]
    what: Mapped[str]
    level: Mapped[int]
    value: Mapped[float | None] = mapped_column(Float)
    who: Mapped[str] = mapped_column(default="")
    note: Mapped[str] = mapped_column(default="")
    placed: Mapped[bool] = mapped_column(default=False, server_default="0")
    __table_args__ = (Index("alert_step_not_placed", "id", sqlite_where=text("placed = 0")),)


class Incident(Base):
    """`level` is the worst of its open alerts, 1 warning, 2 critical. `of` says what it is of when that is no alerts:
    `channel NAME` or `drill`. `snoozed_level`: quiet until it is worse than that.

    `hurts` are applications and how; `apart` the incidents that somebody has parted from it; `told` what was last told
    of it: its level, and how it hurt whom."""

    __tablename__ = "incident"
    id: Mapped[int] = mapped_column(primary_key=True)
    of: Mapped[str] = mapped_column(default="")
    title: Mapped[str]
    level: Mapped[int]
    state: Mapped[str] = mapped_column(default="open")
    opened_at: Mapped[float]
    recovered_at: Mapped[float | None]
    closed_at: Mapped[float | None]
    closed_by: Mapped[str | None]
    closing_note: Mapped[str | None]
    reopened: Mapped[int] = mapped_column(default=0)
    hurts: Mapped[list[Any]] = mapped_column(JSON, default=list)
    hosts: Mapped[list[str]] = mapped_column(JSON, default=list)
    host_count: Mapped[int] = mapped_column(default=0)
    alert_count: Mapped[int] = mapped_column(default=0)
    open_count: Mapped[int] = mapped_column(default=0)
    taken_by: Mapped[str | None]
    taken_at: Mapped[float | None]
    snoozed_until: Mapped[float | None]
    snoozed_level: Mapped[int | None]
    joined_into: Mapped[int | None]
    apart: Mapped[list[Any]] = mapped_column(JSON, default=list)
    told: Mapped[dict[str, Any]] = mapped_column(default=dict)
    __table_args__ = (Index("incident_by_state", "state", "id"), {"sqlite_autoincrement": True})


class IncidentAlert(Base):
    """An alert of an incident, and why it is there and held under another, if it is."""

    __tablename__ = "incident_alert"
    alert: Mapped[int] = mapped_column(ForeignKey("alert.id", ondelete="CASCADE"), primary_key=True)
    incident: Mapped[int] = mapped_column(ForeignKey("incident.id", ondelete="CASCADE"), index=True)
    at: Mapped[float]
    held_under: Mapped[int | None]
    why: Mapped[str] = mapped_column(default="")
    why_held: Mapped[str] = mapped_column(default="")


class IncidentLine(Base):
    """A line of an incident's story that is not found elsewhere."""

    __tablename__ = "incident_line"
    id: Mapped[int] = mapped_column(primary_key=True)
    incident: Mapped[int] = mapped_column(ForeignKey("incident.id", ondelete="CASCADE"), index=True)
    at: Mapped[float]
    kind: Mapped[str]
    text: Mapped[str]
    who: Mapped[str | None]


class IncidentTrail(Base):
    """The trail of an incident as it was made last: its first suspect, empty when none stands out, and all of it as
    `answer`, its JSON packed."""

    __tablename__ = "incident_trail"
    incident: Mapped[int] = mapped_column(ForeignKey("incident.id", ondelete="CASCADE"), primary_key=True)
    at: Mapped[float]
    suspect: Mapped[str]
    sentence: Mapped[str]
    sure: Mapped[float]
    answer: Mapped[bytes]


class IncidentCause(Base):
    """What somebody said was the cause: the suspect of a rank, or another. `expected` is by kind of thing how likely
    the trail had said that it would be one of those."""

    __tablename__ = "incident_cause"
    incident: Mapped[int] = mapped_column(ForeignKey("incident.id", ondelete="CASCADE"), primary_key=True)
    rank: Mapped[int | None]
    sure: Mapped[float | None]
    kind: Mapped[str | None]
    text: Mapped[str]
    expected: Mapped[dict[str, Any]] = mapped_column(JSON, default=dict)
    first_sure: Mapped[float]
    who: Mapped[str]
    at: Mapped[float] = mapped_column(index=True)


class CalloutRun(Base):
    """How far a callout is with an incident: when it began, the number of its next step, and when that is due; null
    when there is none. `later` are people in quiet hours, each with when those end."""

    __tablename__ = "callout_run"
    incident: Mapped[int] = mapped_column(ForeignKey("incident.id", ondelete="CASCADE"), primary_key=True)
    callout: Mapped[str] = mapped_column(primary_key=True)
    begun: Mapped[float]
    step: Mapped[int]
    due: Mapped[float | None]
    rounds: Mapped[int] = mapped_column(default=0)
    later: Mapped[list[Any]] = mapped_column(JSON, default=list)
    __table_args__ = (Index("callout_run_due", "due"),)


class Word(Base):
    """Something that somebody is about to be told of an incident: it waits for what else there is to tell them."""

    __tablename__ = "word"
    id: Mapped[int] = mapped_column(primary_key=True)
    incident: Mapped[int] = mapped_column(ForeignKey("incident.id", ondelete="CASCADE"), index=True)
    channel: Mapped[str]
    person: Mapped[str | None]
    callout: Mapped[str]
    kind: Mapped[str]
    why: Mapped[str]
    gather: Mapped[float]
    due: Mapped[float]
    __table_args__ = (Index("word_due", "due"),)


class Heard(Base):
    """Who was told of an incident, by which delivery last. `over` when they were told that it has recovered."""

    __tablename__ = "heard"
    id: Mapped[int] = mapped_column(primary_key=True)
    incident: Mapped[int] = mapped_column(ForeignKey("incident.id", ondelete="CASCADE"), index=True)
    channel: Mapped[str]
    person: Mapped[str | None]
    callout: Mapped[str]
    at: Mapped[float]
    over: Mapped[bool] = mapped_column(default=False)


class Person(Base):
    """Somebody who can be told; `body` is their `PersonBody`."""

    __tablename__ = "person"
    name: Mapped[str] = mapped_column(primary_key=True)
    body: Mapped[dict[str, Any]]


class Rota(Base):
    """`body` is its `RotaBody`."""

    __tablename__ = "rota"
    name: Mapped[str] = mapped_column(primary_key=True)
    body: Mapped[dict[str, Any]]


class Maintenance(Base):
    """A maintenance window; `body` is its `MaintenanceBody`, `said_at` what its relative times are relative to.
    `ended_at`: somebody has ended the time that went on then."""

    __tablename__ = "maintenance"
    name: Mapped[str] = mapped_column(primary_key=True)
    body: Mapped[dict[str, Any]]
    said_at: Mapped[float]
    ended_at: Mapped[float | None]
    updated_at: Mapped[float]
    updated_by: Mapped[str]


class Drill(Base):
    """A practice incident and who answered it."""

    __tablename__ = "drill"
    id: Mapped[int] = mapped_column(primary_key=True)
    callout: Mapped[str]
    incident: Mapped[int] = mapped_column(ForeignKey("incident.id", ondelete="CASCADE"))
    started_at: Mapped[float]
    started_by: Mapped[str]
    answered_by: Mapped[str | None]
    answered_at: Mapped[float | None]
    ended_at: Mapped[float | None]


class Response(Base):
    """`body` is its `ResponseBody`."""

    __tablename__ = "response"
    name: Mapped[str] = mapped_column(primary_key=True)
    body: Mapped[dict[str, Any]]


class ResponseRun(Base):
    """How far a response is with an incident: the number of its next step, and when that is due; null for nothing."""

    __tablename__ = "response_run"
    incident: Mapped[int] = mapped_column(ForeignKey("incident.id", ondelete="CASCADE"), primary_key=True)
    response: Mapped[str] = mapped_column(primary_key=True)
    begun: Mapped[float]
    step: Mapped[int]
    due: Mapped[float | None]
    __table_args__ = (Index("response_run_due", "due"),)


class Channel(Base):
    """`settings` without secrets; `secret` is encrypted."""

    __tablename__ = "channel"
    name: Mapped[str] = mapped_column(primary_key=True)
    kind: Mapped[str]
    settings: Mapped[dict[str, Any]]
    secret: Mapped[bytes | None]


class Callout(Base):
    """`body` is its `CalloutBody`, in which `when` is, too."""

    __tablename__ = "callout"
    name: Mapped[str] = mapped_column(primary_key=True)
    body: Mapped[dict[str, Any]]


class Delivery(Base):
    """`still_to` names the addresses that have not taken it yet, once some have; `answer` what the other side said."""

    __tablename__ = "delivery"
    id: Mapped[int] = mapped_column(primary_key=True)
    alert: Mapped[int | None] = mapped_column(ForeignKey("alert.id", ondelete="CASCADE"))
    incident: Mapped[int | None] = mapped_column(ForeignKey("incident.id", ondelete="CASCADE"))
    channel: Mapped[str]
    person: Mapped[str | None]
    callout: Mapped[str | None]
    answer: Mapped[str | None]
    kind: Mapped[str]
    content: Mapped[dict[str, Any]]
    state: Mapped[str]
    attempts: Mapped[int] = mapped_column(default=0)
    created_at: Mapped[float]
    next_at: Mapped[float | None]
    sent_at: Mapped[float | None]
    problem: Mapped[str | None]
    still_to: Mapped[list[str] | None]
    __table_args__ = (
        Index("delivery_due", "state", "next_at"),
        Index("delivery_of_channel", "channel", "state"),
        Index("delivery_of_alert", "alert"),
        Index("delivery_of_incident", "incident"),
    )


class AuditEntry(Base):
    __tablename__ = "audit"
    id: Mapped[int] = mapped_column(primary_key=True)
    at: Mapped[float]
    who: Mapped[str]
    what: Mapped[str]
    target: Mapped[str]
    detail: Mapped[dict[str, Any]] = mapped_column(default=dict)


class Setting(Base):
    __tablename__ = "setting"
    name: Mapped[str] = mapped_column(primary_key=True)
    value: Mapped[str]
    __table_args__ = (UniqueConstraint("name"),)
