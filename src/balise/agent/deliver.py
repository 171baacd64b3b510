"""Delivering what is in the spool: in order, at least once, patiently."""

from __future__ import annotations

import gzip
import logging
import random
import ssl
import time

import httpx

from balise.agent.identity import Identity
from balise.agent.spool import Parcel, Spool
from balise.api.hosts import Facts
from balise.api.sent import SENT_HEADER
from balise.collect.work import Pause

log = logging.getLogger(__name__)
FIRST_WAIT = 1.0
LONGEST_WAIT = 60.0
CATCH_UP_PAUSE = 0.05
"""Seconds between parcels while catching up, so that neither host nor console feels it."""
TIME_LIMIT = 20.0


class Deliverer:
    """Takes parcels from the spool and posts them. `problem` is what stands in the way, in words."""

    def __init__(
        self,
        identity: Identity,
        spool: Spool,
        *,
        rng: random.Random | None = None,
        verify: ssl.SSLContext | bool = True,
    ) -> None:
        self._identity = identity
        self._spool = spool
        self._random = rng or random.Random()  # noqa: S311  jitter, not a secret
        self._failures = 0
        self._http = httpx.Client(
            base_url=identity.console,
            timeout=TIME_LIMIT,
            headers={"Authorization": f"Bearer {identity.token}", "Content-Encoding": "gzip"},
            verify=verify,
        )
        self.problem: str | None = None
        self.delivered = 0
        self.refused = 0
        self.unreadable = 0

    def turn(self) -> Pause:
        """Waits a moment for something to deliver, and tries it."""
        return Pause(self.step() if self._spool.filled.wait(0.5) else 0.0)

    def step(self) -> float:
        """Tries the oldest parcel; answers how many seconds to wait before the next try."""
        parcel = self._spool.oldest()
        if parcel is None:
            return 0.0
        try:
            content = parcel.content()
        except OSError as error:
            log.error("parcel=%s cannot be read and is left out: %s", parcel.name, error.strerror)
            self.unreadable += 1
            self._spool.done(parcel)
            return 0.0
        problem, drop = self._post(parcel, content)
        if problem is None or drop:
            self._spool.done(parcel)
        if problem is None:
            if self.problem:
                log.info("the console answers again; %d parcels wait", len(self._spool))
            self.problem, self._failures = None, 0
            self.delivered += 1
            return CATCH_UP_PAUSE if len(self._spool) > 4 else 0.0
        if self.problem != problem:
            log.warning("not delivered: %s", problem)
        self.problem = problem
        if drop:
            self.refused += 1
            return 0.0
        self._failures += 1
        return self.wait_after(self._failures)

    def _post(self, parcel: Parcel, content: bytes) -> tuple[str | None, bool]:
        """What went wrong, if anything, and whether trying again is of no use."""
        headers = {
            "Content-Type": "application/x-protobuf",
            "X-Balise-Delivery": parcel.name,
            SENT_HEADER: f"{time.time():.3f}",
        }
        try:
            answer = self._http.post(f"/v1/{parcel.kind}", content=gzip.compress(content, 6, mtime=0), headers=headers)
        except httpx.HTTPError as error:
            return f"the console at {self._identity.console} cannot be reached: {error}", False
        if answer.status_code == 200:
            return None, False
        if answer.status_code == 403 and b"waits to be let in" in answer.content:
            return "this machine waits to be let in: somebody has to approve it in the console", False
        if answer.status_code in (401, 403):
            return f"the console does not accept this agent ({answer.status_code}): enrol it again", False
        if answer.status_code in (400, 413, 415):
            return f"the console cannot read a parcel ({answer.status_code})", True
        return f"the console answered {answer.status_code}", False

    def use_token(self, token: str) -> None:
        """Delivers with another token from now on."""
        self._http.headers["Authorization"] = f"Bearer {token}"

    def wait_after(self, failures: int) -> float:
        """Seconds before the next try: twice as long each time, up to a minute, and never quite the same."""
        longest = min(LONGEST_WAIT, FIRST_WAIT * 2.0 ** min(failures - 1, 10))
        return longest * self._random.uniform(0.5, 1.0)

    def tell_facts(self, facts: Facts) -> None:
        """Tells the console what this host is; if it does not get through, the next start tries again."""
        body = '{"facts":' + facts.model_dump_json() + "}"
        try:
            self._http.put(
                "/api/v1/agents/facts",
                content=body,
                headers={"Content-Type": "application/json", "Content-Encoding": "identity"},
            )
        except httpx.HTTPError as error:
            log.info("facts not told: %s", error)

    def close(self) -> None:
        # What is left is on disk; one quick try brings a clean stop up to date.
        deadline = time.monotonic() + 2.0
        while len(self._spool) and time.monotonic() < deadline and not self.step():
            pass
        self._http.close()
