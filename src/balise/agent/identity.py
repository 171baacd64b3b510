"""Who this agent is and what it is set to do, in its state folder."""

from __future__ import annotations

import json
import os
import tomllib
from dataclasses import asdict, dataclass, field
from pathlib import Path
from typing import Any

from balise.api.remote import FollowedFile
from balise.api.spans import seconds
from balise.durable import write_durably


class AgentError(Exception):
    """Something a person has to put right; the message says what."""


@dataclass(frozen=True)
class Identity:
    """What enrolling gave: the console, the host, and the token that proves it, made at `token_at` (unix seconds)."""

    console: str
    host: str
    host_id: int
    token: str
    token_at: float = 0.0


@dataclass(frozen=True)
class AgentSettings:
    """`agent.toml`: what holds on this host whatever the plan says. `every` is None where the plan decides."""

    every: float | None = None
    follow: list[FollowedFile] = field(default_factory=list)
    spool_bytes: int = 256 << 20
    allow_commands: list[str] = field(default_factory=list)


TEMPLATE = """\
# Settings of the Balise agent on this host. What to collect is in the console's plans; what is said here holds
# whatever they say. Restart the agent after a change.

# How often to collect.
# every = "15s"

# How much may wait on disk, in MiB, while the console is away; beyond it the oldest is dropped and counted.
spool = 256

# Command lines that the console may have run here, word for word, besides those of the kits that came with Balise.
# allow_commands = ["/usr/local/bin/queue-length --json"]

# Text files to follow besides those of the plan, one section each. The agent's user must be allowed to read them.
# [[follow]]
# path = "/var/log/syslog"
# from_start = false
"""


def default_folder() -> Path:
    """`BALISE_AGENT_STATE`, else /var/lib for root, else below the user's own state."""
    if os.environ.get("BALISE_AGENT_STATE"):
        return Path(os.environ["BALISE_AGENT_STATE"])
    if hasattr(os, "geteuid") and os.geteuid() == 0:
        return Path("/var/lib/balise-agent")
    return Path(os.environ.get("XDG_STATE_HOME", Path.home() / ".local" / "state")) / "balise-agent"


def save_identity(folder: Path, identity: Identity) -> None:
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    write_durably(folder / "identity.json", json.dumps(asdict(identity), indent=1).encode())
    settings = folder / "agent.toml"
    if not settings.exists():
        settings.write_text(TEMPLATE, "utf-8")


def load_identity(folder: Path) -> Identity:
    """Raises AgentError when this host is not enrolled."""
    path = folder / "identity.json"
    try:
        return Identity(**json.loads(path.read_text("utf-8")))
    except FileNotFoundError:
        raise AgentError(
            f"this host is not enrolled (no {path}): run `balise agent enrol --console URL --key KEY` first"
        ) from None
    except (OSError, ValueError, TypeError) as error:
        raise AgentError(f"{path} cannot be read: {error}") from None


def load_settings(folder: Path) -> AgentSettings:
    """Raises AgentError that names the setting which is wrong."""
    path = folder / "agent.toml"
    if not path.exists():
        return AgentSettings()
    try:
        content: dict[str, Any] = tomllib.loads(path.read_text("utf-8"))
        every = seconds(str(content["every"])) if "every" in content else None
        if every is not None and not 1.0 <= every <= 3600.0:
            raise ValueError("every: between 1s and 1h")
        unknown = set(content) - {"every", "spool", "follow", "allow_commands"}
        if unknown:
            raise ValueError(f"unknown setting {', '.join(sorted(unknown))}")
        follow = [FollowedFile.model_validate(one) for one in content.get("follow", [])]
        allowed = [str(line) for line in content.get("allow_commands", [])]
        return AgentSettings(every, follow, int(content.get("spool", 256)) << 20, allowed)
    except (OSError, ValueError, KeyError, TypeError) as error:
        raise AgentError(f"{path}: {error}") from None
