"""Problem details for every error (RFC 9457)."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

from pydantic import BaseModel

_WRITTEN: dict[str, str] = {
    r"^[A-Za-z0-9][A-Za-z0-9 ._:-]{0,99}$": "letters, digits, space and . _ : -, a letter or digit first, at most 100",
    r"^[A-Za-z0-9][A-Za-z0-9._-]{0,62}$": "letters, digits and . _ -, a letter or digit first, at most 63",
    r"^[a-z][a-z-]{1,30}$": "small letters and -, a letter first, 2 to 31",
    r"^[a-z][a-z0-9-]{1,30}$": "small letters, digits and -, a letter first, 2 to 31",
    r"^[a-z][a-z0-9-]{1,40}$": "small letters, digits and -, a letter first, 2 to 41",
    r"^[a-z][a-z0-9_]{0,30}$": "small letters, digits and _, a letter first, at most 31",
    r"^\d{1,4}(\.\d{1,4}){0,2}$": "a version like 1.2 or 1.2.3",
    r"^https?://[^\s]+$": "an address like https://host:port/path",
    r"^[\w@.:-]{1,100}$": "letters, digits and _ @ . : -, at most 100",
    r"^(/[A-Za-z0-9][\x21-\x5b\x5d-\x7e]*)?$": "the address of a page, like /fleet?sort=cpu; empty for Now",
    r"^/[^\x00-\x1f]*$": "a path that begins with /",
    r"^[A-Z0-9]{1,10}$": "capitals and digits, at most 10",
    r"^[0-9a-f]{64}$": "64 hexadecimal digits",
    r"^[a-z]+/[a-zA-Z0-9.+-]+$": "a media type like application/json",
    r"^\+[0-9]{6,15}$": "a number like +4790000000, with its country",
    r"^[0-9a-f]{10,64}$": "10 to 64 hexadecimal digits",
    r"^[\x21-\x7e]{1,32}$": "visible ASCII characters, at most 32",
    r"^[A-Za-z0-9._-]+$": "what the message has as its link",
    r"^\d{1,6}--?\d{1,18}$": "the id of an event, as the answer before gave it",
    r"^\d{1,18}$": "a number, as the answer before gave it",
}
"""What a text that has to look in some way has to look like."""


class FieldProblem(BaseModel):
    """What is wrong with one field of a request, and what to write instead."""

    field: str
    detail: str


class DocumentProblem(BaseModel):
    """What is wrong in a text, and where. Lines and columns begin at 1."""

    line: int
    column: int
    field: str
    detail: str


class Problem(BaseModel):
    """`application/problem+json`: `detail` says what to do."""

    type: str = "about:blank"
    title: str
    status: int
    detail: str
    errors: list[FieldProblem] = []


def message_of(error: Mapping[str, Any]) -> str:
    """What pydantic found wrong, in words for people: never with a regular expression in it."""
    if error["type"] == "string_pattern_mismatch":
        pattern = str(error["ctx"]["pattern"])
        words = re.fullmatch(r"\^\(([\w|-]+)\)\$", pattern)
        if words:
            return f"this has to be one of {', '.join(words[1].split('|'))}"
        return f"this has to be {_WRITTEN.get(pattern, 'written as its description says')}"
    if error["type"] == "union_tag_invalid":
        return f"{str(error['ctx']['discriminator']).strip(chr(39))}: write one of {error['ctx']['expected_tags']}"
    return str(error["msg"]).removeprefix("Value error, ")
