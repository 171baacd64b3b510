"""What a series tells of work, by the words of its name, as the semantic conventions of OpenTelemetry put them."""

from __future__ import annotations

import re
from collections.abc import Mapping

from balise.core.trail.things import Sort

_WORDS: tuple[tuple[Sort, frozenset[str]], ...] = (
    ("errors", frozenset({
        "error", "errors", "failed", "failure", "failures", "dropped", "drops", "rejected", "refused", "timeouts",
        "timeout", "retransmits", "aborted", "denied", "conflicts", "deadlocks", "evicted", "exceptions", "5xx",
    })),
    ("waiting", frozenset({
        "blocked", "waiting", "wait", "waits", "pending", "queue", "queued", "depth", "backlog", "pressure", "lag",
        "iowait", "steal", "throttled", "contention",
    })),
    ("latency", frozenset({"duration", "latency", "delay", "pause", "rtt", "response", "offset", "age"})),
    ("state", frozenset({"state", "status", "up", "online", "health", "speed", "reachable", "ready", "replicas",
        "remaining", "expires",
    })),
    ("saturation", frozenset({
        "utilization", "usage", "used", "busy", "load", "load_average", "load_per_core", "heap", "temperature", "full",
        "backends", "connections", "threads", "thread", "open", "io_time", "inodes",
    })),
    ("traffic", frozenset({
        "io", "operations", "requests", "transactions", "packets", "rate", "throughput", "messages", "passengers",
        "bytes", "reads", "writes", "hits", "sessions", "commits", "processed", "lookups", "received", "sent", "count",
    })),
)  # fmt: skip
_MIRRORS = {"idle", "free", "cached", "available", "buffers", "sleeping"}
"""Attribute values of series that only show the rest of another one."""
_WAITING = {"iowait", "steal", "blocked"}
_SPLIT = re.compile(r"[._\-\s]+")


def sort_of(metric: str, unit: str = "", attributes: Mapping[str, str] | None = None) -> Sort:
    """`sort_of("http.server.request.duration", "s") == "latency"`; what no word tells is "other"."""
    said = {value.lower() for value in (attributes or {}).values()}
    if said & _MIRRORS:
        return "other"
    if said & _WAITING:
        return "waiting"
    parts = metric.lower().split(".")
    words = {*parts, *_SPLIT.split(metric.lower())}
    for sort, known in _WORDS:
        if words & known:
            return sort
    if unit.startswith(("{", "By")):
        return "traffic"
    return "latency" if unit in ("s", "ms") else "other"


def is_worse(sort: Sort, deviation: float) -> bool:
    """Whether so far a deviation is a trouble of its own, rather than less of what others ask for."""
    if sort == "state":
        return True
    return sort != "traffic" and sort != "other" and deviation > 0
