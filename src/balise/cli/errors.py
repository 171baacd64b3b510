"""What goes wrong in a command."""

from __future__ import annotations

import sys

from balise.client.errors import BaliseError


class CommandError(Exception):
    """Something a person has to put right; printed without a traceback."""


def expected_errors() -> tuple[type[Exception], ...]:
    """Errors whose message is meant for people."""
    found: list[type[Exception]] = [CommandError, BaliseError]
    if "balise.agent.identity" in sys.modules:
        from balise.agent.identity import AgentError

        found.append(AgentError)
    if "balise.relay.identity" in sys.modules:
        from balise.relay.identity import RelayError

        found.append(RelayError)
    if "balise.server.errors" in sys.modules:
        from balise.server.errors import Refused

        found.append(Refused)
    if "balise.store.folders" in sys.modules:
        from balise.store.folders import DataError

        found.append(DataError)
    return tuple(found)
