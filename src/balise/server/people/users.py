"""People who may sign in."""

from __future__ import annotations

import time

from sqlalchemy import select
from sqlalchemy.orm import Session

from balise.api.access import PersonRole, User
from balise.api.spans import rfc3339
from balise.server.errors import Refused, unknown
from balise.server.people.access import Access, audit
from balise.server.people.tries import Passwords
from balise.store.state import tables
from balise.store.state.store import StateStore


class UserBook:
    """All users."""

    def __init__(self, *, state: StateStore, access: Access, passwords: Passwords) -> None:
        self._state = state
        self._access = access
        self._passwords = passwords
        self._first_pages: dict[str, str] = {}

    def all(self) -> list[User]:
        rows = self._state.read(lambda s: list(s.scalars(select(tables.User).order_by(tables.User.name))))
        return [_answer(row) for row in rows]

    def add(self, name: str, role: PersonRole, password: str, *, by: str) -> User:
        """Raises Refused 409 when there is a user of that name."""
        hashed = self._passwords.hash(password)

        def write(session: Session) -> tables.User:
            if session.scalar(select(tables.User).where(tables.User.name == name)):
                raise Refused(409, f"There is already a user {name!r}.")
            user = tables.User(name=name, role=role, password=hashed, created_at=time.time())
            session.add(user)
            session.flush()
            audit(session, by, "user.add", name, role=role)
            return user

        return _answer(self._state.write(write))

    def first_page(self, name: str) -> str:
        """Where the console begins for somebody; empty for Now."""
        found = self._state.read(lambda s: s.scalar(select(tables.User.first_page).where(tables.User.name == name)))
        return self._first_pages.setdefault(name, found or "")

    def known_first_page(self, name: str) -> str | None:
        """`first_page`, if that was read before."""
        return self._first_pages.get(name)

    def choose_first_page(self, name: str, page: str) -> None:
        def write(session: Session) -> None:
            row = session.scalar(select(tables.User).where(tables.User.name == name))
            if row is None:
                raise unknown("user", name)
            row.first_page = page

        self._state.write(write)
        self._first_pages[name] = page

    def remove(self, name: str, by: str) -> None:
        """Takes somebody away, who is signed out everywhere."""
        if name == by:
            raise Refused(409, "You cannot remove yourself: let another administrator do it.")

        def write(session: Session) -> None:
            row = session.scalar(select(tables.User).where(tables.User.name == name))
            if row is None:
                raise unknown("user", name)
            session.delete(row)
            audit(session, by, "user.remove", name)

        self._state.write(write)
        self._first_pages.pop(name, None)
        self._access.ended.tell(None)


def _answer(row: tables.User) -> User:
    return User(
        name=row.name,
        role=row.role,  # type: ignore[arg-type]
        created_at=rfc3339(row.created_at),
        signed_in_at=rfc3339(row.signed_in_at) if row.signed_in_at else None,
    )
