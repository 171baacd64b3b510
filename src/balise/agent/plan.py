"""The agent's plan: fetched when it changes, kept on disk; and its token, renewed now and then."""

from __future__ import annotations

import contextlib
import logging
import random
import ssl
import time
from collections import deque
from dataclasses import replace
from pathlib import Path

import httpx

from balise.agent.deliver import Deliverer
from balise.agent.identity import Identity, save_identity
from balise.api.parts import EffectivePlan
from balise.api.sources import PathAnswer, PathAsk
from balise.collect.paths import tried
from balise.collect.work import Pause
from balise.durable import write_durably

log = logging.getLogger(__name__)
WAIT = 50
"""Seconds for which the console may hold the question for a plan, until there is another."""
PAUSE = (10.0, 40.0)
"""Seconds between tries while the console is away, at random, so that a fleet does not come back all at once."""
ROTATE_AFTER = 7 * 86_400.0
DEFAULT = EffectivePlan(every=15.0)


class PlanKeeper:
    """Asks for the plan again and again; `plan` is the one that holds, from disk while the console is away."""

    def __init__(
        self, folder: Path, identity: Identity, deliverer: Deliverer, *, verify: ssl.SSLContext | bool = True
    ) -> None:
        self._folder = folder
        self._path = folder / "plan.json"
        self._identity = identity
        self._deliverer = deliverer
        self._http = httpx.Client(base_url=identity.console, timeout=WAIT + 20.0, verify=verify)
        self._answered: deque[int] = deque(maxlen=50)
        self.plan = DEFAULT
        with contextlib.suppress(OSError, ValueError):
            self.plan = EffectivePlan.model_validate_json(self._path.read_text("utf-8"))

    def turn(self) -> Pause:
        """Keeps the plan and the token fresh: asks once, and says when to ask again."""
        return Pause(0.0 if self.step() else random.uniform(*PAUSE))  # noqa: S311  spread, not a secret

    def step(self, wait: int = WAIT) -> bool:
        """Asks once; answers whether the console could be asked."""
        try:
            self._rotate_when_due()
            answer = self._http.get(
                "/api/v1/agents/plan",
                params={"wait": wait},
                headers={"If-None-Match": f'"{self.plan.etag}"', **self._authorization()},
            )
        except (httpx.HTTPError, RuntimeError):
            return False
        if answer.status_code == 304:
            return True
        if answer.status_code != 200:
            return False
        try:
            plan = EffectivePlan.model_validate_json(answer.content)
        except ValueError as error:
            log.warning("the plan cannot be read: %s", error)
            return False
        for ask in plan.asks:
            self._answer(ask)
        plan = plan.model_copy(update={"asks": []})
        if plan != self.plan:
            self.plan = plan
            log.info("a new plan: every=%gs files=%d", plan.every, len(plan.follow))
            with contextlib.suppress(OSError):
                # Credentials stay in memory: what is on disk has none.
                plain = [service.model_copy(update={"credential": None}) for service in plan.services]
                kept = plan.model_copy(update={"services": plain, "etag": ""})
                write_durably(self._path, kept.model_dump_json().encode())
        return True

    def _answer(self, ask: PathAsk) -> None:
        """Looks at a path for the console, once."""
        if ask.id in self._answered:
            return
        self._answered.append(ask.id)
        answer = PathAnswer(id=ask.id, tried=tried(ask.path))
        # Who asked is told within seconds or not at all: there is no second try.
        with contextlib.suppress(httpx.HTTPError):
            self._http.post("/api/v1/agents/paths", content=answer.model_dump_json(), headers=self._as_json())

    def _as_json(self) -> dict[str, str]:
        return {"Content-Type": "application/json", **self._authorization()}

    def _authorization(self) -> dict[str, str]:
        return {"Authorization": f"Bearer {self._identity.token}"}

    def _rotate_when_due(self) -> None:
        """Takes a new token for one that is old. The old one is good until the new one is used, so none is lost."""
        if time.time() - self._identity.token_at < ROTATE_AFTER:
            return
        answer = self._http.post("/api/v1/agents/token", headers=self._authorization())
        if answer.status_code != 200:
            return
        identity = replace(self._identity, token=str(answer.json()["token"]), token_at=time.time())
        try:
            save_identity(self._folder, identity)
        except OSError as error:
            log.warning("the new token cannot be kept, the old one stays: %s", error)
            return
        self._identity = identity
        self._deliverer.use_token(identity.token)
        log.info("the token was renewed")

    def close(self) -> None:
        self._http.close()
