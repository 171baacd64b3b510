"""Asking any database that is spoken to here, by the name of its kind."""

from __future__ import annotations

from balise.api.credentials import CredentialBody
from balise.api.kits import Target
from balise.collect.kits.sources.source import Source, SourceProblem


def SqlSource(target: Target, credential: CredentialBody | None, time_limit: float) -> Source:
    """Target: `engine` (`postgresql` or `mariadb`) and what that one wants. Its port's default is that one's too."""
    if target.get("engine") == "postgresql":
        from balise.collect.kits.sources.postgres import PostgresSource

        return PostgresSource(target, credential, time_limit)
    if target.get("engine") == "mariadb":
        from balise.collect.kits.sources.mariadb import MariadbSource

        return MariadbSource(target, credential, time_limit)
    raise SourceProblem("engine is postgresql or mariadb", lost=True)
