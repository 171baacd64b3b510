"""Variables in filters: `host eq "$host"` holds for whatever was chosen as the host."""

from __future__ import annotations

import json
import re
from collections.abc import Mapping, Sequence

from balise.core.filters import Both, Compare, Either, Filter, Negated, Present, Scalar, parse

_NAME = re.compile(r"\$([a-z][a-z0-9_]{0,30})")
Chosen = Mapping[str, Sequence[str]]
"""By variable what was chosen; nothing for all."""


def variables_in(where: str | None) -> set[str]:
    """The variables that a filter names. Raises FilterError when it cannot be read."""
    return _names(parse(where)) if where and where.strip() else set()


def filled(where: str | None, chosen: Chosen) -> str | None:
    """A filter with what was chosen in the place of its variables; None when nothing is left of it.

    A condition on a variable for which nothing was chosen holds for all, whether it is denied or not. Where several
    were chosen one of them is enough. Raises FilterError when the filter cannot be read.

    >>> filled('host eq "$host" and site eq "$site"', {"host": ["a", "b"], "site": []})
    '(host eq "a" or host eq "b")'
    """
    if not where or not where.strip():
        return None
    node = _filled(parse(where), chosen)
    return None if node is None else written_filter(node)


def written_filter(node: Filter) -> str:
    """A filter as text, which reads as the same filter."""
    if isinstance(node, Both | Either):
        joined = "and" if isinstance(node, Both) else "or"
        return f"({written_filter(node.left)} {joined} {written_filter(node.right)})"
    if isinstance(node, Negated):
        return f"not ({written_filter(node.inner)})"
    if isinstance(node, Present):
        return f"{node.attribute} pr"
    return f"{node.attribute} {node.comparison} {_value(node.value)}"


def _value(value: Scalar) -> str:
    if isinstance(value, float) and value == int(value) and abs(value) < 1e15:
        return str(int(value))
    return json.dumps(value, ensure_ascii=False)


def _names(node: Filter) -> set[str]:
    if isinstance(node, Both | Either):
        return _names(node.left) | _names(node.right)
    if isinstance(node, Negated):
        return _names(node.inner)
    if isinstance(node, Compare) and isinstance(node.value, str):
        return set(_NAME.findall(node.value))
    return set()


def _filled(node: Filter, chosen: Chosen) -> Filter | None:
    """None where it holds for all."""
    if isinstance(node, Both):
        left, right = _filled(node.left, chosen), _filled(node.right, chosen)
        return left if right is None else right if left is None else Both(left, right)
    if isinstance(node, Either):
        left, right = _filled(node.left, chosen), _filled(node.right, chosen)
        return None if left is None or right is None else Either(left, right)
    if isinstance(node, Negated):
        inner = _filled(node.inner, chosen)
        return None if inner is None else Negated(inner)
    names = _names(node)
    if not names or not isinstance(node, Compare):
        return node
    if not all(chosen.get(name) for name in names):
        return None
    texts = [str(node.value)]
    for name in sorted(names):
        texts = [text.replace(f"${name}", value) for text in texts for value in chosen[name]]
    found: Filter = Compare(node.attribute, node.comparison, texts[0])
    for text in texts[1:]:
        other = Compare(node.attribute, node.comparison, text)
        # Of what is to be none of them all have to hold.
        found = Both(found, other) if node.comparison == "ne" else Either(found, other)
    return found
