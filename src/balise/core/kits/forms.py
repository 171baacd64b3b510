"""Texts as rows: what services answer over HTTP, on sockets and as output of commands."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable, Mapping
from typing import Any

import regex
from jsonpath_rfc9535 import JSONPathEnvironment, JSONPathError

from balise.core.kits.openmetrics import OpenMetricsError, samples
from balise.core.kits.special import SpecialFormError, beans, mail_queue, mail_reasons

MOST_ROWS = 2000
MOST_DEEP = 60
PATTERN_SECONDS = 0.5
"""How long a kit's pattern may take over a text, so that a careless one never stands still."""
_PATHS = JSONPathEnvironment()


class FormError(ValueError):
    """A text that does not have the form a kit expects, in words."""


def rows_of(text: str, ask: Mapping[str, Any]) -> list[dict[str, Any]]:
    """A text as rows, in the form that a question names.

    `form` is `pairs` (a `key: value` or `key=value` on each line, one row; `between` is the separator), `csv`
    (a heading, then rows), `json` (`rows` is a JSONPath of RFC 9535, `columns` names what is taken of each; one
    object a line with `lines`), `pattern` (each match of the regular expression, with its named groups), `openmetrics`
    or `text` (one row with the column `text`), and those of `special`.

    Raises:
        FormError: the text has another form.
    """
    form = str(ask.get("form") or "text")
    read = _FORMS.get(form)
    if read is None:
        raise FormError(f"there is no form {form!r}; there are {', '.join(_FORMS)}")
    return read(text, ask)[:MOST_ROWS]


def _pairs(text: str, ask: Mapping[str, Any]) -> list[dict[str, Any]]:
    between = str(ask.get("between") or ":")
    found: dict[str, Any] = {}
    for line in text.splitlines()[: 10 * MOST_ROWS]:
        key, there, value = line.partition(between)
        if there and key.strip() and not key.startswith("#"):
            found[key.strip()] = value.strip()
    if not found:
        raise FormError(f"no line of the answer has the form key{between}value: {text[:80]!r}")
    return [found]


def _csv(text: str, ask: Mapping[str, Any]) -> list[dict[str, Any]]:
    text = text.lstrip("# \n")
    reader = csv.DictReader(io.StringIO(text), delimiter=str(ask.get("delimiter") or ","))
    try:
        rows = [{k: v for k, v in row.items() if isinstance(k, str)} for _, row in zip(range(MOST_ROWS), reader)]  # noqa: B905
    except csv.Error as error:
        raise FormError(f"this is no CSV: {error}") from None
    if not reader.fieldnames or len(reader.fieldnames) < 2:
        raise FormError(f"this is no CSV with a heading: {text[:80]!r}")
    return rows


def _json(text: str, ask: Mapping[str, Any]) -> list[dict[str, Any]]:
    if ask.get("lines"):
        held: Any = [_decoded(line) for line in text.splitlines() if line.strip()]
    else:
        held = _decoded(text)
    nodes = select(held, str(ask["rows"])) if ask.get("rows") else held if isinstance(held, list) else [held]
    columns = ask.get("columns")
    out = []
    for node in nodes[:MOST_ROWS]:
        if isinstance(columns, Mapping):
            out.append({name: at_path(node, held, str(path)) for name, path in columns.items()})
        elif isinstance(node, Mapping):
            out.append(flat(node))
        else:
            out.append({"value": node})
    return out


def _decoded(text: str) -> Any:
    try:
        return json.loads(text)
    except (ValueError, RecursionError) as error:
        raise FormError(f"this is no JSON: {str(error)[:100]}") from None


def select(held: Any, path: str) -> list[Any]:
    """What a JSONPath (RFC 9535) finds. Raises FormError for a path that cannot be read."""
    try:
        return [node.value for node in _PATHS.find(path, held)]
    except (JSONPathError, RecursionError) as error:
        raise FormError(f"the JSONPath {path[:100]!r}: {str(error)[:200]}") from None


def at_path(node: Any, whole: Any, path: str) -> Any:
    """One value of a row: `a.b` from the row, a JSONPath with `$` from the whole text, `@` the row itself."""
    if path == "@":
        return node
    if path.startswith("$"):
        return next(iter(select(whole, path)), None)
    for key in path.split("."):
        if isinstance(node, Mapping):
            node = node.get(key)
        elif isinstance(node, list) and key.isdecimal() and int(key) < len(node):
            node = node[int(key)]
        else:
            return None
    return len(node) if isinstance(node, list) else None if isinstance(node, Mapping) else node


def flat(node: Mapping[str, Any], before: str = "", deep: int = 0) -> dict[str, Any]:
    """Nested objects as one row: `{"a": {"b": 1}}` gives `a.b`. Lists are left out."""
    found: dict[str, Any] = {}
    for key, value in node.items():
        if len(found) >= MOST_ROWS or deep > MOST_DEEP:
            break
        if isinstance(value, Mapping):
            found.update(flat(value, f"{before}{key}.", deep + 1))
        elif not isinstance(value, list):
            found[f"{before}{key}"] = value
    return found


def compiled(pattern: str) -> regex.Pattern[str]:
    """Raises FormError for a pattern that is none."""
    try:
        return regex.compile(pattern, regex.MULTILINE)
    except (regex.error, RecursionError) as error:
        raise FormError(f"the pattern cannot be read: {str(error)[:200]}") from None


def _pattern(text: str, ask: Mapping[str, Any]) -> list[dict[str, Any]]:
    found = []
    try:
        for match in compiled(str(ask.get("pattern") or "")).finditer(text, timeout=PATTERN_SECONDS):
            found.append(match.groupdict())
            if len(found) >= MOST_ROWS:
                break
    except TimeoutError:
        raise FormError("the pattern takes too long over this answer: make it plainer") from None
    if not found and not ask.get("empty"):
        raise FormError(f"the answer is another than expected: {' '.join(text[:100].split())!r}")
    return found


def _openmetrics(text: str, ask: Mapping[str, Any]) -> list[dict[str, Any]]:
    try:
        return samples(text, whole=str(ask.get("content-type") or "").startswith("application/openmetrics-text"))
    except OpenMetricsError as error:
        raise FormError(str(error)) from None


def _text(text: str, _ask: Mapping[str, Any]) -> list[dict[str, Any]]:
    return [{"text": text.strip()[:4000]}]


def _special(read: Callable[..., list[dict[str, Any]]], *words: Any) -> list[dict[str, Any]]:
    try:
        return read(*words)
    except SpecialFormError as error:
        raise FormError(str(error)) from None


_FORMS: dict[str, Callable[[str, Mapping[str, Any]], list[dict[str, Any]]]] = {
    "pairs": _pairs,
    "csv": _csv,
    "json": _json,
    "pattern": _pattern,
    "openmetrics": _openmetrics,
    "text": _text,
    "beans": lambda text, _ask: _special(beans, text),
    "queue": lambda text, ask: _special(mail_queue, text, float(ask["now"])),
    "queue-reasons": lambda text, _ask: _special(mail_reasons, text),
}
