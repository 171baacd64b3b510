"""Rules as files: reading them with line and column, writing them, and how they differ from those at work."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

from balise.api.rules import RuleDocument
from balise.cli.errors import CommandError

SUFFIXES = (".yaml", ".yml", ".json")
MOST_BYTES = 2_000_000


def read_rules(paths: Sequence[Path]) -> list[tuple[Path, RuleDocument]]:
    """The rules of files, and of all files of folders.

    Raises:
        CommandError: with file, line and column of everything that is wrong; a name that comes twice is.
    """
    from balise.core.documents import DocumentError, read_documents

    found: list[tuple[Path, RuleDocument]] = []
    problems: list[str] = []
    for path in _files(paths):
        try:
            documents = read_documents(_text_of(path), RuleDocument)
        except DocumentError as error:
            problems += [
                f"{path}, line {line}, column {column}: {detail}" for (line, column), _, detail in error.problems
            ]
            continue
        for document in documents:
            if document.rule is None:
                problems.append(f"{path}: a rule in a file needs its name: rule: NAME")
            found.append((path, document))
    seen: dict[str, Path] = {}
    for path, document in found:
        if document.rule in seen:
            problems.append(f"{path}: the rule {document.rule} is in {seen[document.rule]} as well")
        seen[document.rule or ""] = path
    if problems:
        raise CommandError("\n".join(problems[:50]))
    return found


def _files(paths: Sequence[Path]) -> list[Path]:
    found: list[Path] = []
    for path in paths:
        if path.is_dir():
            found += sorted(one for one in path.iterdir() if one.suffix in SUFFIXES)
        else:
            found.append(path)
    return found


def _text_of(path: Path) -> str:
    try:
        if path.stat().st_size > MOST_BYTES:
            raise CommandError(f"{path}: larger than {MOST_BYTES // 1_000_000} MB: split it")
        return path.read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise CommandError(f"{path}: {error}") from None


def file_name(rule: str) -> str:
    return "".join(c if c.isalnum() or c in "._-" else "-" for c in rule) + ".yaml"
