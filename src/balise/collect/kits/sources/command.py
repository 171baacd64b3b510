"""A command on the service's own host."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from balise.api.credentials import CredentialBody
from balise.api.kits import Target
from balise.collect.kits.sources.rows import as_rows
from balise.collect.kits.sources.running import Here
from balise.collect.kits.sources.source import Hand, Rows, SourceProblem, filled


class CommandSource:
    """A question's `run`, a program and its words, never a shell; fields of the target stand in single words.

    A word that is nothing but a field with no value is left out.
    """

    def __init__(
        self, target: Target, credential: CredentialBody | None, time_limit: float, hand: Hand | None = None
    ) -> None:
        del credential
        self._target = target
        self._limit = time_limit
        self._hand = hand or Here()

    def ask(self, question: Mapping[str, Any]) -> Rows:
        words = command_words(question.get("run") or [], self._target)
        if not words:
            raise SourceProblem("the part names no program to run")
        code, out, err = self._hand.run(words, self._limit)
        accepted = question.get("status") or [0]
        if code not in accepted:
            said = " ".join((err or out).split())[:200]
            raise SourceProblem(f"{words[0]} ended with {code}: {said or 'it said nothing'}")
        return as_rows(out, question, self._target)

    def close(self) -> None:
        """Nothing is kept open."""


def command_words(run: Sequence[Any], target: Target) -> list[str]:
    """The words of a command, fields filled in."""
    found = []
    for word in run:
        text = filled(str(word), target)
        if text.startswith("{") and text.endswith("}"):
            continue
        found.append(text)
    return found
