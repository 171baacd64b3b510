"""Bodies of one's own, by Jinja2 templates in a sandbox: they read what is told, and reach nothing else."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from jinja2 import TemplateError, nodes
from jinja2.exceptions import SecurityError
from jinja2.sandbox import ImmutableSandboxedEnvironment

LONGEST_BODY = 100_000
DEEPEST_LOOP, MOST_FILTERS = 3, 6
_REFUSED: dict[type[nodes.Node], str] = {
    nodes.Call: "calls",
    nodes.Macro: "macros",
    nodes.CallBlock: "macros",
    nodes.Assign: "set",
    nodes.AssignBlock: "set",
    nodes.With: "with",
    nodes.Include: "include",
    nodes.Import: "import",
    nodes.FromImport: "import",
    nodes.Extends: "extends",
}
"""What makes much of little, or reaches elsewhere: what is told can be put into a body without."""


class BadTemplate(ValueError):
    """A template that cannot be used; the message says where and why."""


class _Sandbox(ImmutableSandboxedEnvironment):
    """As the sandbox of the library; sums and products are of numbers alone."""

    intercepted_binops = frozenset({"+", "*", "**", "%"})

    def call_binop(self, context: Any, operator: str, left: Any, right: Any) -> Any:
        numbers = isinstance(left, int | float) and isinstance(right, int | float)
        if operator == "**" or not numbers:
            raise SecurityError(f"{operator} is for numbers alone here, ~ puts texts together")
        return super().call_binop(context, operator, left, right)


def _replace(text: object, old: str, new: str) -> str:
    made = str(text)
    if old and len(made) + made.count(old) * len(new) > LONGEST_BODY:
        raise SecurityError("replace makes too much of it")
    return made.replace(old, new) if old else made


_ENVIRONMENT = _Sandbox(autoescape=False)
_ENVIRONMENT.globals.clear()
for _name in ("center", "indent", "wordwrap", "format", "pprint", "xmlattr", "urlize", "slice", "batch"):
    _ENVIRONMENT.filters.pop(_name, None)
_ENVIRONMENT.filters["replace"] = _replace


def filled(template: str, values: Mapping[str, Any]) -> str:
    """A template with its values put in.

    Raises:
        BadTemplate: it cannot be read, asks for what is not there, or makes more than a body may have.
    """
    checked(template)
    try:
        parts: list[str] = []
        size = 0
        for part in _ENVIRONMENT.from_string(template).generate(**values):
            size += len(part)
            if size > LONGEST_BODY:
                raise BadTemplate(f"the template makes more than {LONGEST_BODY} characters")
            parts.append(part)
    except TemplateError as error:
        raise BadTemplate(_words(error)) from None
    except BadTemplate:
        raise
    except (TypeError, ValueError, ArithmeticError, AttributeError, LookupError, RecursionError) as error:
        raise BadTemplate(f"{type(error).__name__}: {error}"[:300]) from None
    return "".join(parts)


def checked(template: str) -> None:
    """Raises BadTemplate for one that cannot be read, or has what a body does not need."""
    try:
        tree = _ENVIRONMENT.parse(template)
        _check(tree, 0, 0)
        _ENVIRONMENT.compile(template)
    except TemplateError as error:
        raise BadTemplate(_words(error)) from None
    except RecursionError:
        raise BadTemplate("the template is nested too deeply") from None


def _check(node: nodes.Node, loops: int, filters: int) -> None:
    refused = next((word for kind, word in _REFUSED.items() if isinstance(node, kind)), None)
    if refused is not None:
        raise BadTemplate(f"line {node.lineno}: {refused} cannot be used here")
    loops += isinstance(node, nodes.For)
    if loops > DEEPEST_LOOP:
        raise BadTemplate(f"line {node.lineno}: at most {DEEPEST_LOOP} loops in one another")
    filters = filters + 1 if isinstance(node, nodes.Filter) else filters
    if filters > MOST_FILTERS:
        raise BadTemplate(f"line {node.lineno}: at most {MOST_FILTERS} filters in one another")
    for child in node.iter_child_nodes():
        _check(child, loops, filters)


def _words(error: TemplateError) -> str:
    line = getattr(error, "lineno", None)
    return f"{f'line {line}: ' if line else ''}{error.message or type(error).__name__}"[:300]
