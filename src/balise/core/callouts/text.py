"""Callouts as text, in YAML: written and read."""

from __future__ import annotations

from balise.api.callouts import CalloutDocument, CalloutRead
from balise.core import filters
from balise.core.documents import DocumentError, place_in, read_document, written


def callout_text(document: CalloutDocument) -> str:
    """A callout as a file has it: what is as it would be anyway is left out."""
    said = document.model_dump(mode="json", by_alias=True, exclude_none=True, exclude_defaults=True)
    return written({"callout": document.callout, "when": document.when, **said})


def read_callout(text: str) -> CalloutRead:
    """A callout from its text; or what is wrong with it, by line and column."""
    try:
        callout = read_document(text, CalloutDocument)
        if callout.when.strip():
            filters.parse(callout.when)
    except DocumentError as error:
        return CalloutRead(callout=None, problems=error.told())
    except filters.FilterError as error:
        slip = DocumentError([(place_in(text, "when"), "when", f"when: {error}")])
        return CalloutRead(callout=callout, problems=slip.told())
    return CalloutRead(callout=callout, problems=[])
