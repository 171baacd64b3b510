"""Parsers tried on lines, before they are kept in a plan."""

from __future__ import annotations

import time

from balise.api.parsers import ParsedEvent, ParsedLine, ParserAnswer, ParserQuestion
from balise.api.spans import rfc3339
from balise.core.events.masks import Masks
from balise.core.events.parsers import ParserReader, Unfitting
from balise.core.kits.forms import FormError
from balise.server.errors import bad_field

MOST_SECONDS = 5.0


def tried_lines(question: ParserQuestion) -> ParserAnswer:
    """Each line as it would be kept. Raises Refused 422 for a pattern that cannot be read."""
    try:
        reader, masks = ParserReader(question.parser), Masks(question.mask)
    except FormError as error:
        raise bad_field("parser.pattern", str(error)) from None
    end = time.monotonic() + MOST_SECONDS
    items = []
    for line in question.lines:
        if time.monotonic() > end:
            items.append(ParsedLine(line=line, event=None, problem="not tried: the lines before took too long"))
            continue
        items.append(_tried(line, reader, masks))
    return ParserAnswer(items=items)


def _tried(line: str, reader: ParserReader, masks: Masks) -> ParsedLine:
    try:
        read = reader.fitting(line, time.time())
    except Unfitting as problem:
        return ParsedLine(line=line, event=None, problem=str(problem))
    body, attributes = masks.over(read.body, read.attributes)
    event = ParsedEvent(
        time=rfc3339(read.time) if read.time is not None else None,
        severity=read.severity,
        body=body,
        attributes=attributes,
    )
    return ParsedLine(line=line, event=event, problem=None)
