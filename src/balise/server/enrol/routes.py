"""Enrolling: keys, agents, machines that wait, lists of hosts, credentials."""

from __future__ import annotations

from collections.abc import AsyncIterator
from typing import Annotated

from fastapi import APIRouter, Depends, Path, Query, Request
from fastapi.responses import StreamingResponse
from pydantic import BaseModel, ConfigDict

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
from balise.api.credentials import Credential, CredentialBody
from balise.api.lists import Note, Page
from balise.api.remote import (
    CollectionSettings,
    Enrolment,
    EnrolmentEntry,
    ListAnswer,
    NewEnrolment,
    ReadList,
    StartedEnrolment,
)
from balise.api.spans import Name
from balise.core.hostlist import read_list
from balise.server.callers import Administrator, Agent, ConsoleHere, Number, Operator, Viewer, stream_of
from balise.server.console import Console
from balise.server.errors import Refused
from balise.server.live import message
from balise.server.ownhosts import own_address


def the_machine(console: ConsoleHere, request: Request) -> AgentSelf:
    """The agent that asks, enrolled or waiting to be let in."""
    words = request.headers.get("authorization", "").split()
    found = console.enrolling.who_is(words[1]) if len(words) == 2 else None
    if found is None:
        raise Refused(401, "The console does not know this agent: enrol it again.")
    return found


ThisMachine = Annotated[AgentSelf, Depends(the_machine)]
router = APIRouter(tags=["enrolment"])


# --- keys


@router.get("/enrolment-keys")
def list_keys(console: ConsoleHere, _who: Administrator) -> Page[EnrolmentKey]:
    return Page[EnrolmentKey](items=console.enrolling.keys())


@router.post("/enrolment-keys", status_code=201)
def make_key(console: ConsoleHere, who: Administrator, request: Request, body: NewEnrolmentKey) -> MadeEnrolmentKey:
    base = own_address(console.settings.public_url, console.settings.base_url, request.scope.get("server"))
    return console.enrolling.make_key(body, who.name, base, console.trust_words())


@router.delete("/enrolment-keys/{number}")
def revoke_key(
    console: ConsoleHere,
    who: Administrator,
    number: Number,
    agents: Annotated[bool, Query(description="also revoke every agent and relay that came with it")] = False,
) -> Note:
    count = console.enrolling.revoke_key(number, who.name, agents=agents)
    console.access.forget_remembered()
    if agents:
        return Note(detail=f"the key enrols nothing more, and the {count} it enrolled may not deliver any more")
    return Note(detail="the key enrols nothing more; what it enrolled stays")


# --- agents


@router.post("/agents/enrol")
def enrol_agent(console: ConsoleHere, request: Request, body: EnrolRequest) -> EnrolAnswer:
    return console.enrolling.enrol(body, request.client.host if request.client else "")


@router.post("/agents/check")
def check_key(console: ConsoleHere, body: KeyCheck) -> KeyAnswer:
    """Whether enrolling with a key would work, without doing it."""
    good, detail = console.enrolling.check(body.key.reveal(), body.facts)
    return KeyAnswer(good=good, detail=detail)


@router.get("/agents/self")
def read_self(myself: ThisMachine) -> AgentSelf:
    """What the console knows of the agent that asks, waiting or enrolled."""
    return myself


@router.put("/agents/facts")
def set_facts(console: ConsoleHere, who: Agent, body: FactsChange) -> Note:
    console.hosts.set_facts(who.host or 0, body.facts)
    return Note(detail="noted")


@router.post("/agents/token")
def rotate_token(console: ConsoleHere, who: Agent) -> RenewedToken:
    """A new token; the old one is good until the new one is first used."""
    return RenewedToken(token=console.enrolling.rotate(who.host or 0))


@router.post("/agents/leave")
def leave(console: ConsoleHere, who: Agent) -> Note:
    """The host leaves by its own wish: it is retired, its history stays."""
    host = console.directory.name(who.host or 0) or ""
    console.hosts.retire(host, f"agent of {host}")
    console.access.forget_remembered()
    return Note(detail=f"{host} is retired; its history stays until it is forgotten")


@router.delete("/hosts/{name}/agent")
def revoke_agent(console: ConsoleHere, who: Administrator, name: str) -> Note:
    console.enrolling.revoke_agent(name, who.name)
    console.access.forget_remembered()
    return Note(detail=f"the agent of {name} may not deliver any more; the host and its history stay")


# --- machines that wait


@router.get("/candidates")
def list_candidates(console: ConsoleHere, _who: Operator) -> Page[Candidate]:
    return Page[Candidate](items=console.enrolling.candidates())


