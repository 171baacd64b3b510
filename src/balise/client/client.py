"""Typed calls of the API, with the API's own names."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any, Self, TypeVar
from urllib.parse import quote

import httpx
from pydantic import BaseModel

from balise.api.access import (
    EnrolmentKey,
    MadeEnrolmentKey,
    MadeToken,
    Me,
    NewEnrolmentKey,
    NewToken,
    NewUser,
    SignIn,
    Token,
    User,
)
from balise.api.alerts import Acknowledge, Alert, AlertDetail
from balise.api.applications import Application, ApplicationBody
from balise.api.credentials import Credential
from balise.api.events import Event, EventQuery, HistogramAnswer, HistogramQuery, PatternAnswer
from balise.api.hosts import Evidence, Group, GroupBody, Host, HostChange, HostsChange, HostsChanged, Stretch
from balise.api.inventory import Inventory
from balise.api.keeping import Keeping
from balise.api.kits import Kit, KitTrial, Tried
from balise.api.lists import Note, Page
from balise.api.metrics import Metric, MetricAnswer, MetricQuery
from balise.api.notify import Callout, CalloutBody, Channel, Delivery, EmailChannel, WebhookChannel
from balise.api.parts import PartShown
from balise.api.plans import HostPlan, Plan, PlanText
from balise.api.probes import Probe, ProbeBody
from balise.api.problems import Problem
from balise.api.relays import Relay
from balise.api.remote import Enrolment, NewEnrolment, Remote, RemoteBody, StartedEnrolment
from balise.api.rules import Rehearsal, Rehearse, Rule, RuleBody
from balise.api.secrets import REVEALED, Secret
from balise.api.services import Service, ServiceBody, Sessions
from balise.api.status import Status
from balise.client.errors import Refused, Unreachable
from balise.client.trust import Trust

M = TypeVar("M", bound=BaseModel)


def _name(text: str) -> str:
    return quote(text, safe="")


class Balise:
    """A console, as somebody with a token sees it.

    Every method raises `Refused` when the service says no and `Unreachable` when it does not answer.
    """

    def __init__(
        self, url: str, token: str | None = None, *, timeout: float = 30.0, trust: Trust | None = None
    ) -> None:
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        verify = (trust or Trust()).context() if url.startswith("https:") else False
        self._http = httpx.Client(base_url=url.rstrip("/"), headers=headers, timeout=timeout, verify=verify)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_error: object) -> None:
        self.close()

    def close(self) -> None:
        self._http.close()

    def call(self, method: str, path: str, body: BaseModel | dict[str, Any] | None = None, **query: Any) -> Any:
        """The JSON that a call answers, as it is."""
        if isinstance(body, BaseModel):
            body = body.model_dump(mode="json", by_alias=True, exclude_none=True, context=REVEALED)
        content = json.dumps(body) if body is not None else None
        parameters = {k.rstrip("_"): v for k, v in query.items() if v is not None}
        try:
            answer = self._http.request(
                method,
                f"/api/v1{path}",
                content=content,
                params=parameters,
                headers={"Content-Type": "application/json"} if content is not None else None,
            )
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise Unreachable(f"{self._http.base_url} cannot be reached: {error}") from None
        if answer.is_error:
            raise Refused(problem_of(answer))
        try:
            return answer.json()
        except ValueError:
            raise Unreachable(f"{self._http.base_url} answers, but is no Balise console") from None

    # --- the service and who comes in

    def status(self) -> Status:
        return Status.model_validate(self.call("GET", "/status"))

    def keeping(self) -> Keeping:
        return Keeping.model_validate(self.call("GET", "/settings/keeping"))

    def set_keeping(self, keeping: Keeping) -> Keeping:
        """Keeps things so long from now on; what is older is forgotten for good."""
        return Keeping.model_validate(self.call("PUT", "/settings/keeping", keeping))

    def me(self) -> Me:
        return Me.model_validate(self.call("GET", "/session"))

    def sign_in(self, name: str, password: str) -> Me:
        """Signs in with a cookie that this client keeps."""
        return Me.model_validate(self.call("POST", "/session", SignIn(name=name, password=Secret(password))))

    def sign_out(self) -> None:
        self.call("DELETE", "/session")

    def users(self) -> list[User]:
        return Page[User].model_validate(self.call("GET", "/users")).items

    def add_user(self, user: NewUser) -> User:
        return User.model_validate(self.call("POST", "/users", user))

    def remove_user(self, name: str) -> None:
        self.call("DELETE", f"/users/{_name(name)}")

    def tokens(self) -> list[Token]:
        return Page[Token].model_validate(self.call("GET", "/tokens")).items

    def make_token(self, token: NewToken) -> MadeToken:
        return MadeToken.model_validate(self.call("POST", "/tokens", token))

    def revoke_token(self, number: int) -> None:
        self.call("DELETE", f"/tokens/{number}")

    def enrolment_keys(self) -> list[EnrolmentKey]:
        return Page[EnrolmentKey].model_validate(self.call("GET", "/enrolment-keys")).items

    def make_enrolment_key(self, key: NewEnrolmentKey) -> MadeEnrolmentKey:
        return MadeEnrolmentKey.model_validate(self.call("POST", "/enrolment-keys", key))

    def revoke_enrolment_key(self, number: int, *, agents: bool = False) -> str:
        """The key enrols nothing more; with `agents`, what it enrolled may not deliver any more either."""
        return Note.model_validate(self.call("DELETE", f"/enrolment-keys/{number}", agents=agents or None)).detail

    # --- hosts

    def hosts(self, where: str | None = None, *, sort: str = "name") -> Iterator[Host]:
        """All hosts that pass the filter, page by page."""
        cursor: str | None = None
        while True:
            page = Page[Host].model_validate(self.call("GET", "/hosts", where=where, sort=sort, cursor=cursor))
            yield from page.items
            cursor = page.next
            if cursor is None:
                return

    def host(self, name: str) -> Host:
        return Host.model_validate(self.call("GET", f"/hosts/{_name(name)}"))

    def change_host(self, name: str, change: HostChange) -> Host:
        return Host.model_validate(self.call("PATCH", f"/hosts/{_name(name)}", change))

    def states(self, name: str, *, from_: str = "-24h", to: str = "now") -> list[Stretch]:
        answer = self.call("GET", f"/hosts/{_name(name)}/states", from_=from_, to=to)
        return Page[Stretch].model_validate(answer).items

    def evidence(self, name: str, *, from_: str = "-15m", to: str = "now") -> Evidence:
        return Evidence.model_validate(self.call("GET", f"/hosts/{_name(name)}/evidence", from_=from_, to=to))

    def groups(self, *, from_: str = "-24h", to: str = "now") -> list[Group]:
        return Page[Group].model_validate(self.call("GET", "/groups", from_=from_, to=to)).items

    def put_group(self, name: str, body: GroupBody) -> Group:
        """Makes a group or changes one; fields that were not set stay."""
        sent = body.model_dump(mode="json", exclude_unset=True)
        return Group.model_validate(self.call("PUT", f"/groups/{_name(name)}", sent))

    def change_hosts(self, change: HostsChange) -> int:
        """One change of many hosts, all or none; answers how many."""
        return HostsChanged.model_validate(self.call("POST", "/hosts/change", change)).changed

    def retire_host(self, name: str) -> Host:
        """The host leaves; its history stays until it is forgotten."""
        return Host.model_validate(self.call("POST", f"/hosts/{_name(name)}/retire"))

    # --- enrolling and collecting from afar

    def enrol_hosts(self, enrolment: NewEnrolment) -> int:
        """Begins to test a list of hosts; answers the list's number."""
        return StartedEnrolment.model_validate(self.call("POST", "/enrolments", enrolment)).id

    def enrolment(self, number: int) -> Enrolment:
        """How testing a list goes, entry by entry."""
        return Enrolment.model_validate(self.call("GET", f"/enrolments/{number}"))

    def credentials(self) -> list[Credential]:
        return Page[Credential].model_validate(self.call("GET", "/credentials")).items

    def put_credential(self, name: str, body: BaseModel, *, anyway: bool = False) -> Credential:
        """Keeps one of `balise.api.credentials`; one in use is tried first on every host that uses it."""
        answer = self.call("PUT", f"/credentials/{_name(name)}", body, anyway=anyway or None)
        return Credential.model_validate(answer)

    def collect_remotely(self, name: str, body: RemoteBody) -> Remote:
        """Collects a host over the network from now on."""
        return Remote.model_validate(self.call("PUT", f"/hosts/{_name(name)}/remote", body))

    def relays(self) -> list[Relay]:
        return Page[Relay].model_validate(self.call("GET", "/relays")).items

    def services(self, host: str | None = None) -> list[Service]:
        return Page[Service].model_validate(self.call("GET", "/services", host=host)).items

    def add_service(self, body: ServiceBody) -> Service:
        return Service.model_validate(self.call("POST", "/services", body))

    def kits(self) -> list[Kit]:
        return [Kit.model_validate(k) for k in self.call("GET", "/kits")["items"]]

    def try_kit(self, name: str, body: KitTrial) -> Tried:
        """Reads a target once from the console."""
        return Tried.model_validate(self.call("POST", f"/kits/{_name(name)}/try", body))

    def sessions(self, service: int, at: str | None = None) -> Sessions:
        """Who is at work in a service, and who blocks whom."""
        return Sessions.model_validate(self.call("GET", f"/services/{service}/sessions", at=at))

    def probes(self, host: str | None = None) -> list[Probe]:
        return [Probe.model_validate(p) for p in self.call("GET", "/probes", host=host)["items"]]

    def put_probe(self, name: str, body: ProbeBody) -> Probe:
        sent = body.model_dump(mode="json", by_alias=True, exclude_none=True)
        return Probe.model_validate(self.call("PUT", f"/probes/{_name(name)}", sent))

    def inventory(self, host: str, kind: str | None = None, at: str | None = None) -> Inventory:
        """What is on a host, now or at an earlier moment."""
        return Inventory.model_validate(self.call("GET", f"/hosts/{_name(host)}/inventory", kind=kind, at=at))

    def applications(self) -> list[Application]:
        return [Application.model_validate(a) for a in self.call("GET", "/applications")["items"]]

    def put_application(self, name: str, body: ApplicationBody) -> Application:
        sent = body.model_dump(mode="json", by_alias=True)
        return Application.model_validate(self.call("PUT", f"/applications/{_name(name)}", sent))

    def plans(self) -> list[Plan]:
        """All plans, from the general to the particular."""
        return Page[Plan].model_validate(self.call("GET", "/plans")).items

    def parts(self) -> list[PartShown]:
        """The parts of a system that plans can switch, with what each costs."""
        return Page[PartShown].model_validate(self.call("GET", "/plans/parts")).items

    def put_plan(self, name: str, text: str) -> Plan:
        """Keeps a plan as it is written, in YAML."""
        return Plan.model_validate(self.call("PUT", f"/plans/{_name(name)}", PlanText(text=text)))

    def host_plan(self, name: str) -> HostPlan:
        """What holds for a host, each setting with the plan it came from."""
        return HostPlan.model_validate(self.call("GET", f"/hosts/{_name(name)}/plan"))

    # --- metrics and events

    def metrics(self) -> list[Metric]:
        return Page[Metric].model_validate(self.call("GET", "/metrics")).items

    def query_metrics(self, query: MetricQuery) -> MetricAnswer:
        return MetricAnswer.model_validate(self.call("POST", "/metrics/query", query))

    def query_events(self, query: EventQuery) -> Page[Event]:
        return Page[Event].model_validate(self.call("POST", "/events/query", query))

    def count_events(self, query: HistogramQuery) -> HistogramAnswer:
        return HistogramAnswer.model_validate(self.call("POST", "/events/histogram", query))

    def event_patterns(self, query: HistogramQuery) -> PatternAnswer:
        return PatternAnswer.model_validate(self.call("POST", "/events/patterns", query))

    def follow_events(self, where: str | None = None, text: str | None = None) -> Iterator[Event]:
        """Matching events as they arrive, without end."""
        for topic, content in self._stream("/events/live", where=where, text=text):
            if topic == "event":
                yield Event.model_validate(content)

    def follow(self) -> Iterator[tuple[str, Any]]:
        """State changes (`state`) and alerts (`alert`) as they happen, with the stream's heartbeats."""
        return self._stream("/live")

    def _stream(self, path: str, **query: Any) -> Iterator[tuple[str, Any]]:
        parameters = {k: v for k, v in query.items() if v is not None}
        try:
            with self._http.stream("GET", f"/api/v1{path}", params=parameters, timeout=60.0) as answer:
                if answer.is_error:
                    answer.read()
                    raise Refused(problem_of(answer))
                topic = ""
                for line in answer.iter_lines():
                    if line.startswith("event: "):
                        topic = line[7:]
                    elif line.startswith("data: "):
                        yield topic, json.loads(line[6:])
        except httpx.HTTPError as error:
            raise Unreachable(f"the stream of {self._http.base_url} ended: {error}") from None

    # --- rules and alerts

    def rules(self) -> list[Rule]:
        return Page[Rule].model_validate(self.call("GET", "/rules")).items

    def rule(self, name: str) -> Rule:
        return Rule.model_validate(self.call("GET", f"/rules/{_name(name)}"))

    def put_rule(self, name: str, body: RuleBody) -> Rule:
        return Rule.model_validate(self.call("PUT", f"/rules/{_name(name)}", body))

    def delete_rule(self, name: str) -> None:
        self.call("DELETE", f"/rules/{_name(name)}")

    def rehearse(self, request: Rehearse) -> Rehearsal:
        return Rehearsal.model_validate(self.call("POST", "/rules/rehearse", request))

    def alerts(self, where: str | None = None, *, state: str | None = None, from_: str = "-7d") -> Iterator[Alert]:
        """Alerts, the newest first, page by page."""
        cursor: str | None = None
        while True:
            answer = self.call("GET", "/alerts", where=where, state=state, from_=from_, cursor=cursor)
            page = Page[Alert].model_validate(answer)
            yield from page.items
            cursor = page.next
            if cursor is None:
                return

    def alert(self, number: int) -> AlertDetail:
        return AlertDetail.model_validate(self.call("GET", f"/alerts/{number}"))

    def acknowledge(self, number: int, note: str = "") -> Alert:
        return Alert.model_validate(self.call("POST", f"/alerts/{number}/acknowledge", Acknowledge(note=note)))

    # --- telling people

    def channels(self) -> list[Channel]:
        return Page[Channel].model_validate(self.call("GET", "/channels")).items

    def put_channel(self, name: str, body: WebhookChannel | EmailChannel) -> Channel:
        return Channel.model_validate(self.call("PUT", f"/channels/{_name(name)}", body))

    def delete_channel(self, name: str) -> None:
        self.call("DELETE", f"/channels/{_name(name)}")

    def test_channel(self, name: str) -> str:
        return Note.model_validate(self.call("POST", f"/channels/{_name(name)}/test")).detail

    def callouts(self) -> list[Callout]:
        return Page[Callout].model_validate(self.call("GET", "/callouts")).items

    def put_callout(self, name: str, body: CalloutBody) -> Callout:
        return Callout.model_validate(self.call("PUT", f"/callouts/{_name(name)}", body))

    def delete_callout(self, name: str) -> None:
        self.call("DELETE", f"/callouts/{_name(name)}")

    def deliveries(self, *, state: str | None = None, limit: int = 100) -> list[Delivery]:
        answer = self.call("GET", "/deliveries", state=state, limit=limit)
        return Page[Delivery].model_validate(answer).items


def problem_of(answer: httpx.Response) -> Problem:
    """The problem document of an error, or one made from its status."""
    try:
        return Problem.model_validate(answer.json())
    except ValueError:
        text = answer.text[:200] or answer.reason_phrase
        return Problem(title=answer.reason_phrase, status=answer.status_code, detail=f"{answer.status_code}: {text}")
