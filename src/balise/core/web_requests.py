"""Adding up the requests that access logs tell of."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from balise.api.processes import RequestOf

MOST_KEPT = 2000
MOST_CLIENTS = 10_000
LONGEST_TEXT = 300
_NUMBERS = re.compile(r"(?<=/)(?:\d+|[0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}|[0-9a-f]{16,})(?=/|$)", re.IGNORECASE)


@dataclass(frozen=True)
class RequestLine:
    """A line of an access log, with what its parser found in it. `at` in unix seconds; `event` is its number."""

    at: float
    event: str
    attributes: Mapping[str, Any]


@dataclass
class Requests:
    """Requests with something in common. Times in unix seconds, lengths in seconds; None where no line tells them."""

    of: str
    first: float
    last: float
    count: int = 0
    refused: int = 0
    failed: int = 0
    seconds: float | None = None
    longest: float | None = None
    slowest: str | None = None
    clients: set[str] = field(default_factory=set)


def path_of(text: str) -> str:
    """A path as all of its kind read: without what is asked behind it, and numbers as `{n}`.

    >>> path_of("/sailings/4711/seats?deck=2")
    '/sailings/{n}/seats'
    """
    return _NUMBERS.sub("{n}", text.partition("?")[0].partition("#")[0])[:LONGEST_TEXT]


def added_up(lines: Iterable[RequestLine], of: RequestOf) -> list[Requests]:
    """Requests by path, client, status or user agent: those that took the most time first, then the most frequent."""
    found: dict[str, Requests] = {}
    for line in lines:
        key = _key(line.attributes, of)
        if key not in found and len(found) >= MOST_KEPT:
            continue
        _take(found.setdefault(key, Requests(key, line.at, line.at)), line)
    return sorted(found.values(), key=lambda one: (-(one.seconds or 0.0), -one.count, one.of))


def _take(one: Requests, line: RequestLine) -> None:
    one.first, one.last = min(one.first, line.at), max(one.last, line.at)
    one.count += 1
    status = number_in(line.attributes.get("http.response.status_code"))
    if status is not None:
        one.refused += 400 <= status < 500
        one.failed += status >= 500
    took = number_in(line.attributes.get("http.server.duration"))
    if took is not None and took >= 0:
        one.seconds = (one.seconds or 0.0) + took
        if one.longest is None or took > one.longest:
            one.longest, one.slowest = took, line.event
    elif one.longest is None and one.last == line.at:
        one.slowest = line.event
    client = line.attributes.get("client.address")
    if client and len(one.clients) < MOST_CLIENTS:
        one.clients.add(str(client))


def _key(attributes: Mapping[str, Any], of: RequestOf) -> str:
    if of == "client":
        return str(attributes.get("client.address") or "")[:LONGEST_TEXT]
    if of == "agent":
        return str(attributes.get("user_agent.original") or "")[:LONGEST_TEXT]
    if of == "status":
        status = number_in(attributes.get("http.response.status_code"))
        return str(int(status)) if status is not None else ""
    method = str(attributes.get("http.request.method") or "")
    return f"{method} {path_of(str(attributes.get('url.path') or ''))}".strip()


def number_in(value: Any) -> float | None:
    """A number that an attribute holds, also as text; None for what is none or no finite one."""
    if isinstance(value, bool) or value is None:
        return None
    try:
        found = float(value)
    except (TypeError, ValueError):
        return None
    return found if math.isfinite(found) and abs(found) < 1e9 else None
