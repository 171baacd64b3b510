"""Signing in, users, tokens."""

from __future__ import annotations

import time
from typing import Annotated

from fastapi import APIRouter, Request, Response
from starlette.concurrency import run_in_threadpool

from balise.api.access import FirstPage, MadeToken, Me, NewToken, NewUser, SignIn, Token, User
from balise.api.lists import Note, Page
from balise.api.spans import seconds
from balise.server.asking import NamedFilters
from balise.server.callers import COOKIE, Administrator, Number, Viewer, Whoever, part, same_origin
from balise.server.errors import Refused
from balise.server.people.access import Principal
from balise.server.people.sessions import SESSION_SECONDS, Sessions
from balise.server.people.tokens import TokenBook, with_named_filter
from balise.server.people.users import UserBook

router = APIRouter(tags=["access"])
SessionsHere = Annotated[Sessions, part(Sessions)]
UsersHere = Annotated[UserBook, part(UserBook)]
TokensHere = Annotated[TokenBook, part(TokenBook)]
FiltersHere = Annotated[NamedFilters, part(NamedFilters)]


@router.get("/session")
async def who_am_i(users: UsersHere, principal: Whoever) -> Me:
    if principal is None:
        return Me(name=None, role=None)
    if not principal.by_cookie or users.known_first_page(principal.name) is not None:
        return _me(users, principal)
    return await run_in_threadpool(_me, users, principal)


def _me(users: UserBook, who: Principal) -> Me:
    known = users.known_first_page(who.name) if who.by_cookie else ""
    first = users.first_page(who.name) if known is None else known
    return Me(name=who.name, role=who.role, first_page=first)  # type: ignore[arg-type]


@router.post("/session")
def sign_in(sessions: SessionsHere, users: UsersHere, request: Request, response: Response, body: SignIn) -> Me:
    same_origin(request)
    origin = request.client.host if request.client else ""
    value, principal = sessions.sign_in(body.name, body.password.reveal(), origin=origin)
    response.set_cookie(
        COOKIE,
        value,
        max_age=SESSION_SECONDS,
        httponly=True,
        samesite="lax",
        secure=request.url.scheme == "https",
        path="/",
    )
    return _me(users, principal)


@router.put("/session/first-page")
def choose_first_page(users: UsersHere, who: Viewer, body: FirstPage) -> Note:
    """Where the console begins for whoever is signed in to it."""
    if not who.by_cookie:
        raise Refused(409, "A token has no pages: sign in to the console, and choose there.")
    users.choose_first_page(who.name, body.page)
    return Note(detail=f"the console begins at {body.page or 'Now'}")


@router.delete("/session")
def sign_out(sessions: SessionsHere, request: Request, response: Response) -> Note:
    same_origin(request)
    value = request.cookies.get(COOKIE)
    if value:
        sessions.sign_out(value)
    response.delete_cookie(COOKIE, path="/")
    return Note(detail="signed out")


@router.get("/users")
def list_users(users: UsersHere, _who: Administrator) -> Page[User]:
    return Page[User](items=users.all())


@router.post("/users", status_code=201)
def add_user(users: UsersHere, who: Administrator, body: NewUser) -> User:
    return users.add(body.name, body.role, body.password.reveal(), by=who.name)


@router.delete("/users/{name}")
def remove_user(users: UsersHere, who: Administrator, name: str) -> Note:
    users.remove(name, who.name)
    return Note(detail=f"user {name} removed, and signed out everywhere")


@router.get("/tokens")
def list_tokens(tokens: TokensHere, _who: Administrator) -> Page[Token]:
    return Page[Token](items=tokens.all())


@router.post("/tokens", status_code=201)
def make_token(tokens: TokensHere, filters: FiltersHere, who: Administrator, body: NewToken) -> MadeToken:
    expires_at = time.time() + seconds(body.expires_in) if body.expires_in else None
    scope = with_named_filter(body.scope, filters)
    made, token = tokens.make(body.name, body.role, by=who.name, expires_at=expires_at, scope=scope)
    return MadeToken(**made.model_dump(), token=token)


@router.delete("/tokens/{number}")
def revoke_token(tokens: TokensHere, who: Administrator, number: Number) -> Note:
    tokens.revoke(number, who.name)
    return Note(detail="the token is good for nothing from now on")
