"""HTTP and HTTPS (RFC 9110): status, text, JSON, headers, redirects, each phase timed."""

from __future__ import annotations

import http.client
import socket
import ssl
from base64 import b64encode
from collections.abc import Mapping
from urllib.parse import SplitResult, urljoin, urlsplit

from balise.api.credentials import LoginCredential
from balise.api.probes import ProbeBody, ProbeExpect
from balise.collect.probes.errors import ProbeFailed
from balise.collect.probes.judging import judge_text
from balise.collect.probes.probe import Probe
from balise.collect.probes.talk import MOST_BODY

REDIRECTS = (301, 302, 303, 307, 308)


class HttpProbe(Probe):
    """Asks, follows redirects as far as allowed, and judges the last answer. Raises ProbeFailed."""

    kind = "http"

    def make(self) -> str:
        expect, url = self._expect, str(self._target.body.target)
        for _ in range(expect.redirects + 1):
            status, headers, body = self._ask(urlsplit(url))
            wanted = expect.status is not None and status in expect.status
            if status not in REDIRECTS or wanted or "location" not in headers:
                break
            following = urljoin(url, headers["location"])
            if urlsplit(following).scheme not in ("http", "https"):
                raise ProbeFailed(f"it redirects to {following[:100]!r}, which is no web address")
            if expect.redirects == 0:
                break
            url = following
        else:
            raise ProbeFailed(f"it redirected more than {expect.redirects} times, last to {url[:200]}")
        _judge(expect, status, headers, body)
        return f"{status} {http.client.responses.get(status, '')}".strip() + f", {len(body)} B"

    @classmethod
    def problem(cls, body: ProbeBody) -> tuple[str, str] | None:
        parts = urlsplit(str(body.target))
        if parts.scheme not in ("http", "https") or not parts.hostname:
            return "target", "a URL begins with http:// or https:// and has a host"
        if parts.username or parts.password:
            return "target", "no name and password in the URL: use a credential of kind login"
        return None

    def _ask(self, parts: SplitResult) -> tuple[int, Mapping[str, str], bytes]:
        host = parts.hostname or ""
        if parts.scheme not in ("http", "https") or not host:
            raise ProbeFailed("a URL begins with http:// or https:// and has a host")
        port = parts.port or (443 if parts.scheme == "https" else 80)
        line: socket.socket = self._talk.connect(host, port)
        try:
            if parts.scheme == "https":
                expect = self._expect
                line = self._talk.secure(line, host, trusted=expect.trusted, days=expect.days_left)
            return self._exchange(line, parts, host, port)
        finally:
            line.close()

    def _exchange(
        self, line: socket.socket, parts: SplitResult, host: str, port: int
    ) -> tuple[int, Mapping[str, str], bytes]:
        usual = port == (443 if parts.scheme == "https" else 80)
        connection = http.client.HTTPConnection(host, None if usual else port)
        connection.sock = line
        headers = {"User-Agent": "balise", "Accept": "*/*", "Connection": "close"}
        first = str(self._target.body.target)
        if isinstance(self._target.credential, LoginCredential) and urlsplit(first).netloc == parts.netloc:
            word = f"{self._target.credential.user}:{self._target.credential.password.reveal()}".encode()
            headers["Authorization"] = f"Basic {b64encode(word).decode()}"
        path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
        try:
            line.settimeout(self._talk.left())
            with self._talk.phase("wait for the answer"):
                connection.request("GET", path, headers=headers)
                answer = connection.getresponse()
            with self._talk.phase("read the answer"):
                body = b""
                while len(body) < MOST_BODY:
                    self._talk.left()
                    chunk = answer.read1(min(65_536, MOST_BODY - len(body)))
                    if not chunk:
                        break
                    body += chunk
        except (http.client.HTTPException, ssl.SSLError, ConnectionError, ValueError) as error:
            words = str(error) or type(error).__name__
            raise ProbeFailed(f"the answer could not be read: {words[:200]}") from None
        return answer.status, {k.lower(): v for k, v in answer.getheaders()}, body


def _judge(expect: ProbeExpect, status: int, headers: Mapping[str, str], body: bytes) -> None:
    good = status in expect.status if expect.status is not None else 200 <= status < 400
    if not good:
        wanted = ", ".join(map(str, expect.status)) if expect.status else "200 to 399"
        raise ProbeFailed(f"it answered {status} {http.client.responses.get(status, '')}; {wanted} was expected")
    judge_text(expect, body.decode("utf-8", "replace"))
    for name, held in (expect.headers or {}).items():
        found = headers.get(name.lower())
        if found is None or held.lower() not in found.lower():
            raise ProbeFailed(f"the header {name} is {found!r}, which has not {held!r} in it")
