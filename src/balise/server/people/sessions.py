"""Signing in and out."""

from __future__ import annotations

import secrets
import time

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from balise.server.errors import Refused
from balise.server.people.access import Access, Principal, audit
from balise.server.people.tries import Passwords, Tries
from balise.store.state.secrets import digest
from balise.store.state.store import StateStore
from balise.store.state.tables import SessionCookie, User

SESSION_SECONDS = 12 * 3600
MOST_PLACES = 10


class Sessions:
    """The sessions of people at the web console."""

    def __init__(self, *, state: StateStore, access: Access, passwords: Passwords) -> None:
        self._state = state
        self._access = access
        self._passwords = passwords
        self._tries = Tries()

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
        """Ends a session, and whatever is open with it."""
        self._state.write(lambda s: s.execute(delete(SessionCookie).where(SessionCookie.digest == digest(value))))
        self._access.ended.tell(None)
