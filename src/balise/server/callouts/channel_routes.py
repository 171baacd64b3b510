"""Channels, and what was told to whom."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query

from balise.api.channels import Channel, ChannelBody
from balise.api.deliveries import Delivery
from balise.api.lists import Note, Page
from balise.api.spans import Name
from balise.server.callers import Administrator, Number, Operator, Turn, Viewer, part
from balise.server.callouts.channel_book import ChannelBook

router = APIRouter(tags=["notification"])
ChannelsHere = Annotated[ChannelBook, part(ChannelBook)]


@router.get("/channels")
def list_channels(channels: ChannelsHere, who: Viewer) -> Page[Channel]:
    return Page[Channel](items=channels.all(who))


@router.get("/channels/{name}")
def read_channel(channels: ChannelsHere, who: Viewer, name: str) -> Channel:
    """Whoever is no administrator does not see a webhook's whole address: it may be all that it takes to use it."""
    return channels.get(name, who)


@router.put("/channels/{name}")
def put_channel(channels: ChannelsHere, who: Administrator, name: Name, body: ChannelBody) -> Channel:
    """A secret that is left out stays as it was, as long as the kind and the place it is sent to stay."""
    return channels.put(name, body, who)


@router.delete("/channels/{name}")
def delete_channel(channels: ChannelsHere, who: Administrator, name: str) -> Note:
    channels.delete(name, who.name)
    return Note(detail=f"channel {name} deleted")


@router.post("/channels/{name}/test")
async def check_channel(channels: ChannelsHere, turn: Turn, who: Operator, name: str) -> Note:
    """Sends a test at once and answers what became of it."""
    await turn.tried(who, lambda: channels.test(name, who.name))
    return Note(detail="The test got through.")


@router.get("/deliveries")
def list_deliveries(
    channels: ChannelsHere,
    _who: Viewer,
    state: Annotated[str | None, Query(pattern="^(waiting|sent|given-up)$")] = None,
    limit: Annotated[int, Query(ge=1, le=1000)] = 100,
    cursor: Annotated[str | None, Query(pattern=r"^\d{1,18}$")] = None,
    incident: Annotated[int | None, Query(ge=1, le=2**63 - 1)] = None,
    channel: Annotated[str | None, Query(max_length=100)] = None,
) -> Page[Delivery]:
    """Who was told what, and what became of it, the newest first."""
    return channels.deliveries(state=state, incident=incident, channel=channel, limit=limit, cursor=cursor)


@router.post("/deliveries/{number}/resend")
def resend_delivery(channels: ChannelsHere, who: Operator, number: Number) -> Delivery:
    """Sends what was told once more, as it was."""
    return channels.resend(number, who.name)
