"""Who is asking, and what they may do: users, sessions, tokens, enrolment keys."""

from __future__ import annotations

import math
import secrets
import time
from collections import OrderedDict
from dataclasses import dataclass
from typing import Any

from sqlalchemy import delete, func, select, update
from sqlalchemy.orm import Session

from balise.api.access import PersonRole, Role, Scope
from balise.server.asking import read_filter
from balise.server.errors import Refused
from balise.server.people.tries import Passwords, Tries
from balise.store.state.secrets import digest, new_token
from balise.store.state.store import StateStore
from balise.store.state.tables import AuditEntry, Candidate, SessionCookie, Token, User

WAITING = "waiting"
"""The role of a machine that waits to be let in: it may do nothing yet."""
RANK = {"viewer": 1, "operator": 2, "administrator": 3}
SESSION_SECONDS = 12 * 3600
REMEMBERED_SECONDS = 60.0
"""How long a token is remembered. Whatever ends one in this process makes it forgotten at once."""
UNKNOWN_SECONDS = 2.0
MOST_REMEMBERED = 20_000
MOST_PLACES = 10


@dataclass(frozen=True)
class Principal:
    """Somebody, or something, that came in. `host` is set for an agent, `relay` for a relay."""

    name: str
    role: Role | str
    host: int | None = None
    relay: int | None = None
    by_cookie: bool = False
    token: int | None = None
    scope: Scope | None = None
    """What a token of role ingest may deliver; None for those who may deliver all, or nothing."""

    def may(self, role: str) -> bool:
        """Whether the role of a person, or of a token made for one, is at least this."""
        return RANK.get(self.role, 0) >= RANK[role]

    @property
    def may_deliver(self) -> bool:
        return self.role in ("ingest", "agent", "administrator")


def principal_of(row: Token) -> Principal:
    """Whom a token stands for."""
    scope = Scope.model_validate(row.scope) if row.scope else Scope() if row.role == "ingest" else None
    return Principal(row.name, row.role, row.host, row.relay, token=row.id, scope=scope)


def audit(session: Session, who: str, what: str, target: str, **detail: Any) -> None:
    """Writes down who did what; never with a secret in it."""
    session.add(AuditEntry(at=time.time(), who=who, what=what, target=target, detail=detail))


