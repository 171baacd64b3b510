"""Rules as text, in YAML: written and read."""

from __future__ import annotations

from balise.api.rules import RuleBody
from balise.core.documents import written


def rule_text(name: str, rule: RuleBody) -> str:
    """A rule as a file has it: what is as it would be anyway is left out."""
    said = rule.alone().model_dump(mode="json", exclude_none=True, exclude_defaults=True)
    named = {"rule": name} if name else {}
    document = {**named, "about": rule.about, **said}
    return written(document)
