"""What a service says first, unasked."""

from __future__ import annotations

import socket
import time
from collections.abc import Mapping
from typing import Any

from balise.api.credentials import CredentialBody
from balise.api.kits import Target
from balise.collect.kits.sources.rows import as_rows
from balise.collect.kits.sources.source import Rows, SourceProblem, place_of, plain_reason


class GreetingSource:
    """Target: `address` and `port`. What a service says first, unasked, and how long that took (`seconds`)."""

    def __init__(self, target: Target, credential: CredentialBody | None, time_limit: float) -> None:
        del credential
        self._target = target
        self._limit = time_limit

    def ask(self, question: Mapping[str, Any]) -> Rows:
        began = time.monotonic()
        address, port = place_of(self._target, 22)
        try:
            with socket.create_connection((address, port), self._limit) as talk:
                said = talk.recv(1024).decode("utf-8", "replace")
        except OSError as error:
            raise SourceProblem(f"{address} port {port}: {plain_reason(error)}", lost=True) from None
        took = round(time.monotonic() - began, 5)
        return [{**row, "seconds": took} for row in as_rows(said, question, self._target)]

    def close(self) -> None:
        """Each look has a connection of its own."""
