"""What may be asked of a database that is only looked at. The server holds the transaction to it besides."""

from __future__ import annotations

import re
from collections.abc import Sequence

_QUERIES = ("select", "with", "show", "values", "table", "explain", "describe", "desc")
_COMMENT = re.compile(r"/\*.*?\*/|--[^\n]*|#[^\n]*", re.DOTALL)
_OUT = re.compile(r"\binto\s+(?:outfile|dumpfile)\b", re.IGNORECASE)
_REDIS = {
    "bitcount", "cluster info", "cluster nodes", "dbsize", "echo", "exists", "get", "getbit", "getrange", "hexists",
    "hget", "hgetall", "hlen", "hmget", "info", "lastsave", "latency history", "latency latest", "lindex", "llen",
    "lrange", "memory stats", "memory usage", "mget", "object encoding", "object freq", "object idletime", "ping",
    "pttl", "pubsub channels", "pubsub numpat", "pubsub numsub", "role", "scard", "sismember", "slowlog get",
    "slowlog len", "smembers", "strlen", "time", "ttl", "type", "xinfo groups", "xinfo stream", "xlen", "xrange",
    "zcard", "zcount", "zrange", "zrank", "zscore",
}  # fmt: skip
"""Commands of Redis that change nothing, and tell nothing of its settings."""


def refused_sql(statement: str) -> str:
    """Why a statement is not sent; empty when it may be. It has to be one query."""
    if "/*!" in statement or "/*M!" in statement:
        return "comments that the server carries out are not sent"
    plain = _COMMENT.sub(" ", statement).strip().rstrip(";").strip()
    word = re.match(r"[(\s]*([A-Za-z]+)", plain)
    if word is None or word[1].lower() not in _QUERIES:
        return "only a query is sent: one that begins with select, with, show, values, table, explain or describe"
    if _OUT.search(plain):
        return "a query that writes a file is not sent"
    return ""


def refused_redis(words: Sequence[str]) -> str:
    """Why a command of Redis is not sent; empty when it may be."""
    lower = [word.lower() for word in words[:2]]
    if lower and (lower[0] in _REDIS or " ".join(lower) in _REDIS):
        return ""
    named = " ".join(words[:2])[:40] or "nothing"
    return f"{named!r} is none of the commands that only read: {', '.join(sorted(_REDIS))}"
