"""Calls of a console over HTTP."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import Any, TypeVar
from urllib.parse import quote

import httpx
from httpx_sse import SSEError, connect_sse
from pydantic import BaseModel

from balise.api.lists import Note, Page
from balise.api.problems import Problem
from balise.api.secrets import REVEALED
from balise.client.errors import Refused, Unreachable
from balise.client.trust import Trust

M = TypeVar("M", bound=BaseModel)
STREAM_SECONDS = 60.0
"""Without a word, heartbeats too, after which a stream is taken for gone."""


def quoted(name: str) -> str:
    """A name as a part of a path."""
    return quote(name, safe="")


class Connection:
    """What all calls go through."""

    def __init__(self, url: str, token: str | None, *, timeout: float, trust: Trust | None) -> None:
        headers = {"Authorization": f"Bearer {token}"} if token else {}
        verify = (trust or Trust()).context() if url.startswith("https:") else False
        self._http = httpx.Client(base_url=url.rstrip("/"), headers=headers, timeout=timeout, verify=verify)

    def close(self) -> None:
        self._http.close()

    def call(
        self,
        method: str,
        path: str,
        body: BaseModel | dict[str, Any] | None = None,
        *,
        seconds: float | None = None,
        **query: Any,
    ) -> Any:
        """The JSON that a call answers, as it is; `seconds` for one that may take longer than others."""
        if isinstance(body, BaseModel):
            body = body.model_dump(mode="json", by_alias=True, exclude_none=True, context=REVEALED)
        content = json.dumps(body) if body is not None else None
        parameters = {k.rstrip("_"): v for k, v in query.items() if v is not None}
        try:
            answer = self._http.request(
                method,
                f"/api/v1{path}",
                content=content,
                params=parameters,
                headers={"Content-Type": "application/json"} if content is not None else None,
                timeout=httpx.USE_CLIENT_DEFAULT if seconds is None else seconds,
            )
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise Unreachable(f"{self._http.base_url} cannot be reached: {error}") from None
        if answer.is_error:
            raise Refused(problem_of(answer))
        try:
            return answer.json()
        except ValueError:
            raise Unreachable(f"{self._http.base_url} answers, but is no Balise console") from None

    def get(self, model: type[M], path: str, **query: Any) -> M:
        return model.model_validate(self.call("GET", path, **query))

    def send(
        self, model: type[M], method: str, path: str, body: BaseModel | dict[str, Any] | None = None, **query: Any
    ) -> M:
        return model.model_validate(self.call(method, path, body, **query))

    def items(self, model: type[M], path: str, **query: Any) -> list[M]:
        """The items of a list that comes in one answer."""
        return [model.model_validate(item) for item in self.call("GET", path, **query)["items"]]

    def pages(self, model: type[M], path: str, **query: Any) -> Iterator[M]:
        """The items of a list, page by page."""
        cursor: str | None = None
        while True:
            page = Page[model].model_validate(self.call("GET", path, cursor=cursor, **query))  # type: ignore[valid-type]
            yield from page.items
            cursor = page.next
            if cursor is None:
                return

    def note(self, method: str, path: str, **query: Any) -> str:
        """What the service says was done."""
        return self.send(Note, method, path, **query).detail

    def text(self, path: str) -> str:
        """An answer that is no JSON, as it is."""
        return self._got(path).text

    def picture(self, path: str, **query: Any) -> bytes:
        """An answer that is a picture."""
        return self._got(path, **query).content

    def _got(self, path: str, **query: Any) -> httpx.Response:
        parameters = {k.rstrip("_"): v for k, v in query.items() if v is not None}
        try:
            answer = self._http.get(f"/api/v1{path}", params=parameters)
        except (httpx.HTTPError, httpx.InvalidURL) as error:
            raise Unreachable(f"{self._http.base_url} cannot be reached: {error}") from None
        if answer.is_error:
            raise Refused(problem_of(answer))
        return answer

    def download(self, path: str, body: BaseModel) -> Iterator[bytes]:
        """A file as it comes, part by part. Raises Unreachable when it ends before it is whole."""
        content = body.model_dump_json(by_alias=True, exclude_none=True)
        headers = {"Content-Type": "application/json"}
        try:
            with self._http.stream(
                "POST", f"/api/v1{path}", content=content, headers=headers, timeout=STREAM_SECONDS
            ) as answer:
                if answer.is_error:
                    answer.read()
                    raise Refused(problem_of(answer))
                yield from answer.iter_bytes()
        except httpx.HTTPError as error:
            raise Unreachable(f"the file of {self._http.base_url} ended before it was whole: {error}") from None

    def stream(self, path: str, **query: Any) -> Iterator[tuple[str, Any]]:
        """Server-sent events: of each its topic and its content."""
        parameters = {k: v for k, v in query.items() if v is not None}
        try:
            with connect_sse(self._http, "GET", f"/api/v1{path}", params=parameters, timeout=STREAM_SECONDS) as source:
                if source.response.is_error:
                    source.response.read()
                    raise Refused(problem_of(source.response))
                for event in source.iter_sse():
                    yield event.event, event.json()
        except (httpx.HTTPError, SSEError) as error:
            raise Unreachable(f"the stream of {self._http.base_url} ended: {error}") from None


def problem_of(answer: httpx.Response) -> Problem:
    """The problem document of an error, or one made from its status."""
    try:
        return Problem.model_validate(answer.json())
    except ValueError:
        text = answer.text[:200] or answer.reason_phrase
        return Problem(title=answer.reason_phrase, status=answer.status_code, detail=f"{answer.status_code}: {text}")
