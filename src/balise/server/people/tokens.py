"""Tokens that people make, for scripts and senders."""

from __future__ import annotations

import time

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from balise.api.access import Role, Scope, Token
from balise.api.spans import rfc3339
from balise.server.asking import NamedFilters, read_filter
from balise.server.errors import unknown
from balise.server.people.access import Access, audit, principal_of
from balise.store.state import tables
from balise.store.state.secrets import digest, new_token
from balise.store.state.store import StateStore

MOST_SHOWN = 1000


def with_named_filter(scope: Scope | None, filters: NamedFilters) -> Scope | None:
    """A scope with its filter of a name written out. Raises Refused 422 when there is none of this name."""
    if scope is None or scope.filter is None:
        return scope
    return scope.model_copy(update={"hosts": filters.text(scope.hosts, scope.filter), "filter": None})


class TokenBook:
    """All tokens but those of agents and relays."""

    def __init__(self, *, state: StateStore, access: Access) -> None:
        self._state = state
        self._access = access

    def all(self) -> list[Token]:
        """The newest first."""
        query = (
            select(tables.Token)
            .where(tables.Token.host.is_(None), tables.Token.relay.is_(None))
            .order_by(tables.Token.id.desc())
            .limit(MOST_SHOWN)
        )
        return [_answer(row) for row in self._state.read(lambda s: list(s.scalars(query)))]

    def make(
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

        def add(session: Session) -> tables.Token:
            row = tables.Token(
                name=name, role=role, digest=digest(token), created_at=time.time(), expires_at=expires_at
            )
            row.scope = scope.model_dump() if scope else None
            session.add(row)
            session.flush()
            audit(session, by, "token.create", name, role=role, scope=row.scope)
            return row

        return _answer(self._state.write(add)), token

    def revoke(self, number: int, by: str) -> None:
        """The token is good for nothing from now on, and what is open with it ends."""

        def write(session: Session) -> None:
            row = session.get(tables.Token, number)
            if row is None or row.host is not None or row.relay is not None:
                raise unknown("token", number)
            session.execute(delete(tables.Token).where(tables.Token.id == number))
            audit(session, by, "token.revoke", row.name)

        self._state.write(write)
        self._access.forget_remembered()
        self._access.ended.tell(None)


def _answer(row: tables.Token) -> Token:
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
