"""Rules as text, in YAML: written and read."""

from __future__ import annotations

import yaml

from balise.api.rules import RuleBody
from balise.core.documents import Place, place_of


class _Written(yaml.SafeDumper):
    """Writes texts of several lines as they are read."""


def _as_lines(dumper: yaml.SafeDumper, text: str) -> yaml.Node:
    return dumper.represent_scalar("tag:yaml.org,2002:str", text, style="|" if "\n" in text else None)


_Written.add_representer(str, _as_lines)


def rule_text(name: str, rule: RuleBody) -> str:
    """A rule as a file has it: what is as it would be anyway is left out."""
    said = rule.alone().model_dump(mode="json", exclude_none=True, exclude_defaults=True)
    named = {"rule": name} if name else {}
    document = {**named, "about": rule.about, **said}
    return str(yaml.dump(document, Dumper=_Written, sort_keys=False, allow_unicode=True, width=10_000))


def place_in(text: str, field: str) -> Place:
    """Line and column of a field of a rule that can be read, like `measure.where`."""
    node = yaml.compose(text, Loader=yaml.SafeLoader)
    return place_of(node, field.split(".")) if node is not None else (1, 1)
