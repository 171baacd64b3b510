"""What all nouns of a console have."""

from __future__ import annotations

from typing import TypeAlias, TypeVar

from balise.client.connection import Connection

M = TypeVar("M")
Items: TypeAlias = list[M]
"""`list`, where a class has a method of that name."""


class Noun:
    """The calls about one kind of thing. Every method raises as `Balise` says."""

    def __init__(self, connection: Connection) -> None:
        self._connection = connection
