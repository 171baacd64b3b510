"""The filter language of RFC 7644 section 3.4.2.2, with dotted attribute names of any depth.

`parse('label.site eq "northquay" and not (severity lt "error")')` gives a tree of plain values that
`matches` evaluates and that the stores translate into SQL.

Two things are fixed here that the RFC leaves to the schema: `eq` and `ne` compare strings exactly while
`co`, `sw` and `ew` ignore case; and an attribute named `severity` is ordered by how severe it is, so that
`severity ge "error"` means error or worse.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from balise.api.events import SEVERITIES

COMPARISONS = ("eq", "ne", "co", "sw", "ew", "gt", "ge", "lt", "le")
MAX_LENGTH = 2000
MAX_DEPTH = 30
MAX_TERMS = 100

Scalar = str | float | bool | None


class FilterError(ValueError):
    """The expression cannot be read; the message says where and what is expected there."""


@dataclass(frozen=True)
class Compare:
    attribute: str
    comparison: str
    value: Scalar


@dataclass(frozen=True)
class Present:
    attribute: str


@dataclass(frozen=True)
class Both:
    left: Filter
    right: Filter


@dataclass(frozen=True)
class Either:
    left: Filter
    right: Filter


@dataclass(frozen=True)
class Negated:
    inner: Filter


Filter = Compare | Present | Both | Either | Negated

_TOKEN = re.compile(
    r"""\s*(?:(?P<paren>[()])
    |(?P<string>"(?:[^"\\]|\\.)*")
    |(?P<number>-?\d+(?:\.\d+)?(?:[eE][-+]?\d+)?(?![\w.]))
    |(?P<word>[A-Za-z_][\w.:/@-]*))""",
    re.VERBOSE,
)


@dataclass(frozen=True)
class _Token:
    kind: str
    text: str
    at: int


def _tokens(text: str) -> Iterator[_Token]:
    at = 0
    while at < len(text.rstrip()):
        match = _TOKEN.match(text, at)
        if not match or match.lastgroup is None:
            raise FilterError(f"cannot read the filter at character {at + 1}: {text[at : at + 20]!r}")
        yield _Token(match.lastgroup, match[match.lastgroup], match.start(match.lastgroup) + 1)
        at = match.end()


class _Reader:
    """Recursive descent: or binds least, then and, then not."""

    def __init__(self, text: str) -> None:
        self._tokens = list(_tokens(text))
        self._at = 0
        self._end = len(text) + 1
        if sum(token.kind == "word" for token in self._tokens) > 3 * MAX_TERMS:
            raise FilterError(f"the filter has more than {MAX_TERMS} terms: split it")

    def whole(self) -> Filter:
        node = self._either(0)
        left = self._peek()
        if left:
            raise FilterError(f"unexpected {left.text!r} at character {left.at}: join terms with and, or")
        return node

    def _peek(self) -> _Token | None:
        return self._tokens[self._at] if self._at < len(self._tokens) else None

    def _next(self, expected: str) -> _Token:
        token = self._peek()
        if token is None:
            raise FilterError(f"the filter ends at character {self._end} where {expected} is expected")
        self._at += 1
        return token

    def _word(self, *words: str) -> bool:
        token = self._peek()
        if token and token.kind == "word" and token.text.lower() in words:
            self._at += 1
            return True
        return False

    def _either(self, depth: int) -> Filter:
        node = self._both(depth)
        while self._word("or"):
            node = Either(node, self._both(depth))
        return node

    def _both(self, depth: int) -> Filter:
        node = self._term(depth)
        while self._word("and"):
            node = Both(node, self._term(depth))
        return node

    def _term(self, depth: int) -> Filter:
        if depth > MAX_DEPTH:
            raise FilterError(f"the filter is nested more than {MAX_DEPTH} deep: write it flatter")
        if self._word("not"):
            return Negated(self._term(depth + 1))
        token = self._next("an attribute name, not or (")
        if token.text == "(":
            node = self._either(depth + 1)
            if self._next("a closing parenthesis").text != ")":
                raise FilterError(f"a closing parenthesis is missing for the one at character {token.at}")
            return node
        if token.kind != "word":
            raise FilterError(f"{token.text!r} at character {token.at} stands where an attribute name is expected")
        return self._comparison(token.text)

    def _comparison(self, attribute: str) -> Filter:
        token = self._next("a comparison such as eq or co")
        comparison = token.text.lower()
        if comparison == "pr":
            return Present(attribute)
        if comparison not in COMPARISONS:
            raise FilterError(
                f"{token.text!r} at character {token.at} is no comparison: use one of {' '.join(COMPARISONS)} pr"
            )
        value = self._value(attribute, comparison)
        if attribute == "severity" and value not in SEVERITIES:
            raise FilterError(f"{value!r} is no severity: use one of {', '.join(SEVERITIES)}")
        return Compare(attribute, comparison, value)

    def _value(self, attribute: str, comparison: str) -> Scalar:
        token = self._next(f'a value after "{attribute} {comparison}"')
        if token.kind == "string":
            try:
                return str(json.loads(token.text))
            except ValueError as error:
                raise FilterError(f"cannot read the string at character {token.at}: {error}") from None
        if token.kind == "number":
            return float(token.text)
        named: dict[str, Scalar] = {"true": True, "false": False, "null": None}
        if token.text in named:
            return named[token.text]
        raise FilterError(f'{token.text!r} at character {token.at} is no value: put text in double quotes, "like this"')


def parse(text: str) -> Filter:
    """The filter as a tree.

    Raises:
        FilterError: with the place in the text and what is expected there.
    """
    if len(text) > MAX_LENGTH:
        raise FilterError(f"the filter is longer than {MAX_LENGTH} characters: split it")
    return _Reader(text).whole()


def severity_rank(name: Any) -> int | None:
    """`severity_rank("error") == 4`: higher is more severe; None for what is no severity."""
    return len(SEVERITIES) - 1 - SEVERITIES.index(name) if name in SEVERITIES else None


def attributes_of(node: Filter) -> set[str]:
    """Every attribute name the filter mentions."""
    if isinstance(node, Compare | Present):
        return {node.attribute}
    if isinstance(node, Negated):
        return attributes_of(node.inner)
    return attributes_of(node.left) | attributes_of(node.right)


def matches(node: Filter, lookup: Callable[[str], Any]) -> bool:
    """Whether a thing, whose attributes `lookup` gives (None when missing), passes the filter.

    An attribute that holds a list passes when one of its members does.
    """
    if isinstance(node, Both):
        return matches(node.left, lookup) and matches(node.right, lookup)
    if isinstance(node, Either):
        return matches(node.left, lookup) or matches(node.right, lookup)
    if isinstance(node, Negated):
        return not matches(node.inner, lookup)
    found = lookup(node.attribute)
    if isinstance(node, Present):
        return found is not None and found != "" and found != []
    if isinstance(found, list | tuple | set | frozenset):
        if node.comparison == "ne":
            return all(_compare(node, member) for member in found)
        return any(_compare(node, member) for member in found)
    return _compare(node, found)


def _compare(node: Compare, found: Any) -> bool:
    wanted: Any = node.value
    if node.attribute == "severity":
        found, wanted = severity_rank(found), severity_rank(wanted)
    elif isinstance(wanted, bool) or isinstance(found, bool):
        found, wanted = _as_word(found), _as_word(wanted)
    elif isinstance(wanted, float):
        found = _as_number(found)
    elif found is not None and wanted is not None:
        found = str(found)
    if node.comparison == "eq":
        return bool(found == wanted)
    if node.comparison == "ne":
        return bool(found != wanted)
    if found is None or wanted is None:
        return False
    if node.comparison in ("co", "sw", "ew"):
        return _text_holds(node.comparison, str(found).lower(), str(wanted).lower())
    return _in_order(node.comparison, found, wanted)


def _text_holds(comparison: str, found: str, wanted: str) -> bool:
    if comparison == "co":
        return wanted in found
    return found.startswith(wanted) if comparison == "sw" else found.endswith(wanted)


def _in_order(comparison: str, found: Any, wanted: Any) -> bool:
    if comparison == "gt":
        return bool(found > wanted)
    if comparison == "ge":
        return bool(found >= wanted)
    return bool(found < wanted) if comparison == "lt" else bool(found <= wanted)


def _as_word(value: Any) -> Any:
    return str(value).lower() if isinstance(value, bool) else value


def _as_number(value: Any) -> float | None:
    try:
        return float(value)
    except (TypeError, ValueError):
        return None
