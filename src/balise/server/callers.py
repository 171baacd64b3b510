"""What calls need: the part of the service that they are about, and who is asking.

What needs no more than memory is looked at on the event loop: each thread that is waited for costs a turn of it, which
takes long while a fleet delivers.
"""

from __future__ import annotations

from collections.abc import AsyncIterator, Callable
from typing import Annotated, Any, TypeVar
from urllib.parse import urlsplit

from fastapi import Depends, Path, Query, Request, Response
from pydantic import BaseModel
from starlette.concurrency import run_in_threadpool

from balise.api.secrets import REVEALED
from balise.server.errors import Refused
from balise.server.live import Hub
from balise.server.people.access import WAITING, Access, Principal
from balise.server.settings import Settings
from balise.server.turns import OneTurn, Turnstile

T = TypeVar("T")
COOKIE = "balise_session"
Number = Annotated[int, Path(ge=0, le=2**63 - 1)]
"""The number of something in the records."""


def part(kind: type[T]) -> Any:
    """The one part that is of a kind, as a parameter of a call: `Annotated[RuleBook, part(RuleBook)]`."""

    async def find(request: Request) -> T:
        return part_of(request, kind)

    return Depends(find)


async def turn(request: Request) -> OneTurn:
    return OneTurn(part_of(request, Turnstile), request.is_disconnected)


def part_of(request: Request, kind: type[T]) -> T:
    found: T = request.app.state.parts[kind]
    return found


async def whoever(request: Request) -> Principal | None:
    """Who is asking, by bearer token or by the web console's cookie; None for nobody."""
    remembered = _remembered(request)
    found = remembered[0] if remembered else await run_in_threadpool(_recognised, request)
    if found is not None and found.role != WAITING:
        # Told to the door, which belongs to the event loop, when the answer goes out.
        request.state.who = found
    return found


def _remembered(request: Request) -> tuple[Principal | None] | None:
    """Who was recognised by the same lately; None when that is not known."""
    access, token, cookie = part_of(request, Access), _bearer_of(request), request.cookies.get(COOKIE)
    if token is not None:
        return access.remembered(token)
    if not cookie:
        return (None,)
    if request.method not in ("GET", "HEAD"):
        same_origin(request)
    return access.remembered_cookie(cookie)


def _recognised(request: Request) -> Principal | None:
    access = part_of(request, Access)
    token = _bearer_of(request)
    if token is not None:
        return access.bearer(token)
    cookie = request.cookies.get(COOKIE)
    if not cookie:
        return None
    if request.method not in ("GET", "HEAD"):
        same_origin(request)
    return access.cookie(cookie)


def _bearer_of(request: Request) -> str | None:
    authorization = request.headers.get("authorization", "")
    return authorization[7:].strip() if authorization[:7].lower() == "bearer " else None


def revealed(model: BaseModel, etag: str) -> Response:
    """A model with its secrets, for the agent or the relay that works with them."""
    content = model.model_dump_json(context=REVEALED)
    return Response(content, media_type="application/json", headers={"ETag": f'"{etag}"'})


def stream_of(
    request: Request, hub: Hub, who: Principal, role: str, wants: Callable[[str, Any], bool]
) -> AsyncIterator[bytes]:
    """The live stream of somebody, which ends when they are removed, signed out, or have lost the role.

    Raises:
        Refused: 503 when there is no room for another stream.
    """
    whose = f"{who.role} {who.name}"
    if not hub.has_room(whose):
        raise Refused(503, "There are too many open streams: close some pages.", headers={"Retry-After": "10"})

    async def may_go_on() -> bool:
        found = await run_in_threadpool(_recognised, request)
        return found is not None and found.may(role)

    return hub.stream(wants, who=whose, may_go_on=may_go_on)


def same_origin(request: Request) -> None:
    """A page of somebody else's must not act with the cookie of whoever looks at it, nor sign them in or out."""
    origin = request.headers.get("origin")
    ours = {request.headers.get("host"), urlsplit(part_of(request, Settings).public_url).netloc} - {"", None}
    if origin and urlsplit(origin).netloc not in ours:
        raise Refused(403, "This request comes from a page of another origin.")


Whoever = Annotated[Principal | None, Depends(whoever)]


def _needing(principal: Principal | None, role: str) -> Principal:
    if principal is None:
        raise Refused(
            401,
            "Send a token (Authorization: Bearer …) that is known and has not expired, or sign in.",
            headers={"WWW-Authenticate": "Bearer"},
        )
    if not principal.may(role):
        raise Refused(403, f"This needs the role {role}; {principal.name!r} has the role {principal.role}.")
    return principal


async def viewer(principal: Whoever) -> Principal:
    return _needing(principal, "viewer")


async def operator(principal: Whoever) -> Principal:
    return _needing(principal, "operator")


async def administrator(principal: Whoever) -> Principal:
    return _needing(principal, "administrator")


def calendar_reader(
    request: Request, principal: Whoever, token: Annotated[str, Query(max_length=200)] = ""
) -> Principal:
    """A viewer, or whoever has a token for calendars in the address: programs that show calendars send nothing else."""
    found = part_of(request, Access).bearer(token) if token else principal
    if found is None or not (found.may("viewer") or found.role == "calendar"):
        raise Refused(401, "Add ?token= with a token of the role calendar, or sign in.")
    return found


async def agent(principal: Whoever) -> Principal:
    if principal is None or principal.host is None:
        raise Refused(401, "This call is for enrolled agents: enrol this host again.")
    return principal


Viewer = Annotated[Principal, Depends(viewer)]
Operator = Annotated[Principal, Depends(operator)]
Administrator = Annotated[Principal, Depends(administrator)]
Agent = Annotated[Principal, Depends(agent)]
CalendarReader = Annotated[Principal, Depends(calendar_reader)]
Turn = Annotated[OneTurn, Depends(turn)]
"""Where what takes long waits for its turn."""
Live = Annotated[Hub, part(Hub)]
