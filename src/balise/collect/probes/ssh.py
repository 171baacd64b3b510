"""SSH servers."""

from __future__ import annotations

from balise.collect.probes.errors import ProbeFailed
from balise.collect.probes.judging import judge_text
from balise.collect.probes.stream import StreamProbe


class SshProbe(StreamProbe):
    """Whether an SSH server (RFC 4253) greets."""

    kind = "ssh"

    def make(self) -> str:
        line = self._opened()
        with line:
            said = self._greeting(line)
        if not said.startswith("SSH-"):
            raise ProbeFailed(f"this is no SSH server: it says {said.strip()[:80]!r}")
        judge_text(self._expect, said)
        return said.strip()[:100]
