"""What every channel does."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar

from balise.api.channels import ChannelBody
from balise.api.secrets import Secret
from balise.store.state.tables import Delivery

TIME_LIMIT = 10.0
"""Seconds for one try."""
MOST_ANSWER = 500
"""Characters kept of what the other side answers."""


class NotThrough(Exception):
    """The channel did not take it; the message is for people.

    `alone` says that this delivery was not taken while others may be, `final` that trying again is of no use. `answer`
    is what the other side said.
    """

    def __init__(self, why: str, *, alone: bool = False, final: bool = False, answer: str = "") -> None:
        super().__init__(why)
        self.alone = alone or final
        self.final = final
        self.answer = answer


@dataclass(frozen=True)
class Sent:
    """A delivery was taken: by whom not yet, for the moment, and what the other side said."""

    left: list[str] = field(default_factory=list)
    answer: str = ""


def _no_picture(_delivery: Delivery) -> bytes | None:
    return None


@dataclass(frozen=True)
class Outside:
    """What channels have to know of the service they send for.

    Args:
        public_url: where people reach the console.
        link: the link by which whoever gets a delivery acts on its incident; empty for one without.
        chart: a picture, PNG, of what an incident is about; None when there is nothing to draw.
        may_run: whether the service's configuration lets channels run commands.
    """

    public_url: str
    link: Callable[[Delivery], str]
    chart: Callable[[Delivery], bytes | None] = _no_picture
    may_run: bool = False


class Channel(ABC):
    """One way to somebody.

    Args:
        settings: as they are kept, without secrets.
        secrets: what it signs in with, by what it is.
        outside: what it has to know of the service.
    """

    kind: ClassVar[str]
    secret_names: ClassVar[tuple[str, ...]] = ()
    """Which of its settings are secrets: kept encrypted, never shown."""

    def __init__(self, settings: dict[str, Any], secrets: Mapping[str, Any], outside: Outside) -> None:
        self._settings = settings
        self._secrets = secrets
        self._outside = outside

    @abstractmethod
    def send(self, delivery: Delivery, only: Sequence[str] | None) -> Sent:
        """Sends one delivery now, to some of its addresses alone if they are given.

        Raises:
            NotThrough: nobody took it.
        """

    @classmethod
    def secrets_of(cls, body: ChannelBody) -> dict[str, Any]:
        """What has to be kept encrypted of what somebody set."""
        found: dict[str, Any] = {}
        for name in cls.secret_names:
            held = getattr(body, name)
            if isinstance(held, Secret):
                found[name] = held.reveal()
            elif isinstance(held, dict) and held:
                found[name] = {key: value.reveal() for key, value in held.items()}
        return found

    @classmethod
    def kept(cls, before: Mapping[str, Any], new: Mapping[str, Any], now: float) -> dict[str, Any]:
        """The secrets that a channel has from now on, when some were set and those that were left out stay."""
        return {**before, **new}

    @staticmethod
    @abstractmethod
    def place_of(settings: dict[str, Any]) -> tuple[Any, ...]:
        """Where it sends to: its secret is never sent anywhere else."""

    @staticmethod
    def shown(settings: dict[str, Any]) -> dict[str, Any]:
        """The settings for those who are no administrators."""
        return settings
