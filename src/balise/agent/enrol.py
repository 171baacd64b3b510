"""Trading an enrolment key for an identity."""

from __future__ import annotations

import json
import time
from collections.abc import Sequence
from pathlib import Path

from balise.agent.identity import Identity, load_identity, save_identity
from balise.api.agents import EnrolAnswer, EnrolRequest
from balise.api.secrets import Secret
from balise.client import Balise
from balise.client.trust import Trust, learn_trust
from balise.collect.facts import read_facts


def enrol(
    folder: Path,
    console: str,
    key: str,
    *,
    name: str | None = None,
    follow: Sequence[str] = (),
    take_over: bool = False,
    trust: Trust | None = None,
) -> tuple[Identity, bool]:
    """Enrols this host and keeps what it got in `folder`; with `take_over`, as who it was before.

    Answers the identity, and whether somebody has to approve this machine first.

    Raises:
        Refused: the console does not take the key.
        Unreachable: the console does not answer, or is not the one it should be.
    """
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    learnt = learn_trust(console, trust or Trust(), folder)
    request = EnrolRequest(key=Secret(key), facts=read_facts(name), take_over=take_over)
    with Balise(console, trust=learnt) as client:
        answer = EnrolAnswer.model_validate(client.call("POST", "/agents/enrol", request))
    save_identity(folder, Identity(console.rstrip("/"), answer.host, answer.host_id, answer.token, time.time()))
    if follow:
        settings = folder / "agent.toml"
        sections = "".join(f"\n[[follow]]\npath = {json.dumps(path)}\n" for path in follow)
        settings.write_text(settings.read_text("utf-8") + sections, "utf-8")
    return load_identity(folder), answer.state == "waiting"