@router.post("/candidates/{number}/approve")
def approve(console: ConsoleHere, who: Administrator, number: Number, body: Approval) -> Note:
    host = console.enrolling.approve(number, who.name, body.name)
    console.access.forget_remembered()
    return Note(detail=f"{host} is let in")


@router.delete("/candidates/{number}")
def turn_away(console: ConsoleHere, who: Administrator, number: Number) -> Note:
    console.enrolling.turn_away(number, who.name)
    console.access.forget_remembered()
    return Note(detail="turned away: its token is good for nothing")


# --- lists of hosts


class Correction(EnrolmentEntry):
    """An entry as it should be tried again."""

    position: int


class Retry(BaseModel):
    model_config = ConfigDict(extra="forbid")
    entries: list[Correction] = []


@router.post("/enrolments/read")
def read_hosts(body: ReadList, _who: Operator) -> ListAnswer:
    """Reads a pasted list, a CSV or ranges of addresses into entries; nothing is tested yet."""
    return read_list(body)


@router.post("/enrolments", status_code=202)
def start_enrolment(console: ConsoleHere, who: Operator, body: NewEnrolment) -> StartedEnrolment:
    return StartedEnrolment(id=console.enrolments.start(body, who), total=len(body.entries))


@router.get("/enrolments")
def list_enrolments(console: ConsoleHere, _who: Operator) -> Page[Enrolment]:
    """The newest lists, without their entries."""
    return Page[Enrolment](items=console.enrolments.all())


@router.get("/enrolments/{number}")
def read_enrolment(console: ConsoleHere, _who: Operator, number: Number) -> Enrolment:
    return console.enrolments.get(number)


@router.post("/enrolments/{number}/retry", status_code=202)
def retry(console: ConsoleHere, who: Operator, number: Number, body: Retry) -> StartedEnrolment:
    """Tests what was not good again: each as corrected here, or as it was."""
    corrected = {e.position: EnrolmentEntry.model_validate(e.model_dump(exclude={"position"})) for e in body.entries}
    console.enrolments.retry(number, corrected, who)
    return StartedEnrolment(id=number, total=console.enrolments.get(number).total)


@router.get("/enrolments/{number}/live", response_class=StreamingResponse)
async def follow_enrolment(console: ConsoleHere, who: Operator, number: Number, request: Request) -> StreamingResponse:
    """Server-sent events: the whole list first, then again whenever results come in, until it is done."""
    console.enrolments.get(number)
    parts = stream_of(request, console, who, "operator", lambda topic, it: topic == "enrolment" and it["id"] == number)
    return StreamingResponse(_progress(console, number, parts), media_type="text/event-stream")


async def _progress(console: Console, number: int, parts: AsyncIterator[bytes]) -> AsyncIterator[bytes]:
    import asyncio

    yield message("enrolment", (await asyncio.to_thread(console.enrolments.get, number)).model_dump(mode="json"))
    async for part in parts:
        if not part.startswith(b"event: enrolment"):
            yield part
            continue
        answer = await asyncio.to_thread(console.enrolments.get, number)
        yield message("enrolment", answer.model_dump(mode="json"))
        if answer.state == "done":
            return


# --- credentials


CredentialName = Annotated[Name, Path()]


@router.get("/credentials")
def list_credentials(console: ConsoleHere, _who: Viewer) -> Page[Credential]:
    return Page[Credential](items=console.credentials.all())


@router.get("/credentials/{name}")
def read_credential(console: ConsoleHere, _who: Viewer, name: str) -> Credential:
    return console.credentials.get(name)


@router.put("/credentials/{name}")
def put_credential(
    console: ConsoleHere,
    who: Administrator,
    name: CredentialName,
    body: CredentialBody,
    anyway: Annotated[bool, Query(description="keep it although it does not work on every host that uses it")] = False,
) -> Credential:
    """Keeps a credential. One that is in use is tried first on every host that uses it."""
    console.rotate_credential(name, body, anyway=anyway)
    answer = console.credentials.put(name, body, who.name)
    console.remote_work.refresh()
    return answer


@router.delete("/credentials/{name}")
def delete_credential(console: ConsoleHere, who: Administrator, name: str) -> Note:
    console.credentials.delete(name, who.name)
    return Note(detail=f"the credential {name} is gone")


# --- settings of remote collection


@router.get("/settings/collection")
def read_collection(console: ConsoleHere, _who: Viewer) -> CollectionSettings:
    return console.book_of_settings.collection()


@router.put("/settings/collection")
def set_collection(console: ConsoleHere, who: Administrator, body: CollectionSettings) -> CollectionSettings:
    kept = console.book_of_settings.set_collection(body, who.name)
    console.remote_work.refresh()
    return kept
