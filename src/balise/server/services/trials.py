"""Trying a kit on a target: what could be read goes nowhere but into the answer."""

from __future__ import annotations

from balise.api.kits import KitTrial, Tried
from balise.api.spans import seconds
from balise.collect.kits.reader import LOCAL, tried
from balise.core.kits.documents import TargetError, whole_target
from balise.server.errors import bad_field
from balise.server.people.access import Principal
from balise.server.remote.credentials import CredentialBook
from balise.server.services.kits import KitBook
from balise.server.services.reach import Reach


class KitTrials:
    """Reads targets once, from the console."""

    def __init__(self, *, kits: KitBook, credentials: CredentialBook, reach: Reach) -> None:
        self._kits = kits
        self._credentials = credentials
        self._reach = reach

    def run(self, name: str, body: KitTrial, who: Principal) -> Tried:
        """Raises Refused 404 for a kit that is not there, 403 and 422 for what may not be tried."""
        kit = self._kits.chosen(name)
        if body.credential is not None:
            self._credentials.usable(body.credential, who, None)
        if body.target.get("socket") and who.role != "administrator":
            raise bad_field("target.socket", "only an administrator may have a socket of this machine asked")
        try:
            target = whole_target(kit, body.target, here=True)
        except TargetError as error:
            raise bad_field(error.field, error.detail) from None
        limit = seconds(body.time_limit)
        if not 0.5 <= limit <= 60:
            raise bad_field("time_limit", "between 1s and 60s")
        if kit.by in LOCAL:
            raise bad_field("kit", f"{name} looks at the host itself: try it there (balise kit try {name} --here)")
        secret = self._reach.secret(body.credential)
        return tried(kit, target, self._reach.attempt(kit, target, secret, limit))
