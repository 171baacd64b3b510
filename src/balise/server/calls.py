"""The calls of the API, found by the first word of their path instead of being tried one after the other."""

from __future__ import annotations

from collections.abc import Iterable

from fastapi.routing import APIRoute
from starlette.routing import BaseRoute, Match
from starlette.types import Receive, Scope, Send


class Calls(BaseRoute):
    """All calls below a prefix, as one route. Of several that have a path the first counts."""

    def __init__(self, prefix: str, calls: Iterable[APIRoute]) -> None:
        """Raises ValueError for a call whose path does not begin with a word."""
        self._prefix = prefix
        self._by_word: dict[str, list[APIRoute]] = {}
        for call in calls:
            word = _first_word(call.path)
            if not word or "{" in word:
                raise ValueError(f"{call.path} does not begin with a word")
            self._by_word.setdefault(word, []).append(call)

    def matches(self, scope: Scope) -> tuple[Match, Scope]:
        path: str = scope["path"]
        if scope["type"] != "http" or not path.startswith(f"{self._prefix}/"):
            return Match.NONE, {}
        below = {**scope, "root_path": self._prefix}
        found: tuple[Match, Scope] = Match.NONE, {}
        for call in self._by_word.get(_first_word(path.removeprefix(self._prefix)), ()):
            match, told = call.matches(below)
            if match == Match.FULL:
                return match, told
            if match == Match.PARTIAL and found[0] == Match.NONE:
                # It is there, but not for this method: whoever asked is told so.
                found = match, told
        return found

    async def handle(self, scope: Scope, receive: Receive, send: Send) -> None:
        call: APIRoute = scope["route"]
        await call.handle(scope, receive, send)


def _first_word(path: str) -> str:
    return path.split("/", 2)[1]
