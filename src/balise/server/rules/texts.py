"""Rules as text: read with the place of everything that is wrong."""

from __future__ import annotations

from balise.api.rules import RuleDocument, RuleRead
from balise.core.documents import DocumentError, place_in, read_document
from balise.server.rules.book import RuleBook


def read_text(text: str, rules: RuleBook) -> RuleRead:
    """A rule from its text; or what is wrong with it, by line and column. Nothing is kept."""
    try:
        document = read_document(text, RuleDocument)
    except DocumentError as error:
        return RuleRead(rule=None, problems=error.told())
    found = [(place_in(text, one.field), one.field, one.detail) for one in rules.check_all([document])]
    return RuleRead(rule=document, problems=DocumentError(found).told())
