"""What every probe does."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import Any, ClassVar

from balise.api.credentials import LoginCredential
from balise.api.probes import PORTS, ProbeBody, ProbeKind, ProbeTarget
from balise.collect.probes.talk import Talk


def place_of(body: ProbeBody) -> dict[str, Any]:
    """Where a probe goes: `url`, or `address`, `port` and what else its kind has."""
    return ProbeTarget(name="", body=body).place()


class Probe(ABC):
    """One try of a probe: what it asks, and how it judges the answer."""

    kind: ClassVar[ProbeKind]

    def __init__(self, target: ProbeTarget, talk: Talk) -> None:
        self._target = target
        self._expect = target.body.expect
        self._place: dict[str, Any] = target.place()
        self._talk = talk

    @abstractmethod
    def make(self) -> str:
        """What is said of a good answer.

        Raises:
            ProbeFailed: there is none, or another than it has to be.
        """

    @classmethod
    def problem(cls, body: ProbeBody) -> tuple[str, str] | None:
        """What is wrong with a probe before it is made: the field, and what to do; None for nothing."""
        return None

    @property
    def _port(self) -> int:
        return int(self._place.get("port") or PORTS[self.kind])

    @property
    def _login(self) -> tuple[str, str] | None:
        held = self._target.credential
        return (held.user, held.password.reveal()) if isinstance(held, LoginCredential) else None
