"""Whose turn it is to read a host or a service from afar: the console, or a relay; and whose it was."""

from __future__ import annotations

from balise.store.state import tables

CONSOLE = 0
"""Who has what no relay has."""
KEPT_OWNERS = 20


def hand_over(row: tables.Remote | tables.Service, owner: int, now: float) -> None:
    """Writes down who has a host or a service from now on."""
    row.owner = owner
    row.owners = [*(row.owners or []), [now, owner]][-KEPT_OWNERS:]


def owner_at(row: tables.Remote | tables.Service, at: float) -> int:
    """Who had it at a moment, unix seconds; before all that is known, the first that is."""
    found = row.owner
    for since, owner in reversed(row.owners or []):
        found = int(owner)
        if since <= at:
            break
    return found
