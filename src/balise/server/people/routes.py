"""Status, signing in, users, tokens."""

from __future__ import annotations

import time

from fastapi import APIRouter, Request, Response
from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from balise.api.access import (
    MadeToken,
    Me,
    NewToken,
    NewUser,
    SignIn,
    Token,
    User,
)
from balise.api.keeping import Keeping
from balise.api.lists import Note, Page
from balise.api.spans import rfc3339, seconds
from balise.api.status import Status
from balise.server.callers import COOKIE, Administrator, ConsoleHere, Number, Viewer, Whoever, same_origin
from balise.server.errors import Refused, unknown
from balise.server.people.access import SESSION_SECONDS, audit, principal_of
from balise.store.state import tables

router = APIRouter()


@router.get("/status", tags=["status"])
def read_status(console: ConsoleHere, principal: Whoever) -> Status:
    """Whether the service is ready; with a token, its own figures too."""
    return console.status(whole=principal is not None and principal.may("viewer"))


@router.get("/certificate", tags=["status"], responses={404: {}})
def read_certificate(console: ConsoleHere) -> Response:
    """What agents may pin of the console's certificate, as PEM; open to all, believed by its fingerprint alone."""
    if console.settings.certificate is None:
        raise Refused(404, "This console serves plain HTTP: it has no certificate.")
    return Response(console.settings.certificate.anchor_pem(), media_type="application/x-pem-file")


@router.get("/settings/keeping", tags=["status"])
def read_keeping(console: ConsoleHere, _who: Viewer) -> Keeping:
    """How long things are kept."""
    return console.keeping()


@router.put("/settings/keeping", tags=["status"])
def set_keeping(console: ConsoleHere, who: Administrator, body: Keeping) -> Keeping:
    """Keeps things so long from now on. What is older is forgotten for good within a minute, which makes room."""
    return console.set_keeping(body, who.name)


@router.get("/session", tags=["access"])
def who_am_i(principal: Whoever) -> Me:
    return Me(name=principal.name, role=principal.role) if principal else Me(name=None, role=None)  # type: ignore[arg-type]


@router.post("/session", tags=["access"])
def sign_in(console: ConsoleHere, request: Request, response: Response, body: SignIn) -> Me:
    same_origin(request)
    origin = request.client.host if request.client else ""
    value, principal = console.access.sign_in(body.name, body.password.reveal(), origin=origin)
    response.set_cookie(
        COOKIE,
        value,
        max_age=SESSION_SECONDS,
        httponly=True,
        samesite="lax",
        secure=request.url.scheme == "https",
        path="/",
    )
    return Me(name=principal.name, role=principal.role)  # type: ignore[arg-type]


@router.delete("/session", tags=["access"])
def sign_out(console: ConsoleHere, request: Request, response: Response) -> Note:
    same_origin(request)
    value = request.cookies.get(COOKIE)
    if value:
        console.access.sign_out(value)
        console.hub.recheck()
    response.delete_cookie(COOKIE, path="/")
    return Note(detail="signed out")


@router.get("/users", tags=["access"])
def list_users(console: ConsoleHere, _who: Administrator) -> Page[User]:
    rows = console.state.read(lambda s: list(s.scalars(select(tables.User).order_by(tables.User.name))))
    return Page[User](items=[_user(row) for row in rows])


@router.post("/users", tags=["access"], status_code=201)
def add_user(console: ConsoleHere, who: Administrator, body: NewUser) -> User:
    return _user(console.access.add_user(body.name, body.role, body.password.reveal(), by=who.name))


@router.delete("/users/{name}", tags=["access"])
def remove_user(console: ConsoleHere, who: Administrator, name: str) -> Note:
    if name == who.name:
        raise Refused(409, "You cannot remove yourself: let another administrator do it.")

    def write(session: Session) -> None:
        row = session.scalar(select(tables.User).where(tables.User.name == name))
        if row is None:
            raise unknown("user", name)
        session.delete(row)
        audit(session, who.name, "user.remove", name)

    console.state.write(write)
    console.hub.recheck()
    return Note(detail=f"user {name} removed, and signed out everywhere")


def _user(row: tables.User) -> User:
    return User(
        name=row.name,
        role=row.role,  # type: ignore[arg-type]
        created_at=rfc3339(row.created_at),
        signed_in_at=rfc3339(row.signed_in_at) if row.signed_in_at else None,
    )


@router.get("/tokens", tags=["access"])
def list_tokens(console: ConsoleHere, _who: Administrator) -> Page[Token]:
    query = (
        select(tables.Token)
        .where(tables.Token.host.is_(None), tables.Token.relay.is_(None))
        .order_by(tables.Token.id.desc())
        .limit(1000)
    )
    return Page[Token](items=[_token(row) for row in console.state.read(lambda s: list(s.scalars(query)))])


@router.post("/tokens", tags=["access"], status_code=201)
def make_token(console: ConsoleHere, who: Administrator, body: NewToken) -> MadeToken:
    expires_at = time.time() + seconds(body.expires_in) if body.expires_in else None
    row, token = console.access.make_token(body.name, body.role, by=who.name, expires_at=expires_at, scope=body.scope)
    return MadeToken(**_token(row).model_dump(), token=token)


@router.delete("/tokens/{number}", tags=["access"])
def revoke_token(console: ConsoleHere, who: Administrator, number: Number) -> Note:
    def write(session: Session) -> None:
        row = session.get(tables.Token, number)
        if row is None or row.host is not None or row.relay is not None:
            raise unknown("token", number)
        session.execute(delete(tables.Token).where(tables.Token.id == number))
        audit(session, who.name, "token.revoke", row.name)

    console.state.write(write)
    console.access.forget_remembered()
    console.hub.recheck()
    return Note(detail="the token is good for nothing from now on")


def _token(row: tables.Token) -> Token:
    return Token(
        id=row.id,
        name=row.name,
        role=row.role,  # type: ignore[arg-type]
        scope=principal_of(row).scope,
        new_hosts=row.new_hosts,
        created_at=rfc3339(row.created_at),
        expires_at=rfc3339(row.expires_at) if row.expires_at else None,
        used_at=rfc3339(row.used_at) if row.used_at else None,
    )
