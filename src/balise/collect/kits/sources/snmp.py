"""Asking a device for a table over SNMP v2c and v3."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from typing import Any

from balise.api.credentials import CredentialBody, Snmp2Credential, Snmp3Credential
from balise.api.kits import Target
from balise.api.remote import RemoteTarget
from balise.collect.kits.sources.source import MOST_ROWS, Rows, SourceProblem, place_of
from balise.collect.remote.link import LinkProblem
from balise.collect.remote.snmp_session import SnmpSession


class SnmpSource:
    """Target: `address`, `port`, and what the questions name. One engine for the whole time."""

    def __init__(self, target: Target, credential: CredentialBody | None, time_limit: float) -> None:
        if not isinstance(credential, Snmp2Credential | Snmp3Credential):
            raise SourceProblem("a credential of kind snmp is needed", lost=True)
        address, port = place_of(target, 161)
        self._target = target
        self._loop = asyncio.new_event_loop()
        self._session = self._loop.run_until_complete(self._open(address, port, credential, time_limit))

    @staticmethod
    async def _open(address: str, port: int, credential: CredentialBody, time_limit: float) -> SnmpSession:
        return SnmpSession(
            RemoteTarget(
                host_id=0,
                host=address,
                protocol="snmp",
                address=address,
                port=port,
                credential=credential,
                every=60.0,
                time_limit=time_limit,
            )
        )

    def ask(self, question: Mapping[str, Any]) -> Rows:
        """`table`: an object identifier, or the field of the target that has it; `columns`: names and their numbers."""
        base = str(self._target.get("table") or question.get("table") or "").strip(".")
        columns = question.get("columns") or _columns(str(self._target.get("columns") or ""))
        if not base or not columns:
            raise SourceProblem("no table to read: give its object identifier, and its columns as name=number")
        try:
            found = self._loop.run_until_complete(self._session.columns([f"{base}.{n}" for n in columns.values()]))
        except LinkProblem as problem:
            raise SourceProblem(str(problem), lost=True) from None
        rows: dict[str, dict[str, Any]] = {}
        for name, number in columns.items():
            for index, value in found[f"{base}.{number}"].items():
                if index in rows or len(rows) < MOST_ROWS:
                    rows.setdefault(index, {"index": index})[name] = _plain(value)
        if not rows:
            raise SourceProblem(f"the device has no table {base}, or this user may not see it")
        return list(rows.values())

    def close(self) -> None:
        if not self._loop.is_closed():
            self._loop.run_until_complete(self._session.close())
            self._loop.close()


def _columns(text: str) -> dict[str, str]:
    """`name=2, in=10` as names and numbers."""
    pairs = (part.partition("=") for part in text.replace(" ", "").split(",") if part)
    return {name: number for name, there, number in pairs if there}


def _plain(value: Any) -> Any:
    try:
        return int(value)
    except (TypeError, ValueError):
        return str(value.prettyPrint())
