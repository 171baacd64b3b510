"""The filter language of RFC 7644 section 3.4.2.2, with dotted attribute names of any depth.

`parse('label.site eq "northquay" and not (severity lt "error")')` gives a tree of plain values that
`matches` evaluates and that the stores translate into SQL.

What the RFC leaves to the schema is fixed here, by the table in docs/rules.md: `eq` and `ne` compare text exactly while
`co`, `sw` and `ew` ignore case; text and number match only where the text is that number; a list matches if a member
does; names of attributes ignore case; and `severity` is ordered by how severe it is, so that `severity ge "error"`
means error or worse.
"""

from __future__ import annotations

import json
import math
import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import Any

from balise.api.events import SEVERITIES

COMPARISONS = ("eq", "ne", "co", "sw", "ew", "gt", "ge", "lt", "le")
OPERATORS = (*COMPARISONS, "pr")
SEVERITY_OPERATORS = ("eq", "ne", "gt", "ge", "lt", "le", "pr")
VALUES = ('"text"', "number", "true", "false", "null")
TERM = ("an attribute name", "not", "(")
MAX_LENGTH = 4100
"""Two filters of 2,000 characters, joined."""
MAX_DEPTH = 30
MAX_TERMS = 100

Scalar = str | float | bool | None


class FilterError(ValueError):
    """The expression cannot be read. `at` is the place, in characters from 1; `expected` what could stand there."""

    def __init__(self, message: str, at: int = 1, expected: Sequence[str] = ()) -> None:
        super().__init__(message)
        self.at = at
        self.expected = tuple(expected)


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


_LONE = re.compile("[\ud800-\udfff]")
_NUMBER = re.compile(r"[-+]?\d+(?:\.\d+)?(?:[eE][-+]?\d+)?", re.ASCII)
_CAPITALS = str.maketrans("ABCDEFGHIJKLMNOPQRSTUVWXYZ", "abcdefghijklmnopqrstuvwxyz")


@dataclass(frozen=True)
class _Token:
    kind: str
    text: str
    at: int


def _tokens(text: str) -> Iterator[_Token]:
    """The words of a filter; what cannot be read is the last of them, so that whoever meets it says what should be."""
    at = 0
    while at < len(text.rstrip()):
        match = _TOKEN.match(text, at)
        if not match or match.lastgroup is None:
            at = len(text) - len(text[at:].lstrip())
            yield _Token("unreadable", text[at:], at + 1)
            return
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
            self._check_readable(left, ("and", "or"))
            words = f"unexpected {left.text!r} at character {left.at}: join terms with and, or"
            raise FilterError(words, left.at, ("and", "or"))
        return node

    def _peek(self) -> _Token | None:
        return self._tokens[self._at] if self._at < len(self._tokens) else None

    def _next(self, expected: str, choices: Sequence[str]) -> _Token:
        token = self._peek()
        if token is None:
            words = f"the filter ends at character {self._end} where {expected} is expected"
            raise FilterError(words, self._end, choices)
        self._check_readable(token, choices)
        self._at += 1
        return token

    @staticmethod
    def _check_readable(token: _Token, choices: Sequence[str]) -> None:
        if token.kind != "unreadable":
            return
        words = f"cannot read the filter at character {token.at}: {token.text[:20]!r}"
        if token.text.startswith('"'):
            words = f"the text that begins at character {token.at} does not end: close it with a double quote"
        raise FilterError(words, token.at, choices)

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
        token = self._next("an attribute name, not or (", TERM)
        if token.text == "(":
            node = self._either(depth + 1)
            end = self._next("a closing parenthesis", (")", "and", "or"))
            if end.text != ")":
                words = f"a closing parenthesis is missing for the one at character {token.at}"
                raise FilterError(words, end.at, (")", "and", "or"))
            return node
        if token.kind != "word":
            words = f"{token.text!r} at character {token.at} stands where an attribute name is expected"
            raise FilterError(words, token.at, TERM)
        return self._comparison(token.text)

    def _comparison(self, attribute: str) -> Filter:
        severe = fold_name(attribute) == "severity"
        choices = SEVERITY_OPERATORS if severe else OPERATORS
        token = self._next("a comparison such as eq or co", choices)
        comparison = token.text.lower()
        if comparison == "pr":
            return Present(attribute)
        if comparison not in COMPARISONS:
            words = f"{token.text!r} at character {token.at} is no comparison: use one of {' '.join(choices)}"
            raise FilterError(words, token.at, choices)
        if comparison not in choices:
            words = f"severity cannot be compared with {comparison}: use {' '.join(SEVERITY_OPERATORS)}"
            raise FilterError(words, token.at, choices)
        values = tuple(f'"{name}"' for name in SEVERITIES) if severe else VALUES
        word = self._next(f'a value after "{attribute} {comparison}"', values)
        value = self._value(word, values)
        if severe and value not in SEVERITIES:
            raise FilterError(f"{value!r} is no severity: use one of {', '.join(SEVERITIES)}", word.at, values)
        return Compare(attribute, comparison, value)

    @staticmethod
    def _value(token: _Token, choices: Sequence[str]) -> Scalar:
        if token.kind == "string":
            try:
                value = str(json.loads(token.text))
            except ValueError as error:
                raise FilterError(f"cannot read the string at character {token.at}: {error}", token.at) from None
            if _LONE.search(value):
                words = f"the string at character {token.at} holds half of a character (a lone surrogate)"
                raise FilterError(words, token.at)
            return value
        if token.kind == "number":
            number = float(token.text)
            if math.isinf(number):
                raise FilterError(f"the number at character {token.at} is too large", token.at)
            return number
        named: dict[str, Scalar] = {"true": True, "false": False, "null": None}
        if token.text in named:
            return named[token.text]
        words = f'{token.text!r} at character {token.at} is no value: put text in double quotes, "like this"'
        raise FilterError(words, token.at, choices)


