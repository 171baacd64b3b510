"""HTTP and HTTPS (RFC 9110): status, text, JSON, headers, redirects, each phase timed."""

from __future__ import annotations

import http.client
import json
import socket
import ssl
from collections.abc import Mapping
from urllib.parse import SplitResult, urljoin, urlsplit

from balise.api.credentials import LoginCredential
from balise.api.probes import ProbeExpect, ProbeTarget
from balise.collect.probes.errors import ProbeFailed
from balise.collect.probes.talk import MOST_BODY, Talk
from balise.core.kits.forms import FormError, select

REDIRECTS = (301, 302, 303, 307, 308)


def probe_http(probe: ProbeTarget, talk: Talk) -> str:
    """Asks, follows redirects as far as allowed, and judges the last answer. Raises ProbeFailed."""
    expect, url = probe.body.expect, str(probe.body.target)
    for _ in range(expect.redirects + 1):
        status, headers, body = _ask(urlsplit(url), probe, talk)
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


def _ask(parts: SplitResult, probe: ProbeTarget, talk: Talk) -> tuple[int, Mapping[str, str], bytes]:
    host = parts.hostname or ""
    if parts.scheme not in ("http", "https") or not host:
        raise ProbeFailed("a URL begins with http:// or https:// and has a host")
    port = parts.port or (443 if parts.scheme == "https" else 80)
    line: socket.socket = talk.connect(host, port)
    try:
        if parts.scheme == "https":
            expect = probe.body.expect
            line = talk.secure(line, host, trusted=expect.trusted, days=expect.days_left)
        return _exchange(line, parts, probe, talk, host, port)
    finally:
        line.close()


def _exchange(
    line: socket.socket, parts: SplitResult, probe: ProbeTarget, talk: Talk, host: str, port: int
) -> tuple[int, Mapping[str, str], bytes]:
    usual = port == (443 if parts.scheme == "https" else 80)
    connection = http.client.HTTPConnection(host, None if usual else port)
    connection.sock = line
    headers = {"User-Agent": "balise", "Accept": "*/*", "Connection": "close"}
    first = str(probe.body.target)
    if isinstance(probe.credential, LoginCredential) and urlsplit(first).netloc == parts.netloc:
        from base64 import b64encode

        word = f"{probe.credential.user}:{probe.credential.password.reveal()}".encode()
        headers["Authorization"] = f"Basic {b64encode(word).decode()}"
    path = (parts.path or "/") + (f"?{parts.query}" if parts.query else "")
    try:
        line.settimeout(talk.left())
        with talk.phase("wait for the answer"):
            connection.request("GET", path, headers=headers)
            answer = connection.getresponse()
        with talk.phase("read the answer"):
            body = b""
            while len(body) < MOST_BODY:
                talk.left()
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


def judge_text(expect: ProbeExpect, text: str) -> None:
    """Whether an answer has in it what it has to have. Raises ProbeFailed."""
    if expect.text is not None and expect.text not in text:
        raise ProbeFailed(f"the answer has not {expect.text!r} in it; it begins {' '.join(text[:80].split())!r}")
    if expect.not_text is not None and expect.not_text in text:
        raise ProbeFailed(f"the answer has {expect.not_text!r} in it")
    if expect.json_:
        try:
            held = json.loads(text)
        except (ValueError, RecursionError):
            raise ProbeFailed(f"the answer is no JSON; it begins {' '.join(text[:80].split())!r}") from None
        for path, wanted in expect.json_.items():
            try:
                found = select(held, path)
            except FormError as error:
                raise ProbeFailed(str(error)) from None
            if wanted not in found:
                said = "nothing" if not found else json.dumps(found[0])[:100]
                raise ProbeFailed(f"{path} is {said}; {json.dumps(wanted)} was expected")
