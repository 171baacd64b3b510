"""What to do about a suspect of each kind, where no rule and no kit says it better."""

from __future__ import annotations

from balise.core.trail.things import Kind, Thing

_ADVICE: dict[Kind, str] = {
    "session": "See who owns the session and what it does; ask them to end it, or end it if others cannot wait.",
    "query": "See who runs this query and how its plan changed; stop it if others cannot wait.",
    "process": "See what began it and whether it may wait: stop it, lower its priority, or move it to another hour.",
    "user": "See what this user began; ask them first, then stop it.",
    "change": "Read what was changed; if nothing else explains it, take the change back and look again.",
    "volume": "Find what grew: the largest directories under the mount point. Turn off what writes, then make room.",
    "certificate": "Renew the certificate, put it in its place, and make the service read it anew.",
    "address": "See what this address asks for; bound or block it at the edge, and tell whom it belongs to.",
    "link": "See whether the host can be reached another way; look at its card, cable and switch port.",
    "machine": "Look at the machine's hardware and load; move what runs on it elsewhere.",
    "service": "Look at the service's own lines and figures at this moment; restart it only when its state is kept.",
    "host": "Look at the host's busiest processes and its lines at this moment.",
}


def advice_for(thing: Thing) -> str:
    """`advice_for(Thing("certificate", "shop", "web-1")).startswith("Renew")`."""
    return _ADVICE[thing.kind]
