"""Reading YAML documents so that every complaint can name its line and column."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import pairwise
from typing import Any, TypeVar

import yaml
from pydantic import BaseModel, ValidationError

from balise.api.problems import DocumentProblem, message_of

M = TypeVar("M", bound=BaseModel)
MOST_DEPTH = 30
LOADER: Any = getattr(yaml, "CSafeLoader", yaml.SafeLoader)
"""The loader in C where the library was built with it: it is ten times as fast."""
Place = tuple[int, int]
"""Line and column, both from 1."""


class DocumentError(ValueError):
    """A document that cannot be read: where, which field, and what is wrong."""

    def __init__(self, problems: Sequence[tuple[Place, str, str]]) -> None:
        super().__init__("; ".join(f"line {p[0]}, column {p[1]}: {detail}" for p, _, detail in problems))
        self.problems = list(problems)

    def told(self) -> list[DocumentProblem]:
        """What is wrong, as it is answered."""
        return [DocumentProblem(line=p[0], column=p[1], field=f, detail=detail) for p, f, detail in self.problems]


def read_document(text: str, model: type[M]) -> M:
    """A document as a model.

    Raises:
        DocumentError: it is no YAML, has an alias (which could stand for gigabytes), or does not fit the model.
    """
    node = _composed(text)
    try:
        value = yaml.load(text, Loader=LOADER)  # noqa: S506  one of the safe loaders
        return model.model_validate(value)
    except ValidationError as error:
        raise DocumentError([_problem(node, e) for e in error.errors()[:20]]) from None
    except (yaml.YAMLError, ValueError, RecursionError) as error:
        raise DocumentError([((1, 1), "", f"this cannot be read: {str(error)[:200]}")]) from None


def read_documents(text: str, model: type[M]) -> list[M]:
    """The documents of a text that may have several, each a mapping or a list of mappings.

    Raises:
        DocumentError: as `read_document`, with places in the whole text.
    """
    found: list[M] = []
    problems: list[tuple[Place, str, str]] = []
    for first, part in _parts(text):
        try:
            found.append(read_document(part, model))
        except DocumentError as error:
            problems += [((line + first, column), field, detail) for (line, column), field, detail in error.problems]
    if problems:
        raise DocumentError(problems)
    return found


def _parts(text: str) -> Iterator[tuple[int, str]]:
    """The documents of a text, and the members of those that are lists: how many lines are before each, and its text,
    with as many blanks before its first line as there were characters."""
    lines = text.split("\n")
    starts = [0, *(number + 1 for number, line in enumerate(lines) if line.rstrip() == "---"), len(lines) + 1]
    for start, end in pairwise(starts):
        part = "\n".join(lines[start : end - 1])
        node = _composed_any(part, start)
        if isinstance(node, yaml.SequenceNode):
            for item in node.value:
                begin, stop = item.start_mark, item.end_mark
                yield start + begin.line, " " * begin.column + part[begin.index : stop.index]
        elif node is not None:
            yield start, part


def _composed_any(part: str, start: int) -> yaml.Node | None:
    """Raises DocumentError with its place in the whole text."""
    try:
        return yaml.compose(part, Loader=yaml.SafeLoader)
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark
        place = (start + mark.line + 1, mark.column + 1) if mark else (start + 1, 1)
        raise DocumentError([(place, "", f"this is no YAML: {error.problem or 'unreadable'}")]) from None
    except yaml.YAMLError as error:
        raise DocumentError([((start + 1, 1), "", f"this is no YAML: {str(error)[:200]}")]) from None


def _composed(text: str) -> yaml.Node:
    try:
        depth = 0
        for event in yaml.parse(text, Loader=LOADER):
            place = (event.start_mark.line + 1, event.start_mark.column + 1) if event.start_mark else (1, 1)
            if isinstance(event, yaml.AliasEvent):
                raise DocumentError([(place, "", "aliases (*name) are not allowed: write it out")])
            depth += isinstance(event, yaml.CollectionStartEvent) - isinstance(event, yaml.CollectionEndEvent)
            if depth > MOST_DEPTH:
                raise DocumentError([(place, "", "it is nested too deep")])
        node = yaml.compose(text, Loader=LOADER)
    except yaml.MarkedYAMLError as error:
        mark = error.problem_mark
        place = (mark.line + 1, mark.column + 1) if mark else (1, 1)
        raise DocumentError([(place, "", f"this is no YAML: {error.problem or 'unreadable'}")]) from None
    except yaml.YAMLError as error:
        raise DocumentError([((1, 1), "", f"this is no YAML: {str(error)[:200]}")]) from None
    if not isinstance(node, yaml.MappingNode):
        raise DocumentError([((1, 1), "", "a document is a list of keys and values: key: value")])
    return node


def _problem(node: yaml.Node, error: Any) -> tuple[Place, str, str]:
    path = [part for part in error["loc"] if not (isinstance(part, str) and part in ("bool", "CollectorPlan"))]
    field = ".".join("for" if part == "for_" else str(part) for part in path)
    detail = message_of(error)
    if error["type"] == "extra_forbidden":
        detail = "there is no such key here"
    elif error["type"] == "missing":
        detail = "is missing"
    return place_of(node, path), field, f"{field}: {detail}" if field else detail


def written(document: Mapping[str, Any]) -> str:
    """A document in YAML, in the order of its keys.

    >>> print(written({"rule": "ramp", "advice": "Look.\\nThen ask."}), end="")
    rule: ramp
    advice: |-
      Look.
      Then ask.
    """
    return str(yaml.dump(dict(document), Dumper=_Written, sort_keys=False, allow_unicode=True, width=10_000))


class _Written(yaml.SafeDumper):
    """Writes texts of several lines as they are read."""


def _as_lines(dumper: yaml.SafeDumper, text: str) -> yaml.Node:
    return dumper.represent_scalar("tag:yaml.org,2002:str", text, style="|" if "\n" in text else None)


_Written.add_representer(str, _as_lines)


def place_in(text: str, field: str) -> Place:
    """Line and column of a field of a document that can be read, like `measure.where` or `steps.0.tell`."""
    node = yaml.compose(text, Loader=yaml.SafeLoader)
    path = [int(part) if part.isdecimal() else part for part in field.split(".")]
    return place_of(node, path) if node is not None else (1, 1)


def place_of(node: yaml.Node, path: Sequence[Any]) -> Place:
    """Where in the text a path of keys and positions leads; as far as it goes, at the key itself."""
    mark = node.start_mark
    for part in path:
        if isinstance(node, yaml.MappingNode) and part == 0:
            # A list of one that was written without its dash.
            continue
        if isinstance(node, yaml.MappingNode):
            pair = next(((k, v) for k, v in node.value if k.value == str(part)), None)
            if pair is None:
                break
            mark, node = pair[0].start_mark, pair[1]
        elif isinstance(node, yaml.SequenceNode) and isinstance(part, int) and part < len(node.value):
            node = node.value[part]
            mark = node.start_mark
        else:
            break
    return mark.line + 1, mark.column + 1
