"""Trading an enrolment key for an identity."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path

from balise.agent.identity import Identity, load_identity, save_identity
from balise.api.agents import EnrolAnswer, EnrolRequest
from balise.client import Balise
from balise.collect.facts import read_facts


def enrol(
    folder: Path,
    console: str,
    key: str,
    *,
    name: str | None = None,
    follow: Sequence[str] = (),
    take_over: bool = False,
) -> Identity:
    """Enrols this host and keeps what it got in `folder`; with `take_over`, as who it was before.

    Raises:
        Refused: the console does not take the key.
        Unreachable: the console does not answer.
    """
    request = EnrolRequest(key=key, facts=read_facts(name), take_over=take_over)
    with Balise(console) as client:
        answer = EnrolAnswer.model_validate(client.call("POST", "/agents/enrol", request))
    save_identity(folder, Identity(console.rstrip("/"), answer.host, answer.host_id, answer.token))
    if follow:
        settings = folder / "agent.toml"
        sections = "".join(f"\n[[follow]]\npath = {json.dumps(path)}\n" for path in follow)
        settings.write_text(settings.read_text("utf-8") + sections, "utf-8")
    return load_identity(folder)
