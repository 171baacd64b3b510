"""What a series tells of work, by the words of its name, as the semantic conventions of OpenTelemetry put them."""

from __future__ import annotations

import re
from collections.abc import Mapping

from balise.core.trail.things import Sort

_TELLS_NOTHING = frozenset({"limit", "uptime", "powered", "age", "newest", "clock", "committed", "logical", "worn"})
"""Words of what is set, and of what only grows with time."""
_WORDS: tuple[tuple[Sort, frozenset[str]], ...] = (
    ("errors", frozenset({
        "error", "errors", "failed", "failure", "failures", "dropped", "drops", "rejected", "refused", "timeouts",
        "timeout", "retransmits", "aborted", "denied", "conflicts", "deadlocks", "evicted", "exceptions", "5xx",
        "servfail", "killed", "killed_for_memory", "uncorrectable", "unreadable", "reallocated", "downtime", "repeated",
    })),
    ("waiting", frozenset({
        "blocked", "waiting", "wait", "waits", "pending", "queue", "queued", "depth", "backlog", "pressure", "lag",
        "iowait", "steal", "throttled", "contention", "locks", "longest", "oldest", "behind", "held_back", "silence",
    })),
    ("latency", frozenset({"duration", "latency", "delay", "pause", "rtt", "response", "offset"})),
    ("state", frozenset({"state", "status", "up", "online", "health", "speed", "reachable", "ready", "replicas",
        "remaining", "expires", "left", "alarm", "restarts", "good",
    })),
    ("saturation", frozenset({
        "utilization", "usage", "used", "busy", "load", "load_average", "load_per_core", "heap", "temperature", "full",
        "backends", "connections", "threads", "thread", "open", "io_time", "inodes", "cpu", "memory", "size", "kept",
        "processes", "files", "operation_time",
    })),
    ("traffic", frozenset({
        "io", "operations", "requests", "transactions", "packets", "rate", "throughput", "messages", "passengers",
        "bytes", "reads", "writes", "hits", "sessions", "commits", "processed", "lookups", "received", "sent", "count",
    })),
)  # fmt: skip
_ERRORS = _WORDS[0][1]
_MIRRORS = {"idle", "free", "cached", "available", "buffers", "sleeping"}
"""Attribute values of series that only show the rest of another one."""
_WAITING = {"iowait", "steal", "blocked"}
_SPLIT = re.compile(r"[._\-\s]+")
_SERVER_ERROR = re.compile(r"5\d\d")


def sort_of(
    metric: str, unit: str = "", attributes: Mapping[str, str] | None = None, tells: Sort | None = None
) -> Sort:
    """`sort_of("http.server.request.duration", "s") == "latency"`; what no word tells is "other".

    Args:
        unit: of the values that are looked at, in UCUM's words: of a counter, of its growth.
        tells: what is known of the metric, whatever the words of its name are.
    """
    said = {value.lower() for value in (attributes or {}).values()}
    if said & _MIRRORS:
        return "other"
    if said & _WAITING:
        return "waiting"
    if said & _ERRORS or _SERVER_ERROR.fullmatch((attributes or {}).get("http.response.status_code", "")):
        return "errors"
    if tells is not None:
        return tells
    words = {*metric.lower().split("."), *_SPLIT.split(metric.lower())}
    if words & _TELLS_NOTHING:
        return "other"
    if unit == "{state}":
        return "state"
    for sort, known in _WORDS:
        if words & known:
            return "traffic" if sort == "saturation" and unit.endswith("/s") else sort
    return _by_unit(words, unit)


def _by_unit(words: set[str], unit: str) -> Sort:
    if unit.startswith(("{", "By")):
        return "traffic"
    if unit in ("s", "ms"):
        return "latency"
    # What grows by seconds a second is the share of time that something was at it.
    return "saturation" if "time" in words else "other"


def is_worse(sort: Sort, deviation: float) -> bool:
    """Whether so far a deviation is a trouble of its own, rather than less of what others ask for."""
    if sort == "state":
        return True
    return sort != "traffic" and sort != "other" and deviation > 0
