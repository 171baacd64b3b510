"""Sign-ins."""

from __future__ import annotations

from balise.api.sign_ins import SignInAnswer
from balise.client.noun import Noun


class SignIns(Noun):
    """Who tried to get in, and who did."""

    def list(
        self,
        from_: str = "-24h",
        to: str = "now",
        *,
        by: str = "address",
        sweep: int = 5,
        where: str | None = None,
        filter: str | None = None,
        limit: int = 200,
    ) -> SignInAnswer:
        """Tries by account, by address or by both (`pair`); what should be looked at first comes first.

        >>> balise.sign_ins.list(by="account").items
        []
        """
        asked = {"from_": from_, "to": to, "by": by, "sweep": sweep, "where": where, "filter": filter, "limit": limit}
        return self._connection.get(SignInAnswer, "/sign-ins", **asked)
