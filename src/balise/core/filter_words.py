"""A filter told: as a sentence in English with its groups, and as a tree of plain values."""

from __future__ import annotations

from typing import Any

from balise.core.filters import Both, Compare, Either, Filter, Negated, Present, Scalar, fold_name, text_of

_WORDS = {
    "eq": ("is", "is not"),
    "ne": ("is not", "is"),
    "co": ("contains", "does not contain"),
    "sw": ("begins with", "does not begin with"),
    "ew": ("ends with", "does not end with"),
    "gt": ("is more than", "is not more than"),
    "ge": ("is at least", "is not at least"),
    "lt": ("is less than", "is not less than"),
    "le": ("is at most", "is not at most"),
}
_SEVERE = {"gt": "worse than {}", "ge": "{} or worse", "lt": "milder than {}", "le": "{} or milder"}


def sentence_of(node: Filter) -> str:
    """`host begins with “pier-” and (severity is error or worse, or source is not “crew”)`."""
    return _told(node, inside=False)


def tree_of(node: Filter) -> dict[str, Any]:
    """`{"all": […]}`, `{"any": […]}`, `{"not": […]}`, or a condition with its sentence."""
    if isinstance(node, Compare | Present):
        value = node.value if isinstance(node, Compare) else None
        comparison = node.comparison if isinstance(node, Compare) else "pr"
        told = _told(node, inside=True)
        return {"attribute": node.attribute, "comparison": comparison, "value": value, "sentence": told}
    if isinstance(node, Negated):
        return {"not": [tree_of(node.inner)]}
    return {"all" if isinstance(node, Both) else "any": [tree_of(part) for part in _chain(node)]}


def _chain(node: Both | Either) -> list[Filter]:
    """What one kind of word joins, in the order it was written: a and (b and c) is one chain of three."""
    kind = type(node)
    found: list[Filter] = []
    todo: list[Filter] = [node]
    while todo:
        one = todo.pop()
        if isinstance(one, Both | Either) and isinstance(one, kind):
            todo += [one.right, one.left]
        else:
            found.append(one)
    return found


def _told(node: Filter, *, inside: bool, denied: bool = False) -> str:
    if isinstance(node, Negated):
        if isinstance(node.inner, Compare | Present | Negated):
            return _told(node.inner, inside=inside, denied=not denied)
        return _told(node.inner, inside=True) if denied else f"not {_told(node.inner, inside=True)}"
    if isinstance(node, Present):
        return f"{node.attribute} {'is missing' if denied else 'is there'}"
    if isinstance(node, Compare):
        return _condition(node, denied=denied)
    word = " and " if isinstance(node, Both) else " or "
    parts = [_told(part, inside=True) for part in _chain(node)]
    # A comma before the last word keeps a group apart from what it is joined with.
    told = word.join(parts) if len(parts) == 2 else f"{', '.join(parts[:-1])},{word}{parts[-1]}"
    return f"({told})" if inside else told


def _condition(one: Compare, *, denied: bool) -> str:
    name = one.attribute
    if one.value is None:
        there = (one.comparison == "ne") != denied if one.comparison in ("eq", "ne") else None
        return (
            f"nothing passes {name} {one.comparison} null"
            if there is None
            else (f"{name} is there" if there else f"{name} is missing")
        )
    if fold_name(name) == "severity" and one.comparison in _SEVERE:
        return f"{name} is {'not ' if denied else ''}{_SEVERE[one.comparison].format(one.value)}"
    return f"{name} {_WORDS[one.comparison][denied]} {_value(name, one.value)}"


def _value(name: str, value: Scalar) -> str:
    if isinstance(value, str) and fold_name(name) != "severity":
        return f"“{value}”"
    return text_of(value)
