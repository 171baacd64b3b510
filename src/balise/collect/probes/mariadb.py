"""MariaDB."""

from __future__ import annotations

from balise.api.kits import Target
from balise.collect.kits.sources.source import Source
from balise.collect.probes.query import QueryProbe


class MariadbProbe(QueryProbe):
    """Signs in, asks a question in SQL, and judges the first value."""

    kind = "mariadb"

    def _source(self, target: Target) -> Source:
        from balise.collect.kits.sources.mariadb import MariadbSource

        return MariadbSource(target, self._target.credential, self._talk.left())
