"""Parsers: how the lines of a source become events with attributes; and what of them is masked."""

from __future__ import annotations

import re
from typing import Annotated, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, model_validator

from balise.api.events import Severity

Form = Literal["auto", "plain", "json", "key-value", "access", "postgresql-csv", "postgresql-json", "syslog", "pattern"]
FieldName = Annotated[str, Field(min_length=1, max_length=100, pattern=r"^[^\x00-\x1f]+$")]


def _regular(text: str) -> str:
    try:
        re.compile(text)
    except (re.error, RecursionError, OverflowError) as error:
        raise ValueError(f"this is no regular expression: {str(error)[:200]}") from None
    return text


LinePattern = Annotated[str, Field(min_length=1, max_length=2000), AfterValidator(_regular)]


class Parser(BaseModel):
    """How a line is read. `auto` looks at each line: JSON, syslog, an access log, key=value, or plain text.

    `pattern` is a regular expression; its named groups are fields, and `__` in a name stands for a dot. The fields
    named `time`, `severity` and `body` are the event's own, all others become attributes under the names that
    `attributes` gives them, or their own.
    """

    model_config = ConfigDict(extra="forbid")
    form: Form = "auto"
    pattern: LinePattern | None = None
    time: FieldName | None = None
    time_form: Annotated[str, Field(max_length=60, description="of strptime; ISO 8601 unless given")] = ""
    severity: FieldName | None = None
    severities: Annotated[dict[FieldName, Severity], Field(max_length=40)] = {}
    body: FieldName | None = None
    attributes: Annotated[dict[FieldName, FieldName], Field(max_length=60, description="attribute: field")] = {}

    @model_validator(mode="after")
    def _whole(self) -> Parser:
        if (self.form == "pattern") != (self.pattern is not None):
            raise ValueError("pattern: give one with form pattern, and only then")
        return self


class Mask(BaseModel):
    """What of an event is made unreadable before it leaves its host: an attribute, or what a pattern matches."""

    model_config = ConfigDict(extra="forbid")
    attribute: FieldName | None = None
    pattern: LinePattern | None = None

    @model_validator(mode="after")
    def _one(self) -> Mask:
        if (self.attribute is None) == (self.pattern is None):
            raise ValueError("give an attribute or a pattern, one of them")
        return self


class ParserQuestion(BaseModel):
    """Lines to be read by a parser that is not kept yet."""

    parser: Parser = Parser()
    mask: Annotated[list[Mask], Field(max_length=20)] = []
    lines: Annotated[list[Annotated[str, Field(max_length=65_536)]], Field(min_length=1, max_length=200)]


class ParsedEvent(BaseModel):
    """A line as the event it becomes."""

    time: str | None
    severity: Severity
    body: str
    attributes: dict[str, str]


class ParsedLine(BaseModel):
    """A line, and its event or why the parser does not fit it; then it is kept as plain text."""

    line: str
    event: ParsedEvent | None
    problem: str | None


class ParserAnswer(BaseModel):
    items: list[ParsedLine]
