"""FTP servers."""

from __future__ import annotations

import ftplib

from balise.collect.probes.errors import ProbeFailed
from balise.collect.probes.judging import judge_text
from balise.collect.probes.stream import StreamProbe


class FtpProbe(StreamProbe):
    """Whether an FTP server greets (RFC 959) and lets the credential, or anybody, in."""

    kind = "ftp"

    def make(self) -> str:
        line = self._opened()
        client = ftplib.FTP()  # noqa: S321  it is what is probed
        client.sock, client.timeout = line, self._talk.left()
        client.af = line.family
        client.file = line.makefile("r", encoding="utf-8", errors="replace")
        try:
            with self._talk.phase("wait for the greeting"):
                said = client.getresp()
            with self._talk.phase("sign in"):
                client.login(*(self._login or ()))
            judge_text(self._expect, said)
            return said.splitlines()[0][:100]
        except ftplib.Error as error:
            raise ProbeFailed(f"ftp says: {str(error)[:200]}") from None
        except EOFError:
            raise ProbeFailed("ftp: the connection ended") from None
        finally:
            line.close()
