"""Sending on over OTLP/HTTP, protobuf (opentelemetry-proto, collector logs and metrics services)."""

from __future__ import annotations

import gzip
from collections import defaultdict
from collections.abc import Callable, Sequence
from typing import Any, Generic, NamedTuple, TypeVar

import httpx
from google.protobuf.message import DecodeError
from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceResponse
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceResponse

from balise.api.credentials import LoginCredential
from balise.api.events import SEVERITIES, Event
from balise.api.forwards import OtlpDestination
from balise.api.spans import instant
from balise.collect.otlp import LOGS_CONTENT, logs_of_hosts
from balise.collect.readings import LogLine
from balise.server.forwards.destination import TIME_LIMIT, Undelivered
from balise.server.forwards.otlp_points import metrics_of_hosts
from balise.server.forwards.points import Point

AGAIN = (408, 429, 500, 502, 503, 504)
"""Answers after which a request is sent again: the OTLP specification's, and those of what stands between."""
MOST_ANSWER = 64 << 10
T = TypeVar("T")


class Speech(NamedTuple, Generic[T]):
    """How things are said: as what request, and how many of them an answer says are refused."""

    request_of: Callable[[Sequence[T]], bytes]
    refused_in: Callable[[bytes], int]


def _lines_request(events: Sequence[Event]) -> bytes:
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
    return logs_of_hosts(by_host)


def _lines_refused(answer: bytes) -> int:
    return ExportLogsServiceResponse.FromString(answer).partial_success.rejected_log_records


def _points_refused(answer: bytes) -> int:
    return ExportMetricsServiceResponse.FromString(answer).partial_success.rejected_data_points


LINES = Speech[Event](_lines_request, _lines_refused)
POINTS = Speech[Point](metrics_of_hosts, _points_refused)


class ToOtlp(Generic[T]):
    """Posts things. `secret` gives a credential by its name, for one use."""

    def __init__(self, to: OtlpDestination, speech: Speech[T], secret: Callable[[str], Any]) -> None:
        self._to = to
        self._speech = speech
        self._secret = secret
        self._http = httpx.Client(timeout=TIME_LIMIT, follow_redirects=False)

    def send(self, items: Sequence[T]) -> int:
        headers = {"Content-Type": LOGS_CONTENT, "Content-Encoding": "gzip"}
        content = gzip.compress(self._speech.request_of(items), 6)
        try:
            with self._http.stream("POST", self._to.url, content=content, headers=headers, auth=self._auth()) as answer:
                told = b"".join(_at_most(answer, MOST_ANSWER))
        except httpx.HTTPError as error:
            raise Undelivered(f"{self._to.url} cannot be reached: {error}") from None
        if answer.status_code in AGAIN or answer.status_code in (401, 403) or answer.is_redirect:
            raise Undelivered(f"{self._to.url} answered {answer.status_code}")
        return self._refused(told, len(items)) if answer.is_success else len(items)

    def _refused(self, told: bytes, sent: int) -> int:
        """How many of those that were sent an answer says are refused; one that says nothing, none."""
        try:
            return min(sent, max(0, self._speech.refused_in(told)))
        except DecodeError:
            return 0

    def _auth(self) -> httpx.Auth:
        if self._to.credential is None:
            return httpx.Auth()
        held = self._secret(self._to.credential)
        if not isinstance(held, LoginCredential):
            raise Undelivered(f"the credential {self._to.credential!r} is no name and password")
        return httpx.BasicAuth(held.user, held.password.reveal())

    def close(self) -> None:
        self._http.close()


def _at_most(answer: httpx.Response, most: int) -> list[bytes]:
    """What an answer says, as far as it is read."""
    found: list[bytes] = []
    for part in answer.iter_bytes():
        found.append(part[:most])
        most -= len(found[-1])
        if most <= 0:
            break
    return found
