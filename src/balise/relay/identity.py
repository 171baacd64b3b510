"""Who this relay is, in its state folder."""

from __future__ import annotations

import json
import os
from dataclasses import asdict, dataclass
from pathlib import Path

from balise.api.relays import RelayEnrol, RelayEnrolled
from balise.api.secrets import Secret
from balise.client import Balise
from balise.client.trust import Trust, learn_trust
from balise.collect.facts import read_facts
from balise.durable import write_durably


class RelayError(Exception):
    """Something a person has to put right; the message says what."""


@dataclass(frozen=True)
class RelayIdentity:
    """What enrolling gave: the console, the relay's name and site, and the token that proves it."""

    console: str
    relay: str
    relay_id: int
    site: str | None
    token: str


def default_folder() -> Path:
    """`BALISE_RELAY_STATE`, else /var/lib for root, else below the user's own state."""
    if os.environ.get("BALISE_RELAY_STATE"):
        return Path(os.environ["BALISE_RELAY_STATE"])
    if os.geteuid() == 0:
        return Path("/var/lib/balise-relay")
    return Path(os.environ.get("XDG_STATE_HOME", Path.home() / ".local" / "state")) / "balise-relay"


def enrol(
    folder: Path,
    console: str,
    key: str,
    *,
    name: str | None = None,
    site: str | None = None,
    trust: Trust | None = None,
) -> RelayIdentity:
    """Enrols this machine as a relay and keeps what it got in `folder`.

    Raises:
        Refused: the console does not take the key.
        Unreachable: the console does not answer, or is not the one it should be.
    """
    facts = read_facts()
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    learnt = learn_trust(console, trust or Trust(), folder)
    request = RelayEnrol(key=Secret(key), name=name or f"relay-{facts.host_name}", site=site, facts=facts)
    with Balise(console, trust=learnt) as client:
        answer = RelayEnrolled.model_validate(client.call("POST", "/relays/enrol", request))
    identity = RelayIdentity(console.rstrip("/"), answer.relay, answer.relay_id, answer.site, answer.token)
    write_durably(folder / "relay.json", json.dumps(asdict(identity), indent=1).encode())
    return identity


def load(folder: Path) -> RelayIdentity:
    """Raises RelayError when this machine is not enrolled as a relay."""
    path = folder / "relay.json"
    try:
        return RelayIdentity(**json.loads(path.read_text("utf-8")))
    except FileNotFoundError:
        raise RelayError(
            f"this machine is no relay yet (no {path}): run `balise relay enrol --console URL --key KEY` first"
        ) from None
    except (OSError, ValueError, TypeError) as error:
        raise RelayError(f"{path} cannot be read: {error}") from None
