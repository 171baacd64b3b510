"""What every channel does."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Sequence
from typing import Any, ClassVar

from balise.api.notify import ChannelBody
from balise.api.secrets import Secret
from balise.store.state.tables import Delivery

TIME_LIMIT = 10.0
"""Seconds for one try."""


class NotThrough(Exception):
    """The channel did not take it; the message is for people.

    `alone` says that this delivery was not taken while others may be, `final` that trying again is of no use.
    """

    def __init__(self, why: str, *, alone: bool = False, final: bool = False) -> None:
        super().__init__(why)
        self.alone = alone or final
        self.final = final


class Channel(ABC):
    """One way to somebody.

    Args:
        settings: as they are kept, without the secret.
        secret: what it signs in with.
        public_url: where people reach the console.
    """

    kind: ClassVar[str]

    def __init__(self, settings: dict[str, Any], secret: str | None, public_url: str) -> None:
        self._settings = settings
        self._secret = secret
        self._public_url = public_url

    @abstractmethod
    def send(self, delivery: Delivery, only: Sequence[str] | None) -> list[str]:
        """Sends one delivery now, to some of its addresses alone if they are given.

        Answers those that did not take it for the moment.

        Raises:
            NotThrough: nobody took it.
        """

    @staticmethod
    @abstractmethod
    def secret_of(body: ChannelBody) -> Secret | None:
        """What has to be kept encrypted of what somebody set."""

    @staticmethod
    @abstractmethod
    def place_of(settings: dict[str, Any]) -> tuple[Any, ...]:
        """Where it sends to: its secret is never sent anywhere else."""

    @staticmethod
    def shown(settings: dict[str, Any]) -> dict[str, Any]:
        """The settings for those who are no administrators."""
        return settings
