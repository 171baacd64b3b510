"""Who is asking, and what they may do."""

from __future__ import annotations

import json
import math
import time
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any, Literal

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from balise.api.access import Role, Scope
from balise.server.signals import Signal
from balise.store.state.columns import set_columns
from balise.store.state.secrets import digest
from balise.store.state.store import StateStore
from balise.store.state.tables import AuditEntry, SessionCookie, Token, User

WAITING = "waiting"
"""The role of a machine that waits to be let in: it may do nothing yet."""
RANK = {"viewer": 1, "operator": 2, "administrator": 3}
REMEMBERED_SECONDS = 600.0
"""How long a token is remembered. Whatever ends one makes it forgotten at once."""
UNKNOWN_SECONDS, COOKIE_SECONDS = 2.0, 60.0
_Key = tuple[Literal["token", "cookie"], str]
MOST_REMEMBERED = 20_000


_BEARER = "SELECT id, name, role, host, relay, scope, expires_at FROM token WHERE digest = ?"
"""Each delivery of a fleet's comes with a token of its own."""
_WAITS = "SELECT name FROM candidate WHERE digest = ?"


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
    return _principal(row.id, row.name, row.role, row.host, row.relay, row.scope)


def _principal(
    token: int, name: str, role: str, host: int | None, relay: int | None, kept: dict[str, Any] | None
) -> Principal:
    scope = Scope.model_validate(kept) if kept else Scope() if role == "ingest" else None
    return Principal(name, role, host, relay, token=token, scope=scope)


def audit(session: Session, who: str, what: str, target: str, **detail: Any) -> None:
    """Writes down who did what; never with a secret in it."""
    session.add(AuditEntry(at=time.time(), who=who, what=what, target=target, detail=detail))


class Access:
    """Recognises people and tokens. They are remembered for a while; what ends one makes it forgotten."""

    def __init__(self, state: StateStore) -> None:
        self._state = state
        self._remembered: OrderedDict[_Key, tuple[float, Principal | None]] = OrderedDict()
        self._used: dict[int, float] = {}
        self._forgotten = 0
        """How often remembered tokens were forgotten."""
        self.ended = Signal[None]("access ended")
        """Somebody may no longer come in."""
        # Before anybody else hears of it.
        self.ended.then(self._forget_cookies)

    # --- recognising

    def bearer(self, token: str) -> Principal | None:
        """Who a bearer token belongs to."""
        return self._known(("token", token), lambda: self._find_token(token), REMEMBERED_SECONDS)

    def cookie(self, value: str) -> Principal | None:
        """Who a session cookie belongs to."""
        return self._known(("cookie", value), lambda: self._find_cookie(value), COOKIE_SECONDS)

    def remembered(self, token: str) -> tuple[Principal | None] | None:
        """Who a bearer token belongs to, if that was looked up lately; else None."""
        return self._held("token", token)

    def remembered_cookie(self, value: str) -> tuple[Principal | None] | None:
        """`remembered` of a session cookie."""
        return self._held("cookie", value)

    def _held(self, *key: *_Key) -> tuple[Principal | None] | None:
        held = self._remembered.get(key)
        return (held[1],) if held is not None and time.monotonic() < held[0] else None

    def _known(self, key: _Key, find: Callable[[], tuple[Principal | None, float]], longest: float) -> Principal | None:
        """Who somebody is, and `find` when that is not remembered; what it finds holds until a moment, unix seconds."""
        remembered = self._held(*key)
        if remembered:
            return remembered[0]
        now = time.monotonic()
        forgotten = self._forgotten
        found, until = find()
        if forgotten != self._forgotten:
            # Something has ended meanwhile, which may be this.
            return found
        self._remembered[key] = (now + min(longest if found else UNKNOWN_SECONDS, until - time.time()), found)
        while len(self._remembered) > MOST_REMEMBERED:
            self._remembered.popitem(last=False)
        return found

    def _find_token(self, token: str) -> tuple[Principal | None, float]:
        """Who it is, and until when that holds, unix seconds."""
        row = self._state.row(_BEARER, digest(token))
        if row is None:
            waiting = self._state.row(_WAITS, digest(token))
            return Principal(waiting[0], WAITING) if waiting else None, math.inf
        number, name, role, host, relay, scope, expires_at = row
        if expires_at is not None and expires_at < time.time():
            return None, math.inf
        self._used[number] = time.time()
        found = _principal(number, name, role, host, relay, json.loads(scope) if scope else None)
        return found, expires_at or math.inf

    def _find_cookie(self, value: str) -> tuple[Principal | None, float]:
        return self._state.read(lambda session: _of_cookie(session, value))

    def write_used(self) -> None:
        """Keeps when tokens were used. Where an agent or a relay uses its new token, the one before ends."""
        used, self._used = self._used, {}
        if not used:
            return

        def write(session: Session) -> bool:
            set_columns(session, [Token.used_at], list(used.items()))
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

        try:
            ended = self._state.write(write)
        except Exception:
            self._used = {**used, **self._used}
            raise
        if ended:
            self.forget_remembered()

    def has_users(self) -> bool:
        """Whether anybody can sign in."""
        return self._state.read(lambda s: s.scalar(select(User.id).limit(1))) is not None

    def forget_host(self, host: int) -> None:
        """The tokens of a host have changed: those remembered are looked up anew."""
        self._forgotten += 1
        for token, (_, found) in list(self._remembered.items()):
            if found is not None and found.host == host:
                self._remembered.pop(token, None)

    def forget_remembered(self) -> None:
        """Tokens may have ended: all are looked up anew."""
        self._forgotten += 1
        self._remembered.clear()

    def _forget_cookies(self) -> None:
        """Somebody signed out, or is gone."""
        self._forgotten += 1
        for key in [key for key in list(self._remembered) if key[0] == "cookie"]:
            self._remembered.pop(key, None)


def _of_cookie(session: Session, value: str) -> tuple[Principal | None, float]:
    row = session.get(SessionCookie, digest(value))
    if row is None or row.expires_at < time.time():
        return None, math.inf
    user = session.get(User, row.user)
    return (Principal(user.name, user.role, by_cookie=True), row.expires_at) if user else (None, math.inf)
