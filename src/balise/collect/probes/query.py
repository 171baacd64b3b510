"""Probes that ask a database and judge the first value of its answer."""

from __future__ import annotations

from abc import abstractmethod
from typing import Any

from balise.api.kits import Target
from balise.api.probes import ProbeBody
from balise.collect.kits.sources.source import READS, Accounts, Source, SourceProblem
from balise.collect.probes.errors import ProbeFailed
from balise.collect.probes.judging import judge_text, judge_value
from balise.collect.probes.probe import Probe
from balise.core.kits.reading import refused_sql

_ACCOUNTS = Accounts()


class QueryProbe(Probe):
    """Signs in, asks, and judges."""

    def make(self) -> str:
        address, port = self._talk.resolve(self._place["address"], self._port)
        target: Target = {**self._place, "address": address, "port": port}
        target.pop("tls", None)
        held = self._target.credential
        try:
            with self._talk.phase("sign in"):
                source = self._source(target)
            try:
                with self._talk.phase("wait for the answer"):
                    rows = source.ask(self._question())
                account = _ACCOUNTS.of((self.kind, address, port, getattr(held, "user", "")), source)
            finally:
                source.close()
        except SourceProblem as problem:
            raise ProbeFailed(str(problem)) from None
        value = next(iter(rows[0].values()), None) if rows else None
        judge_value(self._expect, value)
        judge_text(self._expect, "" if value is None else str(value))
        said = f"it answers {str(value)[:100]}"
        return f"{said}; its account {account}" if account and account != READS else said

    @abstractmethod
    def _source(self, target: Target) -> Source:
        """What asks. Raises SourceProblem."""

    def _question(self) -> dict[str, Any]:
        return {"sql": self._target.body.query or "select 1"}

    @classmethod
    def problem(cls, body: ProbeBody) -> tuple[str, str] | None:
        why = refused_sql(body.query) if body.query else None
        return ("query", why) if why else None
