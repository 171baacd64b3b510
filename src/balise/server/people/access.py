"""Who is asking, and what they may do."""

from __future__ import annotations

import json
import math
import time
from collections import OrderedDict
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Any, Literal

from sqlalchemy import delete, func, select
from sqlalchemy.orm import Session

from balise.api.access import Role, Scope
from balise.server.signals import Signal
from balise.store.database import in_pieces
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


_BEARERS = "SELECT digest, id, name, role, host, relay, scope, expires_at FROM token WHERE digest IN"
"""Each delivery of a fleet's comes with a token of its own."""
_WAITING = "SELECT digest, name FROM candidate WHERE digest IN"


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
        return self.bearers([token])[0]

    def bearers(self, tokens: Sequence[str]) -> list[Principal | None]:
        """Who bearer tokens belong to; those that are not remembered are looked up together."""
        found: dict[str, Principal | None] = {}
        for token in tokens:
            held = self._held("token", token)
            if held is not None:
                found[token] = held[0]
        unknown = [token for token in dict.fromkeys(tokens) if token not in found]
        for some in in_pieces(unknown):
            forgotten = self._forgotten
            for token, (principal, until) in self._find_tokens(some).items():
                found[token] = principal
                self._remember(("token", token), principal, until, REMEMBERED_SECONDS, forgotten)
        return [found[token] for token in tokens]

    def cookie(self, value: str) -> Principal | None:
        """Who a session cookie belongs to."""
        held = self._held("cookie", value)
        if held is not None:
            return held[0]
        forgotten = self._forgotten
        found, until = self._state.read(lambda session: _of_cookie(session, value))
        self._remember(("cookie", value), found, until, COOKIE_SECONDS, forgotten)
        return found

    def remembered(self, token: str) -> tuple[Principal | None] | None:
        """Who a bearer token belongs to, if that was looked up lately; else None."""
        return self._held("token", token)

    def remembered_cookie(self, value: str) -> tuple[Principal | None] | None:
        """`remembered` of a session cookie."""
        return self._held("cookie", value)

    def _held(self, *key: *_Key) -> tuple[Principal | None] | None:
        held = self._remembered.get(key)
        return (held[1],) if held is not None and time.monotonic() < held[0] else None

    def _remember(self, key: _Key, found: Principal | None, until: float, longest: float, forgotten: int) -> None:
        """Remembers what was found, which holds until a moment, unix seconds; `forgotten` is how often something had
        been forgotten before it was looked for."""
        if forgotten != self._forgotten:
            # Something has ended meanwhile, which may be this.
            return
        lasts = min(longest if found else UNKNOWN_SECONDS, until - time.time())
        self._remembered[key] = (time.monotonic() + lasts, found)
        while len(self._remembered) > MOST_REMEMBERED:
            self._remembered.popitem(last=False)

    def _find_tokens(self, tokens: Sequence[str]) -> dict[str, tuple[Principal | None, float]]:
        """Who each is, and until when that holds, unix seconds."""
        by_digest = {digest(token): token for token in tokens}
        found: dict[str, tuple[Principal | None, float]] = dict.fromkeys(tokens, (None, math.inf))
        now = time.time()
        for told, number, name, role, host, relay, scope, expires_at in self._rows_of(_BEARERS, by_digest):
            if expires_at is not None and expires_at < now:
                continue
            self._used[number] = now
            who = _principal(number, name, role, host, relay, json.loads(scope) if scope else None)
            found[by_digest[told]] = who, expires_at or math.inf
        left = [told for told, token in by_digest.items() if found[token][0] is None]
        for told, name in self._rows_of(_WAITING, left):
            found[by_digest[told]] = Principal(name, WAITING), math.inf
        return found

    def _rows_of(self, sql: str, digests: Collection[str]) -> list[tuple[Any, ...]]:
        return self._state.rows(f"{sql} ({', '.join('?' * len(digests))})", [*digests]) if digests else []

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
