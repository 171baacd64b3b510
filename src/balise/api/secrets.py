"""Secrets as a type of their own: shown nowhere, sent only where somebody says so."""

from __future__ import annotations

import hmac
from collections.abc import Callable
from typing import Any

from pydantic import GetCoreSchemaHandler, GetJsonSchemaHandler
from pydantic.json_schema import JsonSchemaValue
from pydantic_core import CoreSchema, core_schema

REVEALED = {"reveal": True}
"""The context in which a model with secrets is written with them: for the one who needs them, or to be sealed."""
HIDDEN = "(secret)"


class Secret:
    """A text that appears in no log, no message and no JSON. `reveal` gives it to what sends or keeps it."""

    __slots__ = ("_text",)

    def __init__(self, text: str) -> None:
        self._text = text

    def reveal(self) -> str:
        return self._text

    def __repr__(self) -> str:
        return HIDDEN

    __str__ = __repr__

    def __format__(self, _form: str) -> str:
        return HIDDEN

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, Secret):
            return NotImplemented
        return hmac.compare_digest(self._text.encode(), other._text.encode())

    def __hash__(self) -> int:
        return hash(self._text)

    def __len__(self) -> int:
        return len(self._text)

    def __copy__(self) -> Secret:
        return self

    def __deepcopy__(self, _memo: object) -> Secret:
        return self

    def __reduce__(self) -> Any:
        raise TypeError("a secret is not pickled")


class OfLength:
    """How a secret looks in a request, as an annotation of it: a text of some length, perhaps of some kind."""

    def __init__(self, least: int, most: int, check: Callable[[str], str] | None = None) -> None:
        self._text = core_schema.str_schema(min_length=least, max_length=most, strict=True)
        if check is not None:
            self._text = core_schema.no_info_after_validator_function(check, self._text)  # type: ignore[assignment]

    def __get_pydantic_core_schema__(self, _source: Any, _handler: GetCoreSchemaHandler) -> CoreSchema:
        return core_schema.no_info_wrap_validator_function(
            _made,
            self._text,
            serialization=core_schema.plain_serializer_function_ser_schema(_written, info_arg=True),
        )

    def __get_pydantic_json_schema__(self, _schema: CoreSchema, handler: GetJsonSchemaHandler) -> JsonSchemaValue:
        return {**handler(self._text), "format": "password", "writeOnly": True}


def _made(given: Any, read: Callable[[Any], str]) -> Secret:
    return Secret(read(given.reveal() if isinstance(given, Secret) else given))


def _written(held: Secret, info: core_schema.SerializationInfo) -> Any:
    if info.context and info.context.get("reveal"):
        return held.reveal()
    return HIDDEN if info.mode == "json" else held
