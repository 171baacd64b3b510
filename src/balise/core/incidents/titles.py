"""What an incident is called: what, where, whom it hurts."""

from __future__ import annotations

from collections.abc import Collection, Sequence

from balise.api.incidents import Hurt

LONGEST = 200


def title(about: str, service: str, host: str, hosts: Collection[str], hurt: Sequence[Hurt]) -> str:
    """What is wrong, where it began, and how far it reaches.

    >>> title("A service is down", "redis", "db-1", {"db-1", "web-1"}, [])
    'A service is down: redis on db-1 and 1 more host'
    """
    others = len({name for name in hosts if name} - {host})
    more = f" and {others:,} more host{'s' if others > 1 else ''}" if others and host else ""
    place = f"{f': {service}' if service else ''} on {host}{more}" if host else ""
    whom = ", ".join(one.application for one in hurt[:3]) + (" and others" if len(hurt) > 3 else "")
    hurting = f", touches {whom}" if whom else ""
    room = LONGEST - len(place) - len(hurting)
    what = " ".join(about.split()).rstrip(".")
    return (what if len(what) <= room else what[: room - 1].rstrip() + "…") + place + hurting
