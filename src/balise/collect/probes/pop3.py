"""Mailboxes over POP3."""

from __future__ import annotations

import poplib

from balise.collect.probes.errors import ProbeFailed
from balise.collect.probes.judging import judge_text
from balise.collect.probes.stream import StreamProbe


class Pop3Probe(StreamProbe):
    """Whether a POP3 server greets (RFC 1939); with a credential, whether it lets that in."""

    kind = "pop3"
    upgrade = (b"", b"STLS\r\n", b"+OK")

    def make(self) -> str:
        line = self._opened()
        try:
            line = self._upgraded(line)
            client = poplib.POP3.__new__(poplib.POP3)
            client.sock, client.file, client._debugging = line, line.makefile("rb"), 0  # type: ignore[attr-defined]
            client._tls_established = False  # type: ignore[attr-defined]
            client.host = self._place["address"]
            said = b"+OK"
            if not self._starts_tls:
                with self._talk.phase("wait for the greeting"):
                    said = client._getresp()  # type: ignore[attr-defined]
            if login := self._login:
                with self._talk.phase("sign in"):
                    client.user(login[0])
                    client.pass_(login[1])
            text = said.decode("utf-8", "replace")
            judge_text(self._expect, text)
            return text[:100]
        except poplib.error_proto as error:
            words = error.args[0] if error.args else error
            raise ProbeFailed(
                f"pop3 says: {(words.decode('utf-8', 'replace') if isinstance(words, bytes) else str(words))[:200]}"
            ) from None
        finally:
            line.close()
