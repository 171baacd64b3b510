"""Enrolling: keys, agents, machines that wait, lists of hosts, credentials."""

from __future__ import annotations

from typing import Annotated, Literal

from fastapi import APIRouter, Depends, Query, Request

from balise.api.access import EnrolmentKey, MadeEnrolmentKey, NewEnrolmentKey
from balise.api.agents import (
    AgentSelf,
    Approval,
    Candidate,
    EnrolAnswer,
    EnrolRequest,
    FactsChange,
    KeyAnswer,
    KeyCheck,
    RenewedToken,
)
from balise.api.lists import Note, Page
from balise.server.address import own_address
from balise.server.callers import Administrator, Agent, Number, Operator, part
from balise.server.enrol.keys import Enrolling
from balise.server.errors import Refused
from balise.server.hosts.book import HostBook
from balise.server.hosts.directory import Directory
from balise.server.hosts.reports import HostReports
from balise.server.receivers.senders import SenderBook
from balise.server.settings import Settings

router = APIRouter(tags=["enrolment"])
DirectoryHere = Annotated[Directory, part(Directory)]
EnrollingHere = Annotated[Enrolling, part(Enrolling)]
HostsHere = Annotated[HostBook, part(HostBook)]
ReportsHere = Annotated[HostReports, part(HostReports)]
SendersHere = Annotated[SenderBook, part(SenderBook)]
SettingsHere = Annotated[Settings, part(Settings)]


def the_machine(enrolling: EnrollingHere, request: Request) -> AgentSelf:
    """The agent that asks, enrolled or waiting to be let in."""
    words = request.headers.get("authorization", "").split()
    found = enrolling.who_is(words[1]) if len(words) == 2 else None
    if found is None:
        raise Refused(401, "The console does not know this agent: enrol it again.")
    return found


ThisMachine = Annotated[AgentSelf, Depends(the_machine)]


# --- keys


@router.get("/enrolment-keys")
def list_keys(enrolling: EnrollingHere, _who: Administrator) -> Page[EnrolmentKey]:
    return Page[EnrolmentKey](items=enrolling.keys())


@router.post("/enrolment-keys", status_code=201)
def make_key(
    enrolling: EnrollingHere, settings: SettingsHere, who: Administrator, request: Request, body: NewEnrolmentKey
) -> MadeEnrolmentKey:
    base = own_address(settings.public_url, settings.base_url, request.scope.get("server"))
    return enrolling.make_key(body, who.name, base, settings.trust_words)


@router.delete("/enrolment-keys/{number}")
def revoke_key(
    enrolling: EnrollingHere,
    who: Administrator,
    number: Number,
    agents: Annotated[bool, Query(description="also revoke every agent and relay that came with it")] = False,
) -> Note:
    count = enrolling.revoke_key(number, who.name, agents=agents)
    if agents:
        return Note(detail=f"the key enrols nothing more, and the {count} it enrolled may not deliver any more")
    return Note(detail="the key enrols nothing more; what it enrolled stays")


# --- agents


@router.post("/agents/enrol")
def enrol_agent(enrolling: EnrollingHere, request: Request, body: EnrolRequest) -> EnrolAnswer:
    return enrolling.enrol(body, request.client.host if request.client else "")


@router.post("/agents/check")
def check_key(enrolling: EnrollingHere, body: KeyCheck) -> KeyAnswer:
    """Whether enrolling with a key would work, without doing it."""
    good, detail = enrolling.check(body.key.reveal(), body.facts)
    return KeyAnswer(good=good, detail=detail)


@router.get("/agents/self")
def read_self(myself: ThisMachine) -> AgentSelf:
    """What the console knows of the agent that asks, waiting or enrolled."""
    return myself


@router.put("/agents/facts")
def set_facts(reports: ReportsHere, who: Agent, body: FactsChange) -> Note:
    reports.set_facts(who.host or 0, body.facts)
    return Note(detail="noted")


@router.post("/agents/token")
def rotate_token(enrolling: EnrollingHere, who: Agent) -> RenewedToken:
    """A new token; the old one is good until the new one is first used."""
    return RenewedToken(token=enrolling.rotate(who.host or 0))


@router.post("/agents/leave")
def leave(directory: DirectoryHere, hosts: HostsHere, who: Agent) -> Note:
    """The host leaves by its own wish: it is retired, its history stays."""
    host = directory.name(who.host or 0) or ""
    hosts.retire(host, f"agent of {host}")
    return Note(detail=f"{host} is retired; its history stays until it is forgotten")


@router.delete("/hosts/{name}/agent")
def revoke_agent(enrolling: EnrollingHere, who: Administrator, name: str) -> Note:
    enrolling.revoke_agent(name, who.name)
    return Note(detail=f"the agent of {name} may not deliver any more; the host and its history stay")


# --- machines that wait


@router.get("/candidates")
def list_candidates(enrolling: EnrollingHere, _who: Operator) -> Page[Candidate]:
    return Page[Candidate](items=enrolling.candidates())


Kind = Annotated[Literal["agent", "sender"], Query(description="a machine with a key, or who speaks to a receiver")]


@router.post("/candidates/{number}/approve")
def approve(enrolling: EnrollingHere, who: Administrator, number: Number, body: Approval, kind: Kind = "agent") -> Note:
    let_in = enrolling.let_sender_in if kind == "sender" else enrolling.approve
    return Note(detail=f"{let_in(number, who.name, body.name)} is let in")


@router.delete("/candidates/{number}")
def turn_away(
    enrolling: EnrollingHere, senders: SendersHere, who: Administrator, number: Number, kind: Kind = "agent"
) -> Note:
    if kind == "sender":
        return Note(detail=f"{senders.refuse(number, who.name)} is refused: nothing more of what it says is kept")
    enrolling.turn_away(number, who.name)
    return Note(detail="turned away: its token is good for nothing")
