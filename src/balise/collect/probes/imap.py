"""Mailboxes over IMAP."""

from __future__ import annotations

import imaplib
import socket

from balise.collect.probes.errors import ProbeFailed
from balise.collect.probes.judging import judge_text
from balise.collect.probes.stream import StreamProbe


class _Imap(imaplib.IMAP4):
    """The library's client over a connection that is open already."""

    def __init__(self, line: socket.socket) -> None:
        self._line = line
        super().__init__("")

    def _create_socket(self, timeout: float | None = None) -> socket.socket:
        del timeout
        return self._line


class ImapProbe(StreamProbe):
    """Whether an IMAP server greets (RFC 9051); with a credential, whether it lets that in."""

    kind = "imap"

    def make(self) -> str:
        line = self._opened()
        try:
            line = self._upgraded(line)
            with self._talk.phase("wait for the greeting"):
                client = _Imap(line)
            if login := self._login:
                with self._talk.phase("sign in"):
                    client.login(*login)
            said = client.welcome.decode("utf-8", "replace")
            judge_text(self._expect, said)
            return said[:100]
        except imaplib.IMAP4.error as error:
            raise ProbeFailed(f"imap says: {str(error)[:200]}") from None
        finally:
            line.close()
