"""Where channels connect to, and what is said when they cannot."""

from __future__ import annotations

import os
import socket
import ssl

import httpx

from balise.api.places import is_nobodys
from balise.server.callouts.channels.channel import NotThrough


def checked_address(host: str, port: int) -> str:
    """The address a webhook or a mail is sent to.

    Link-local addresses (where clouds keep the credentials of a machine), multicast and unspecified ones are
    refused, and what was checked is what is connected to.

    Raises:
        NotThrough: the name does not resolve, or only to refused addresses.
    """
    try:
        found = socket.getaddrinfo(host, port, type=socket.SOCK_STREAM)
    except (OSError, UnicodeError):
        raise NotThrough(f"{host[:100]} cannot be resolved: is the name right?") from None
    for *_, address in found:
        if not is_nobodys(str(address[0])):
            return str(address[0])
    raise NotThrough(f"{host[:100]} leads to an address that nothing is sent to (link-local, multicast or reserved)")


def in_our_words(error: BaseException) -> str:
    """What went wrong, without what a library puts into its messages: those may hold addresses and secrets."""
    step: BaseException | None = error
    while step is not None:
        if isinstance(step, ssl.SSLError):
            return f"its TLS is not trusted: {step.reason or 'the handshake failed'}"
        if isinstance(step, OSError) and step.errno:
            return f"cannot be reached: {os.strerror(step.errno)}"
        step = step.__cause__ or step.__context__
    if isinstance(error, httpx.RemoteProtocolError | httpx.ReadError | httpx.WriteError):
        return "the connection broke off before there was an answer"
    if isinstance(error, httpx.InvalidURL | httpx.UnsupportedProtocol | httpx.LocalProtocolError):
        return "the address or the token of the channel cannot be sent: set it again"
    return "cannot be reached"
