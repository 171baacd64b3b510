"""Redis."""

from __future__ import annotations

from typing import Any

from balise.api.kits import Target
from balise.api.probes import ProbeBody
from balise.collect.kits.sources.source import Source
from balise.collect.probes.query import QueryProbe
from balise.core.kits.reading import refused_redis


class RedisProbe(QueryProbe):
    """Signs in, sends a command that reads, and judges what it answers."""

    kind = "redis"

    def _source(self, target: Target) -> Source:
        from balise.collect.kits.sources.redis import RedisSource

        return RedisSource(target, self._target.credential, self._talk.left())

    def _question(self) -> dict[str, Any]:
        return {"command": "call", "words": (self._target.body.query or "PING").split()}

    @classmethod
    def problem(cls, body: ProbeBody) -> tuple[str, str] | None:
        why = refused_redis(body.query.split()) if body.query else None
        return ("query", why) if why else None
