"""Asking over HTTP."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any
from urllib.parse import urljoin, urlsplit, urlunsplit

import httpx

from balise.api.credentials import CredentialBody
from balise.api.kits import Target
from balise.collect.kits.sources.rows import as_rows
from balise.collect.kits.sources.source import MOST_BYTES, Rows, SourceProblem, filled, login_of, safe_address


class HttpSource:
    """Target: `url`, and `verify` (whether the certificate is checked).

    A question's `path` is taken from the URL's host, `query` is added to it; no redirect is followed.
    """

    def __init__(self, target: Target, credential: CredentialBody | None, time_limit: float) -> None:
        self._target = target
        self._url = str(target.get("url") or "")
        if not urlsplit(self._url).hostname:
            raise SourceProblem("the target has no url", lost=True)
        self._client = httpx.Client(
            auth=login_of(credential),
            timeout=time_limit,
            verify=target.get("verify") is not False,
            headers={"User-Agent": "balise"},
            trust_env=False,
        )

    def ask(self, question: Mapping[str, Any]) -> Rows:
        path = filled(str(question.get("path") or ""), self._target)
        url = urljoin(self._url, path) if path else self._url
        if urlsplit(url).netloc != urlsplit(self._url).netloc:
            raise SourceProblem(f"{path!r} leads to another host than the target's URL")
        place, headers, extensions = _at_checked_address(url)
        try:
            with self._client.stream("GET", place, headers=headers, extensions=extensions) as answer:
                content = b"".join(_bounded(answer))
                text = content.decode(answer.encoding or "utf-8", "replace")
                status, kind = answer.status_code, answer.headers.get("content-type", "").lower()
        except httpx.HTTPError as error:
            raise SourceProblem(f"{_shown(url)}: {_http_words(error)}", lost=True) from None
        accepted = question.get("status") or [200]
        if status not in accepted:
            raise SourceProblem(f"{_shown(url)} answered {status}{_status_words(status)}", lost=status in (401, 403))
        return as_rows(text, {**question, "content-type": kind}, self._target)

    def close(self) -> None:
        self._client.close()


def _at_checked_address(url: str) -> tuple[str, dict[str, str], dict[str, str]]:
    """A URL at the address that was looked at, with what says for whom it is: a name that leads elsewhere a moment
    later leads nowhere.

    Raises:
        SourceProblem: the name is unknown, or leads to no server.
    """
    parts = urlsplit(url)
    host = parts.hostname or ""
    usual = 443 if parts.scheme == "https" else 80
    address = safe_address(host, parts.port or usual)
    shown = f"[{address}]" if ":" in address else address
    place = parts._replace(netloc=shown + (f":{parts.port}" if parts.port else ""))
    return urlunsplit(place), {"Host": parts.netloc.rpartition("@")[2]}, {"sni_hostname": host}


def _bounded(answer: httpx.Response) -> Any:
    size = 0
    for chunk in answer.iter_bytes():
        size += len(chunk)
        if size > MOST_BYTES:
            raise SourceProblem(f"the answer is longer than {MOST_BYTES >> 20} MiB: ask for less")
        yield chunk


def _shown(url: str) -> str:
    parts = urlsplit(url)
    return f"{parts.scheme}://{parts.netloc}{parts.path}"


def _http_words(error: httpx.HTTPError) -> str:
    if isinstance(error, httpx.TimeoutException):
        return "did not answer in time"
    text = str(error)
    if "refused" in text:
        return "refused the connection: does the service run, and is the port right?"
    return text[:200] or type(error).__name__


def _status_words(status: int) -> str:
    words = {
        401: ": it wants a user and password (a credential of kind login), or these are wrong",
        403: ": this user, or this address, may not read it",
        404: ": there is nothing at this path; is it switched on?",
        503: ": it is there and not ready",
    }
    return words.get(status, "")
