"""Posting by HTTP, to the address that was checked."""

from __future__ import annotations

from collections.abc import Mapping
from urllib.parse import urlsplit

import httpx

from balise.server.callouts.channels.channel import MOST_ANSWER, TIME_LIMIT, NotThrough
from balise.server.callouts.channels.places import checked_address, in_our_words
from balise.server.callouts.channels.trust import trusted

OF_ITS_CONTENT = (400, 413, 415, 422)
"""What a receiver answers to a delivery that it does not understand, while others may get through."""


def post(url: str, body: bytes, headers: Mapping[str, str]) -> str:
    """Posts once, following nothing; answers what the other side said.

    Raises:
        NotThrough: it did not answer with 2xx in time.
    """
    parts = urlsplit(url)
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise NotThrough("the URL of the channel is not http or https")
    try:
        with (
            httpx.Client(
                transport=_Pinned(verify=trusted()), timeout=TIME_LIMIT, follow_redirects=False, trust_env=False
            ) as client,
            client.stream("POST", url, content=body, headers=dict(headers)) as answer,
        ):
            status = answer.status_code
            said = _beginning(answer)
    except httpx.TimeoutException:
        raise NotThrough(f"no answer within {TIME_LIMIT:.0f} s") from None
    except (httpx.HTTPError, httpx.InvalidURL) as error:
        raise NotThrough(in_our_words(error)) from None
    told = f"{status} {said}".strip()
    if not 200 <= status < 300:
        raise NotThrough(f"the receiver answered {status}", alone=status in OF_ITS_CONTENT, answer=told)
    return told


def _beginning(answer: httpx.Response) -> str:
    """The first characters of an answer, whatever it is; a broken or endless one is what came of it."""
    got = b""
    try:
        for piece in answer.iter_raw():
            got += piece
            if len(got) >= MOST_ANSWER:
                break
    except httpx.HTTPError:
        pass
    text = got[:MOST_ANSWER].decode("utf-8", "replace")
    return "".join(c if c.isprintable() else " " for c in text).strip()


def bearer(token: str) -> dict[str, str]:
    """The header of a token. Raises NotThrough for one that cannot be sent."""
    if not token.isascii() or not token.isprintable():
        raise NotThrough("the channel's token has characters that cannot be sent: set it again")
    return {"Authorization": f"Bearer {token}"}


def without_path(url: str) -> str:
    """An address without its path, which may be all that it takes to use it."""
    parts = urlsplit(url)
    host = f"[{parts.hostname}]" if ":" in (parts.hostname or "") else parts.hostname
    port = f":{parts.port}" if parts.port else ""
    return f"{parts.scheme}://{host}{port}/…"


class _Pinned(httpx.HTTPTransport):
    """Connects to the checked address while the certificate and Host header are those of the name."""

    def handle_request(self, request: httpx.Request) -> httpx.Response:
        host = request.url.host
        port = request.url.port or (443 if request.url.scheme == "https" else 80)
        address = checked_address(host, port)
        request.extensions = {**request.extensions, "sni_hostname": host}
        request.url = request.url.copy_with(host=address)
        return super().handle_request(request)