def parse(text: str) -> Filter:
    """The filter as a tree.

    Raises:
        FilterError: with the place in the text and what is expected there.
    """
    if len(text) > MAX_LENGTH:
        raise FilterError(f"the filter is longer than {MAX_LENGTH} characters: split it")
    if _LONE.search(text):
        raise FilterError("the filter holds half of a character (a lone surrogate): write it whole")
    return _Reader(text).whole()


def severity_rank(name: Any) -> int | None:
    """`severity_rank("error") == 4`: higher is more severe; None for what is no severity."""
    return len(SEVERITIES) - 1 - SEVERITIES.index(name) if name in SEVERITIES else None


def attributes_of(node: Filter) -> set[str]:
    """Every attribute name the filter mentions, as `fold_name` gives it."""
    if isinstance(node, Compare | Present):
        return {fold_name(node.attribute)}
    if isinstance(node, Negated):
        return attributes_of(node.inner)
    return attributes_of(node.left) | attributes_of(node.right)


MEMBER_OF = ("group", "site", "application")
"""What a host belongs to; there may be several of each."""


def is_of_host(name: str) -> bool:
    """Whether a folded name means something of the host, whatever else has it: where it belongs, or a label."""
    return name in MEMBER_OF or name.startswith("label.")


def fold_name(name: str) -> str:
    """The name of an attribute as it is compared: its ASCII letters small."""
    return name.translate(_CAPITALS)


def by_name(pairs: Iterable[tuple[str, Any]]) -> dict[str, Any]:
    """Attributes by `fold_name`; those whose names differ in case alone are a list together."""
    found: dict[str, Any] = {}
    for name, value in pairs:
        folded = fold_name(name)
        if folded in found:
            held = found[folded]
            found[folded] = [
                *(held if isinstance(held, list) else [held]),
                *(value if isinstance(value, list) else [value]),
            ]
        else:
            found[folded] = value
    return found


def matches(node: Filter, lookup: Callable[[str], Any]) -> bool:
    """Whether a thing passes the filter.

    `lookup` gives what an attribute holds, by its name as `fold_name` gives it: text, a number, a bool, a list of
    those, or None when it is missing.
    """
    if isinstance(node, Both):
        return matches(node.left, lookup) and matches(node.right, lookup)
    if isinstance(node, Either):
        return matches(node.left, lookup) or matches(node.right, lookup)
    if isinstance(node, Negated):
        return not matches(node.inner, lookup)
    name = fold_name(node.attribute)
    if isinstance(node, Present):
        return is_present(lookup(name))
    if node.comparison == "ne":
        return not passes(name, "eq", node.value, lookup(name))
    return passes(name, node.comparison, node.value, lookup(name))


def is_present(found: Any) -> bool:
    """Whether an attribute has a value: not missing, no empty text, no empty list."""
    if isinstance(found, list | tuple | set | frozenset):
        return any(is_present(member) for member in found)
    return found is not None and found != ""


def passes(name: str, comparison: str, wanted: Scalar, found: Any) -> bool:
    """One comparison, but for `ne`, on what an attribute holds; of a list a member has to pass."""
    if wanted is None:
        return comparison == "eq" and not is_present(found)
    if isinstance(found, list | tuple | set | frozenset):
        return any(passes(name, comparison, wanted, member) for member in found)
    if found is None:
        return False
    if name == "severity":
        one, other = severity_rank(found), severity_rank(wanted)
        return one is not None and other is not None and _in_order(comparison, one, other)
    if comparison in ("co", "sw", "ew"):
        return _text_holds(comparison, text_of(found).casefold(), text_of(wanted).casefold())
    if isinstance(wanted, bool) or isinstance(found, bool):
        return comparison == "eq" and text_of(found) == text_of(wanted)
    if isinstance(wanted, int | float) or isinstance(found, int | float):
        number, limit = number_of(found), number_of(wanted)
        return number is not None and limit is not None and _in_order(comparison, number, limit)
    return _in_order(comparison, text_of(found), wanted)


def text_of(value: Any) -> str:
    """A value as the text it is compared by: `true`, `3`, `0.5`."""
    if isinstance(value, bool):
        return "true" if value else "false"
    if isinstance(value, float) and value.is_integer() and abs(value) < 1e15:
        return str(int(value))
    return value if isinstance(value, str) else str(value)


def number_of(value: Any) -> float | None:
    """The number that a value is, or that its text says; None when it is none."""
    if isinstance(value, str) and not _NUMBER.fullmatch(value):
        return None
    try:
        number = float(value)
    except (TypeError, ValueError, OverflowError):
        return None
    return number if math.isfinite(number) else None


def _text_holds(comparison: str, found: str, wanted: str) -> bool:
    if comparison == "co":
        return wanted in found
    return found.startswith(wanted) if comparison == "sw" else found.endswith(wanted)


def _in_order(comparison: str, found: Any, wanted: Any) -> bool:
    if comparison == "eq":
        return bool(found == wanted)
    if comparison == "gt":
        return bool(found > wanted)
    if comparison == "ge":
        return bool(found >= wanted)
    return bool(found < wanted) if comparison == "lt" else bool(found <= wanted)
