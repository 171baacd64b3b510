"""Arithmetic on named numbers: `100 * bad / all`. Numbers, names, `+ - * /` and parentheses, and nothing else."""

from __future__ import annotations

import re
from dataclasses import dataclass

_TOKEN = re.compile(r"\s*(?:(\d+(?:\.\d*)?(?:[eE][-+]?\d{1,2})?|\.\d+)|([a-z][a-z0-9_]{0,30})|([-+*/()]))")
DEEPEST = 40


class ArithmeticSlip(ValueError):
    """The text is no arithmetic; the message says where and why."""


@dataclass(frozen=True)
class Operation:
    """Two trees and what is done with them."""

    sign: str
    left: Tree
    right: Tree


Tree = Operation | str | float
"""An operation, the name of a value, or a number."""


class _Reader:
    """Recursive descent: sum of products of factors."""

    def __init__(self, text: str) -> None:
        self._text = text
        self._tokens: list[tuple[str, str, int]] = []
        at = 0
        while at < len(text.rstrip()):
            found = _TOKEN.match(text, at)
            if found is None:
                raise ArithmeticSlip(
                    f"compute: {text[at:].strip()[:12]!r} at character {at + 1} is no arithmetic: "
                    "write numbers, names of values, + - * / and parentheses"
                )
            kind = ("number", "name", "sign")[(found.lastindex or 1) - 1]
            self._tokens.append((kind, found[found.lastindex or 1], found.start(found.lastindex or 1)))
            at = found.end()
        self._next = 0
        self._depth = 0

    def whole(self) -> Tree:
        tree = self._sum()
        if self._next < len(self._tokens):
            raise self._slip("an operator or the end")
        return tree

    def _slip(self, wanted: str) -> ArithmeticSlip:
        if self._next >= len(self._tokens):
            return ArithmeticSlip(f"compute: {wanted} is missing at the end")
        _, text, at = self._tokens[self._next]
        return ArithmeticSlip(f"compute: {text!r} at character {at + 1}, where {wanted} is expected")

    def _peek(self, signs: str) -> str | None:
        if self._next < len(self._tokens):
            kind, text, _ = self._tokens[self._next]
            if kind == "sign" and text in signs:
                return text
        return None

    def _sum(self) -> Tree:
        tree = self._product()
        while (sign := self._peek("+-")) is not None:
            self._next += 1
            tree = Operation(sign, tree, self._product())
        return tree

    def _product(self) -> Tree:
        tree = self._factor()
        while (sign := self._peek("*/")) is not None:
            self._next += 1
            tree = Operation(sign, tree, self._factor())
        return tree

    def _factor(self) -> Tree:
        self._depth += 1
        if self._depth > DEEPEST:
            raise ArithmeticSlip(f"compute: more than {DEEPEST} levels of signs and parentheses")
        try:
            if self._peek("-") is not None:
                self._next += 1
                return Operation("-", 0.0, self._factor())
            if self._peek("(") is not None:
                self._next += 1
                tree = self._sum()
                if self._peek(")") is None:
                    raise self._slip("a closing parenthesis")
                self._next += 1
                return tree
            if self._next >= len(self._tokens) or self._tokens[self._next][0] == "sign":
                raise self._slip("a number, a name or an opening parenthesis")
            kind, text, _ = self._tokens[self._next]
            self._next += 1
            return float(text) if kind == "number" else text
        finally:
            self._depth -= 1


def parse(text: str) -> Tree:
    """The text as a tree. Raises ArithmeticSlip, which says where it is wrong."""
    return _Reader(text).whole()


def names_in(text: str) -> set[str]:
    """The names that a text uses. Raises ArithmeticSlip."""
    return set(_names(parse(text)))


def _names(tree: Tree) -> list[str]:
    if isinstance(tree, Operation):
        return [*_names(tree.left), *_names(tree.right)]
    return [tree] if isinstance(tree, str) else []
