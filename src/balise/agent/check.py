"""`balise agent check`: what works between this host and its console, and what does not, in plain words."""

from __future__ import annotations

import os
import shutil
import socket
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from email.utils import parsedate_to_datetime
from pathlib import Path
from typing import Any, Literal
from urllib.parse import urlsplit

import httpx

from balise.agent.identity import AgentError, AgentSettings, Identity, load_identity, load_settings
from balise.api.agents import AgentSelf, KeyAnswer, KeyCheck
from balise.api.parts import EffectivePlan
from balise.api.secrets import REVEALED, Secret
from balise.client.trust import Trust, fingerprint_of, held_trust
from balise.collect.facts import read_facts
from balise.collect.follow import Follower
from balise.collect.here import system_collectors

CLOCK_OFF = 5.0
SPOOL_LEFT = 64 << 20
Verdict = Literal["ok", "warning", "critical"]


@dataclass(frozen=True)
class Finding:
    """One thing looked at: how it is, and what to do when it is not well."""

    what: str
    verdict: Verdict
    detail: str


class Check:
    """Looks at everything in order; what cannot be known because something before it failed is left out."""

    def __init__(self, folder: Path, *, console: str | None, key: str | None, trust: Trust, name: str | None) -> None:
        self._folder = folder
        self._key = key
        self._trust = trust
        self._name = name
        self._identity: Identity | None = None
        self._settings = AgentSettings()
        self._trouble: str | None = None
        try:
            self._identity = load_identity(folder)
            self._settings = load_settings(folder)
        except AgentError as error:
            self._trouble = str(error)
        self.console = (console or (self._identity.console if self._identity else "")).rstrip("/")

    def run(self) -> Iterator[Finding]:
        """All findings, as they come."""
        if not self.console:
            yield Finding("console", "critical", f"which console? {self._trouble}; or name one with --console")
            return
        reached = True
        for finding in (self._resolution, self._reachability, self._certificate):
            found = finding() if reached else None
            if found is not None:
                reached = found.verdict != "critical"
                yield found
        if reached:
            yield from self._service()
        yield from self._here()

    # --- the way there

    def _place(self) -> tuple[str, int]:
        parts = urlsplit(self.console)
        return parts.hostname or "", parts.port or (443 if parts.scheme == "https" else 80)

    def _resolution(self) -> Finding:
        host, port = self._place()
        try:
            found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
        except (OSError, UnicodeError) as error:
            return Finding("name", "critical", f"{host!r} has no address ({error}): is it spelt right, is DNS set up?")
        addresses = sorted({str(f[4][0]) for f in found})
        return Finding("name", "ok", f"{host} is {', '.join(addresses)}")

    def _reachability(self) -> Finding:
        host, port = self._place()
        began = time.monotonic()
        try:
            socket.create_connection((host, port), 5).close()
        except TimeoutError:
            return Finding(
                "reach", "critical", f"{host} port {port} does not answer: a firewall drops it, or it is down"
            )
        except ConnectionRefusedError:
            return Finding(
                "reach", "critical", f"{host} is there, but nothing listens on port {port}: is that the port?"
            )
        except OSError as error:
            return Finding("reach", "critical", f"{host} port {port}: {error.strerror}")
        return Finding("reach", "ok", f"port {port} answers in {(time.monotonic() - began) * 1000:.0f} ms")

    def _verify(self) -> Any:
        if not self.console.startswith("https:"):
            return False
        held = held_trust(self._folder)
        return (self._trust if self._trust.file else held).context()

    def _certificate(self) -> Finding:
        if not self.console.startswith("https:"):
            host, _ = self._place()
            near = host in ("localhost", "::1") or host.startswith("127.")
            detail = "plain HTTP: what is sent can be read and changed on the way; use an https:// console"
            return Finding("trust", "ok" if near else "warning", "plain HTTP on this machine alone" if near else detail)
        if self._trust.fingerprint and not self._trust.file:
            return self._by_fingerprint()
        try:
            httpx.get(f"{self.console}/api/v1/status", verify=self._verify(), timeout=10)
        except httpx.ConnectError as error:
            return Finding(
                "trust",
                "critical",
                f"the certificate is not trusted ({error}): enrol with the --fingerprint that the console's command "
                "has, or with --ca FILE",
            )
        except httpx.HTTPError:
            pass
        pinned = " and is the pinned one" if held_trust(self._folder).file else ""
        return Finding("trust", "ok", f"the console's certificate is good{pinned}")

    def _by_fingerprint(self) -> Finding:
        try:
            # Only looked at, never believed: the fingerprint decides.
            pem = httpx.get(f"{self.console}/api/v1/certificate", verify=False, timeout=10).text  # noqa: S501
            found = fingerprint_of(pem)
        except (httpx.HTTPError, ValueError) as error:
            return Finding("trust", "critical", f"the console shows no certificate: {error}")
        if found != self._trust.fingerprint.lower():
            return Finding("trust", "critical", f"the console shows {found}: it is not the one of this fingerprint")
        return Finding("trust", "ok", "the console's certificate has the given fingerprint")

    # --- the console

    def _service(self) -> Iterator[Finding]:
        verify = False if self._trust.fingerprint and not held_trust(self._folder).file else self._verify()
        with httpx.Client(base_url=self.console, timeout=10, verify=verify) as http:
            try:
                answer = http.get("/api/v1/status")
                status = answer.json()
            except (httpx.HTTPError, ValueError) as error:
                yield Finding("console", "critical", f"something answers, but is no Balise console: {str(error)[:100]}")
                return
            if not isinstance(status, dict) or status.get("service") != "balise":
                yield Finding("console", "critical", "something answers there, but it is no Balise console")
                return
            yield Finding("console", "ok", f"Balise {status.get('version')} is {status.get('state')}")
            yield self._clock(answer)
            if self._key:
                yield self._ask_key(http, self._key)
            yield from self._ask_self(http)

    @staticmethod
    def _clock(answer: httpx.Response) -> Finding:
        try:
            theirs = parsedate_to_datetime(answer.headers["date"]).timestamp()
        except (KeyError, ValueError):
            return Finding("clock", "warning", "the console does not say what time it is")
        off = time.time() - theirs
        if abs(off) > CLOCK_OFF:
            way = "ahead of" if off > 0 else "behind"
            return Finding(
                "clock",
                "warning",
                f"this clock is {abs(off):.0f} s {way} the console's: values get wrong times; set up NTP",
            )
        return Finding("clock", "ok", "agrees with the console's within a few seconds")

    def _ask_key(self, http: httpx.Client, key: str) -> Finding:
        body = KeyCheck(key=Secret(key), facts=read_facts(self._name)).model_dump_json(context=REVEALED)
        try:
            answer = http.post("/api/v1/agents/check", content=body, headers={"Content-Type": "application/json"})
            found = KeyAnswer.model_validate_json(answer.content)
        except (httpx.HTTPError, ValueError) as error:
            return Finding("key", "critical", f"the console cannot say whether the key is good: {str(error)[:150]}")
        return Finding("key", "ok" if found.good else "critical", found.detail)

    def _ask_self(self, http: httpx.Client) -> Iterator[Finding]:
        if self._identity is None:
            if not self._key:
                yield Finding("identity", "warning", "this host is not enrolled yet")
            return
        headers = {"Authorization": f"Bearer {self._identity.token}"}
        try:
            answer = http.get("/api/v1/agents/self", headers=headers)
        except httpx.HTTPError as error:
            yield Finding("identity", "critical", str(error))
            return
        if answer.status_code != 200:
            yield Finding(
                "identity",
                "critical",
                "the console does not know this agent any more (revoked or retired): enrol it again",
            )
            return
        own = AgentSelf.model_validate_json(answer.content)
        if own.state == "waiting":
            yield Finding(
                "identity", "warning", "this machine waits to be let in: somebody has to approve it in the console"
            )
            return
        yield Finding("identity", "ok", f"enrolled as {own.host}")
        plan = http.get("/api/v1/agents/plan", headers=headers)
        if plan.status_code == 200:
            yield from self._plan(EffectivePlan.model_validate_json(plan.content))

    def _plan(self, plan: EffectivePlan) -> Iterator[Finding]:
        yield Finding("plan", "ok", f"collect every {plan.every:g} s, follow {len(plan.follow)} files")
        yield from self._files([f.path for f in plan.follow])

    # --- this host

    def _files(self, paths: list[str]) -> Iterator[Finding]:
        for path in paths:
            follower = Follower(path)
            list(follower.read(time.time()))
            status = follower.status()
            good = status.status in ("following", "empty")
            yield Finding(f"file {path}", "ok" if good else "warning", status.detail)

    def _here(self) -> Iterator[Finding]:
        for collector in system_collectors():
            yield _reads(collector.name, lambda c=collector: len(list(c.read(time.time()))))  # type: ignore[misc]
        yield from self._files([f.path for f in self._settings.follow])
        folder = self._folder if self._folder.exists() else self._folder.parent
        while not folder.exists():
            folder = folder.parent
        if not os.access(folder, os.W_OK):
            yield Finding("spool", "critical", f"{folder} cannot be written to by this user: what waits has no place")
            return
        free = shutil.disk_usage(folder).free
        verdict: Verdict = "ok" if free > self._settings.spool_bytes + SPOOL_LEFT else "warning"
        yield Finding(
            "spool", verdict, f"{free >> 20} MiB are free, at most {self._settings.spool_bytes >> 20} are used"
        )


def _reads(name: str, read: Callable[[], int]) -> Finding:
    try:
        return Finding(f"reads {name}", "ok", f"{read()} values")
    except Exception as error:  # noqa: BLE001  whatever a system says, the others are looked at too
        return Finding(f"reads {name}", "warning", f"{type(error).__name__}: {error}")
