"""Mail servers that take mail."""

from __future__ import annotations

import smtplib

from balise.collect.probes.errors import ProbeFailed
from balise.collect.probes.judging import judge_text
from balise.collect.probes.stream import StreamProbe


class SmtpProbe(StreamProbe):
    """Whether a mail server greets and takes EHLO (RFC 5321); signs in when there is a credential."""

    kind = "smtp"
    upgrade = (b"EHLO balise.invalid\r\n", b"STARTTLS\r\n", b"2")

    def make(self) -> str:
        client = smtplib.SMTP(local_hostname="balise.invalid")
        line = self._opened()
        try:
            line = self._upgraded(line)
            client.sock = line
            if not self._starts_tls:
                with self._talk.phase("wait for the greeting"):
                    code, said = client.getreply()
                if code != 220:
                    raise ProbeFailed(f"it greets with {code}: {said[:100].decode('utf-8', 'replace')}")
            with self._talk.phase("say hello"):
                code, said = client.ehlo()
            if code != 250:
                raise ProbeFailed(f"it answers EHLO with {code}")
            if login := self._login:
                with self._talk.phase("sign in"):
                    client.login(*login)
        except smtplib.SMTPException as error:
            words = " ".join(str(a.decode("utf-8", "replace") if isinstance(a, bytes) else a) for a in error.args)
            raise ProbeFailed(f"smtp says: {words[:200]}") from None
        finally:
            line.close()
        text = said.decode("utf-8", "replace")
        judge_text(self._expect, text)
        return text.splitlines()[0][:100]
