"""Whether a service accepts connections on its port, and how fast."""

from __future__ import annotations

import socket
import time
from collections.abc import Mapping
from typing import Any

from balise.api.credentials import CredentialBody
from balise.api.kits import Target
from balise.collect.kits.sources.source import Rows, SourceProblem, place_of, plain_reason


class PortSource:
    """Target: `address` and `port`."""

    def __init__(self, target: Target, credential: CredentialBody | None, time_limit: float) -> None:
        del credential
        self._place = place_of(target, 0)
        self._limit = time_limit

    def ask(self, question: Mapping[str, Any]) -> Rows:
        del question
        began = time.monotonic()
        try:
            socket.create_connection(self._place, self._limit).close()
        except OSError as error:
            where = f"{self._place[0]} port {self._place[1]}"
            raise SourceProblem(f"{where}: {plain_reason(error)}", lost=True) from None
        return [{"port": self._place[1], "up": 1, "seconds": round(time.monotonic() - began, 5)}]

    def close(self) -> None:
        """Nothing is kept open: whether it accepts is the question."""
