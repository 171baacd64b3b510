"""Changing a credential that is in use: it is tried first wherever it is used."""

from __future__ import annotations

import asyncio

from balise.api.credentials import Credential, CredentialBody
from balise.api.remote import RemoteTarget
from balise.collect.remote.trial import Trial
from balise.server.errors import Refused
from balise.server.keeping.settings import SettingsBook
from balise.server.remote.book import RemoteBook
from balise.server.remote.credentials import CredentialBook
from balise.server.remote.thread import RemoteThread
from balise.server.remote.work import RemoteWork
from balise.server.services.reach import Reach
from balise.server.services.targets import ServiceTargets

ROTATION_SECONDS = 120.0


class Rotation:
    """Keeps a credential, new or changed."""

    def __init__(
        self,
        *,
        credentials: CredentialBook,
        remote: RemoteBook,
        services: ServiceTargets,
        reach: Reach,
        thread: RemoteThread,
        work: RemoteWork,
        settings: SettingsBook,
    ) -> None:
        self._credentials = credentials
        self._remote = remote
        self._services = services
        self._reach = reach
        self._thread = thread
        self._work = work
        self._settings = settings

    def put(self, name: str, body: CredentialBody, who: str, *, anyway: bool) -> Credential:
        """Keeps it when it works, or `anyway`; from then on it is used.

        Raises:
            Refused: 409 naming the hosts where it does not work.
        """
        if not anyway:
            self._check(name, body)
        kept = self._credentials.put(name, body, who)
        self._work.refresh()
        return kept

    def _check(self, name: str, body: CredentialBody) -> None:
        targets = [t.model_copy(update={"credential": body}) for t in self._remote.users_of(name)]
        services = self._services.users_of(name)
        results = self._thread.submit(self._try_all(targets)).result(ROTATION_SECONDS) if targets else []
        bad = [(t.host, r.message) for t, r in zip(targets, results, strict=True) if r.result != "added"]
        for called, target in services:
            if target.service is not None:
                read = self._reach.attempt(target.service.kit, target.service.target, body)
                if read.nothing:
                    bad.append((called, read.nothing))
        if bad:
            raise Refused(
                409,
                f"It does not work on {len(bad)} of the {len(targets) + len(services)} that use {name!r}, "
                "and is not kept: " + "; ".join(f"{host}: {message}" for host, message in bad[:5]),
            )

    async def _try_all(self, targets: list[RemoteTarget]) -> list[Trial]:
        gate = asyncio.Semaphore(self._settings.collection().side_by_side)

        async def one(target: RemoteTarget) -> Trial:
            async with gate:
                return await self._work.attempt(target)

        return await asyncio.gather(*(one(target) for target in targets))
