"""Names."""

from __future__ import annotations

from balise.api.kits import Target
from balise.api.probes import ProbeBody
from balise.collect.kits.sources.dns import DnsSource
from balise.collect.kits.sources.source import SourceProblem
from balise.collect.probes.errors import ProbeFailed
from balise.collect.probes.judging import judge_text
from balise.collect.probes.probe import Probe, place_of


class DnsProbe(Probe):
    """Asks a DNS server (RFC 1035) for a name, and looks whether the answer has what it has to have."""

    kind = "dns"

    def make(self) -> str:
        address, port = self._talk.resolve(self._place["address"], self._port)
        name = self._place.get("name")
        if not name:
            raise ProbeFailed("the target has no name to ask for")
        target: Target = {"address": address, "port": port}
        with self._talk.phase("wait for the answer"):
            try:
                source = DnsSource(target, None, self._talk.left())
                [row] = source.ask({"name": name, "type": self._place.get("type") or "A"})
            except SourceProblem as problem:
                raise ProbeFailed(str(problem)) from None
        if row["rcode"] != "NOERROR":
            raise ProbeFailed(f"{name}: {row['rcode']}")
        found = [text.strip() for text in str(row["text"]).split(";") if text.strip()]
        for wanted in self._expect.answers or []:
            if wanted not in found:
                raise ProbeFailed(f"{name} is {', '.join(found) or 'nothing'}; {wanted} was expected")
        if not found:
            raise ProbeFailed(f"{name} has no such record")
        judge_text(self._expect, str(row["text"]))
        return f"{name} is {', '.join(found)}"[:200]

    @classmethod
    def problem(cls, body: ProbeBody) -> tuple[str, str] | None:
        return None if place_of(body).get("name") else ("target.name", "the name that the server is to be asked for")