class Access:
    """Recognises people and tokens. Tokens are remembered for a while; what ends one makes it forgotten."""

    def __init__(self, state: StateStore) -> None:
        self._state = state
        self._passwords = Passwords()
        self._remembered: OrderedDict[str, tuple[float, Principal | None]] = OrderedDict()
        self._used: dict[int, float] = {}
        self._tries = Tries()

    # --- recognising

    def bearer(self, token: str) -> Principal | None:
        """Who a bearer token belongs to."""
        held = self._remembered.get(token)
        now = time.monotonic()
        if held and now < held[0]:
            return held[1]
        found, until = self._state.read(lambda s: self._find_token(s, token))
        good_for = REMEMBERED_SECONDS if found else UNKNOWN_SECONDS
        self._remembered[token] = (now + min(good_for, until - time.time()), found)
        while len(self._remembered) > MOST_REMEMBERED:
            self._remembered.popitem(last=False)
        return found

    def _find_token(self, session: Session, token: str) -> tuple[Principal | None, float]:
        """Who it is, and until when that holds, unix seconds."""
        row = session.scalar(select(Token).where(Token.digest == digest(token)))
        if row is None:
            waiting = session.scalar(select(Candidate.name).where(Candidate.digest == digest(token)))
            return Principal(waiting, WAITING) if waiting else None, math.inf
        if row.expires_at is not None and row.expires_at < time.time():
            return None, math.inf
        self._used[row.id] = time.time()
        return principal_of(row), row.expires_at or math.inf

    def write_used(self) -> None:
        """Keeps when tokens were used. Where an agent or a relay uses its new token, the one before ends."""
        used, self._used = self._used, {}

        def write(session: Session) -> bool:
            there = set(session.scalars(select(Token.id).where(Token.id.in_(used))))
            session.execute(update(Token), [{"id": number, "used_at": used[number]} for number in there])
            ended = False
            for column in (Token.host, Token.relay):
                several = select(column).where(column.is_not(None)).group_by(column).having(func.count() > 1)
                for owner in list(session.scalars(several)):
                    newest = session.scalar(
                        select(func.max(Token.id)).where(column == owner, Token.used_at.is_not(None))
                    )
                    if newest is not None:
                        session.execute(delete(Token).where(column == owner, Token.id < newest))
                        ended = True
            return ended

        if used and self._state.write(write):
            self.forget_remembered()

    def forget_host(self, host: int) -> None:
        """The tokens of a host have changed: those remembered are looked up anew."""
        for token, (_, found) in list(self._remembered.items()):
            if found is not None and found.host == host:
                self._remembered.pop(token, None)

    def cookie(self, value: str) -> Principal | None:
        """Who a session cookie belongs to."""

        def find(session: Session) -> Principal | None:
            row = session.get(SessionCookie, digest(value))
            if row is None or row.expires_at < time.time():
                return None
            user = session.get(User, row.user)
            return Principal(user.name, user.role, by_cookie=True) if user else None

        return self._state.read(find)

    def forget_remembered(self) -> None:
        self._remembered.clear()

    # --- people

    def sign_in(self, name: str, password: str, *, origin: str) -> tuple[str, Principal]:
        """A new session's cookie value.

        Raises:
            Refused: 401 when name or password is wrong, 429 after too many tries, 503 when too many sign in at once.
        """
        user = self._state.read(lambda s: s.scalar(select(User).where(User.name == name)))
        known = user is not None and origin in user.places
        self._tries.begin(name, origin, known=known)
        if not self._passwords.fits(password, user.password if user else None) or user is None:
            raise Refused(401, "Name or password is wrong.")
        self._tries.succeeded(name, origin, known=known)
        value = secrets.token_urlsafe(32)
        now = time.time()
        number = user.id

        def keep(session: Session) -> None:
            session.execute(delete(SessionCookie).where(SessionCookie.expires_at < now))
            session.add(SessionCookie(digest=digest(value), user=number, expires_at=now + SESSION_SECONDS))
            found = session.get(User, number)
            if found:
                found.signed_in_at = now
                found.places = [origin, *(place for place in found.places if place != origin)][:MOST_PLACES]
            audit(session, name, "sign-in", name)

        self._state.write(keep)
        return value, Principal(user.name, user.role, by_cookie=True)

    def sign_out(self, value: str) -> None:
        self._state.write(lambda s: s.execute(delete(SessionCookie).where(SessionCookie.digest == digest(value))))

    def add_user(self, name: str, role: PersonRole, password: str, *, by: str) -> User:
        """Raises Refused 409 when there is a user of that name."""
        hashed = self._passwords.hash(password)

        def add(session: Session) -> User:
            if session.scalar(select(User).where(User.name == name)):
                raise Refused(409, f"There is already a user {name!r}.")
            user = User(name=name, role=role, password=hashed, created_at=time.time())
            session.add(user)
            session.flush()
            audit(session, by, "user.add", name, role=role)
            return user

        return self._state.write(add)

    def has_users(self) -> bool:
        return self._state.read(lambda s: s.scalar(select(User.id).limit(1))) is not None

    # --- tokens

    def make_token(
        self, name: str, role: Role, *, by: str, expires_at: float | None = None, scope: Scope | None = None
    ) -> tuple[Token, str]:
        """A token and its text, which is known only now; one of role ingest has a scope, the default one unless given.

        Raises:
            Refused: 422 when the filter of the scope cannot be read.
        """
        token = new_token("tok")
        if role == "ingest":
            scope = scope or Scope()
            if scope.hosts:
                read_filter(scope.hosts, "scope.hosts")

        def add(session: Session) -> Token:
            row = Token(name=name, role=role, digest=digest(token), created_at=time.time(), expires_at=expires_at)
            row.scope = scope.model_dump() if scope else None
            session.add(row)
            session.flush()
            audit(session, by, "token.create", name, role=role, scope=row.scope)
            return row

        return self._state.write(add), token
