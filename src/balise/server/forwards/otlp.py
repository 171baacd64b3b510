"""Sending events on over OTLP/HTTP, protobuf (opentelemetry-proto, collector logs service)."""

from __future__ import annotations

import gzip
from collections import defaultdict
from collections.abc import Callable, Sequence
from typing import Any

import httpx

from balise.api.credentials import LoginCredential
from balise.api.events import SEVERITIES, Event
from balise.api.forwards import OtlpDestination
from balise.api.spans import instant
from balise.collect.otlp import LOGS_CONTENT, logs_of_hosts
from balise.collect.readings import LogLine
from balise.server.forwards.destination import TIME_LIMIT, Undelivered

AGAIN = (408, 429, 500, 502, 503, 504)
"""Answers after which a request is sent again: the OTLP specification's, and those of what stands between."""


class ToOtlp:
    """Posts events. `secret` gives a credential by its name, for one use."""

    def __init__(self, to: OtlpDestination, secret: Callable[[str], Any]) -> None:
        self._to = to
        self._secret = secret
        self._http = httpx.Client(timeout=TIME_LIMIT, follow_redirects=False)

    def send(self, events: Sequence[Event]) -> int:
        by_host: dict[str, list[LogLine]] = defaultdict(list)
        for event in events:
            by_host[event.host].append(
                LogLine(
                    instant(event.time, 0.0),
                    event.body,
                    event.severity if event.severity in SEVERITIES else "informational",
                    event.source,
                    {name: str(value) for name, value in event.attributes.items()},
                )
            )
        headers = {"Content-Type": LOGS_CONTENT, "Content-Encoding": "gzip"}
        try:
            answer = self._http.post(
                self._to.url, content=gzip.compress(logs_of_hosts(by_host), 6), headers=headers, auth=self._auth()
            )
        except httpx.HTTPError as error:
            raise Undelivered(f"{self._to.url} cannot be reached: {error}") from None
        if answer.status_code in AGAIN or answer.status_code in (401, 403) or answer.is_redirect:
            raise Undelivered(f"{self._to.url} answered {answer.status_code}")
        return 0 if answer.is_success else len(events)

    def _auth(self) -> httpx.Auth:
        if self._to.credential is None:
            return httpx.Auth()
        held = self._secret(self._to.credential)
        if not isinstance(held, LoginCredential):
            raise Undelivered(f"the credential {self._to.credential!r} is no name and password")
        return httpx.BasicAuth(held.user, held.password.reveal())

    def close(self) -> None:
        self._http.close()
