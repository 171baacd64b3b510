"""What parts of the service tell each other."""

from __future__ import annotations

import logging
from collections.abc import Callable
from typing import Generic, TypeVar

log = logging.getLogger(__name__)
T = TypeVar("T")


class Signal(Generic[T]):
    """What a part tells; who hears it is said in `parts.py` alone.

    What is told has happened already: a listener that fails is logged and counted, and keeps nothing from the others.

    >>> heard: list[int] = []
    >>> came = Signal[int]("came")
    >>> came.connect(heard.append)
    >>> came.tell(7)
    True
    >>> heard
    [7]
    """

    def __init__(self, name: str) -> None:
        self._name = name
        self._listeners: list[Callable[[T], object]] = []
        self.failed = 0

    def connect(self, *listeners: Callable[[T], object]) -> None:
        """From now on these are called with everything that is told, in this order."""
        self._listeners.extend(listeners)

    def then(self, *listeners: Callable[[], object]) -> None:
        """As `connect`, for those that only need to know that it happened."""
        for listener in listeners:
            self._listeners.append(lambda _told, listener=listener: listener())  # type: ignore[misc]

    def tell(self, what: T) -> bool:
        """Whether everybody could be told."""
        failed = 0
        for listener in self._listeners:
            try:
                listener(what)
            except Exception:
                failed += 1
                log.exception("signal=%s could not be told", self._name)
        self.failed += failed
        return not failed
