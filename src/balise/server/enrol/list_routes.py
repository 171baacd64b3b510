"""Lists of hosts, tested and enrolled at once."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from typing import Annotated

from fastapi import APIRouter, Request
from fastapi.responses import StreamingResponse
from pydantic import BaseModel, ConfigDict

from balise.api.lists import Page
from balise.api.remote import Enrolment, EnrolmentEntry, ListAnswer, NewEnrolment, ReadList, StartedEnrolment
from balise.core.hostlist import read_list
from balise.server.callers import Live, Number, Operator, part, stream_of
from balise.server.enrol.lists import Enrolments
from balise.server.live import message

router = APIRouter(tags=["enrolment"])
EnrolmentsHere = Annotated[Enrolments, part(Enrolments)]


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
def start_enrolment(enrolments: EnrolmentsHere, who: Operator, body: NewEnrolment) -> StartedEnrolment:
    return StartedEnrolment(id=enrolments.start(body, who), total=len(body.entries))


@router.get("/enrolments")
def list_enrolments(enrolments: EnrolmentsHere, _who: Operator) -> Page[Enrolment]:
    """The newest lists, without their entries."""
    return Page[Enrolment](items=enrolments.all())


@router.get("/enrolments/{number}")
def read_enrolment(enrolments: EnrolmentsHere, _who: Operator, number: Number) -> Enrolment:
    return enrolments.get(number)


@router.post("/enrolments/{number}/retry", status_code=202)
def retry(enrolments: EnrolmentsHere, who: Operator, number: Number, body: Retry) -> StartedEnrolment:
    """Tests what was not good again: each as corrected here, or as it was."""
    corrected = {e.position: EnrolmentEntry.model_validate(e.model_dump(exclude={"position"})) for e in body.entries}
    enrolments.retry(number, corrected, who)
    return StartedEnrolment(id=number, total=enrolments.get(number).total)


@router.get("/enrolments/{number}/live", response_class=StreamingResponse)
async def follow_enrolment(
    enrolments: EnrolmentsHere, hub: Live, who: Operator, number: Number, request: Request
) -> StreamingResponse:
    """Server-sent events: the whole list first, then again whenever results come in, until it is done."""
    enrolments.get(number)
    parts = stream_of(request, hub, who, "operator", lambda topic, it: topic == "enrolment" and it["id"] == number)
    return StreamingResponse(_progress(enrolments, number, parts), media_type="text/event-stream")


async def _progress(enrolments: Enrolments, number: int, messages: AsyncIterator[bytes]) -> AsyncIterator[bytes]:
    yield message("enrolment", (await asyncio.to_thread(enrolments.get, number)).model_dump(mode="json"))
    async for one in messages:
        if not one.startswith(b"event: enrolment"):
            yield one
            continue
        answer = await asyncio.to_thread(enrolments.get, number)
        yield message("enrolment", answer.model_dump(mode="json"))
        if answer.state == "done":
            return
