"""People and programs that come in."""

from __future__ import annotations

from balise.api.access import (
    EnrolmentKey,
    MadeEnrolmentKey,
    MadeToken,
    NewEnrolmentKey,
    NewToken,
    NewUser,
    Token,
    User,
)
from balise.client.connection import quoted
from balise.client.noun import Items, Noun


class Users(Noun):
    """People who may sign in."""

    def list(self) -> Items[User]:
        """All users.

        >>> balise.users.list()
        []
        """
        return self._connection.items(User, "/users")

    def add(self, user: NewUser) -> User:
        """Somebody may sign in from now on.

        >>> balise.users.add(NewUser(name="ana", role="viewer", password=Secret("a long enough password"))).role
        'viewer'
        """
        return self._connection.send(User, "POST", "/users", user)

    def remove(self, name: str) -> str:
        """Takes somebody away, who is signed out everywhere.

        >>> balise.users.remove("ana")
        'user ana removed, and signed out everywhere'
        """
        return self._connection.note("DELETE", f"/users/{quoted(name)}")


class Tokens(Noun):
    """Tokens of programs."""

    def list(self) -> Items[Token]:
        """All tokens, the newest first.

        >>> [token.role for token in balise.tokens.list()][0]
        'ingest'
        """
        return self._connection.items(Token, "/tokens")

    def create(self, token: NewToken) -> MadeToken:
        """A token; its text is answered only now.

        >>> made = balise.tokens.create(NewToken(name="report", role="viewer"))
        >>> made.token[:8]
        'bal_tok_'
        """
        return self._connection.send(MadeToken, "POST", "/tokens", token)

    def revoke(self, number: int) -> str:
        """The token is good for nothing from now on.

        >>> balise.tokens.revoke(made.id)
        'the token is good for nothing from now on'
        """
        return self._connection.note("DELETE", f"/tokens/{number}")


class Keys(Noun):
    """Enrolment keys."""

    def list(self) -> Items[EnrolmentKey]:
        """All keys, and what they enrolled.

        >>> [key.label for key in balise.keys.list()]
        ['for a relay', 'by hand']
        """
        return self._connection.items(EnrolmentKey, "/enrolment-keys")

    def create(self, key: NewEnrolmentKey) -> MadeEnrolmentKey:
        """A key, with the command that uses it; its text is answered only now.

        >>> balise.keys.create(NewEnrolmentKey(label="north quay", uses=20)).uses_left
        20
        """
        return self._connection.send(MadeEnrolmentKey, "POST", "/enrolment-keys", key)

    def revoke(self, number: int, *, agents: bool = False) -> str:
        """The key enrols nothing more; with `agents`, what it enrolled may not deliver any more either.

        >>> balise.keys.revoke(1)
        'the key enrols nothing more; what it enrolled stays'
        """
        return self._connection.note("DELETE", f"/enrolment-keys/{number}", agents=agents or None)
