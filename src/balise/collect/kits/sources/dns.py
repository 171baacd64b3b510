"""Asking a DNS server (RFC 1035), and for its own figures in class CH where it tells them."""

from __future__ import annotations

import time
from collections.abc import Mapping
from typing import Any

import dns.exception
import dns.flags
import dns.message
import dns.query
import dns.rcode
import dns.rdatatype

from balise.api.credentials import CredentialBody
from balise.api.kits import Target
from balise.collect.kits.sources.source import Rows, SourceProblem, filled, place_of


class DnsSource:
    """Target: `address`, `port`, and the names a question asks for."""

    def __init__(self, target: Target, credential: CredentialBody | None, time_limit: float) -> None:
        del credential
        self._target = target
        self._address, self._port = place_of(target, 53)
        self._limit = time_limit

    def ask(self, question: Mapping[str, Any]) -> Rows:
        """`name` and `type` (one row with `seconds`, `rcode`, `answers`), or `chaos`: names, a column for each."""
        if question.get("chaos"):
            return [self._chaos([str(name) for name in question["chaos"]])]
        name = filled(str(question.get("name") or "."), self._target)
        began = time.monotonic()
        answer = self._query(name, str(question.get("type") or "A"), "IN")
        return [
            {
                "name": name,
                "seconds": round(time.monotonic() - began, 6),
                "rcode": dns.rcode.to_text(answer.rcode()),
                "answers": sum(len(part) for part in answer.answer),
                "authoritative": bool(answer.flags & dns.flags.AA),
                "text": "; ".join(item.to_text() for part in answer.answer for item in part)[:500],
            }
        ]

    def _chaos(self, names: list[str]) -> dict[str, Any]:
        found: dict[str, Any] = {}
        for name in names:
            answer = self._query(name, "TXT", "CH")
            texts = [item.to_text().strip('"') for part in answer.answer for item in part]
            found[name] = texts[0] if texts else None
        if not any(v is not None for v in found.values()):
            raise SourceProblem(f"{self._where()} does not tell its figures (class CH, {names[0]})")
        return found

    def _query(self, name: str, kind: str, group: str) -> dns.message.Message:
        try:
            question = dns.message.make_query(name, kind, group)
            return dns.query.udp_with_fallback(question, self._address, self._limit, self._port)[0]
        except dns.exception.Timeout:
            raise SourceProblem(f"{self._where()} did not answer within {self._limit:g} s", lost=True) from None
        except (dns.exception.DNSException, OSError, ValueError) as error:
            raise SourceProblem(f"{self._where()}: {str(error)[:200]}", lost=True) from None

    def _where(self) -> str:
        return f"the DNS server {self._target.get('address') or '127.0.0.1'} port {self._port}"

    def close(self) -> None:
        """Each question is a datagram of its own."""
