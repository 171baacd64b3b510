"""PostgreSQL."""

from __future__ import annotations

from balise.api.kits import Target
from balise.collect.kits.sources.source import Source
from balise.collect.probes.query import QueryProbe


class PostgresqlProbe(QueryProbe):
    """Signs in, asks a question in SQL, and judges the first value."""

    kind = "postgresql"

    def _source(self, target: Target) -> Source:
        from balise.collect.kits.sources.postgres import PostgresSource

        return PostgresSource(target, self._target.credential, self._talk.left())
