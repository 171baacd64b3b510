"""Connections over TCP."""

from __future__ import annotations

from balise.api.probes import ProbeBody
from balise.collect.probes.judging import judge_text
from balise.collect.probes.probe import place_of
from balise.collect.probes.stream import StreamProbe


class TcpProbe(StreamProbe):
    """Whether a connection is accepted; with a text to expect, whether the other side says it unasked."""

    kind = "tcp"

    def make(self) -> str:
        line = self._opened()
        with line:
            if self._expect.text is None and self._expect.not_text is None:
                return "the connection was accepted"
            said = self._greeting(line)
            judge_text(self._expect, said)
            return f"it greets: {said.strip()[:100]}"

    @classmethod
    def problem(cls, body: ProbeBody) -> tuple[str, str] | None:
        return None if place_of(body).get("port") else ("target", "write it as ADDRESS:PORT")
