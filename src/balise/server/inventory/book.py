"""The inventory of all hosts with its history; every difference between two collections is an event."""

from __future__ import annotations

import json
import ssl
import time
from collections.abc import Iterable
from contextlib import suppress
from typing import Any

from cryptography import x509
from pydantic import ValidationError
from sqlalchemy import func, or_, select
from sqlalchemy.orm import Session

from balise.api.inventory import (
    KINDS,
    CollectedInventory,
    Comparison,
    Difference,
    Inventory,
    InventoryCount,
    InventoryItem,
    InventoryKind,
)
from balise.api.services import FoundService
from balise.api.spans import instant, rfc3339
from balise.collect.probes.certificates import read_certificate
from balise.core.inventory.compare import Change, by_name, changes, most_common, sentence, shown
from balise.server.errors import Refused, bad_field, unknown
from balise.server.events.changes import ChangeLog, ChangeOnHost
from balise.server.hosts.directory import Directory, Known
from balise.store.series.gauges import Gauge, keep_gauges
from balise.store.series.store import SeriesStore
from balise.store.state import tables
from balise.store.state.store import StateStore

MOST_EVENTS = 500
"""Events of one collection; beyond it one says how many there were."""
MOST_ANSWER = 5000
MOST_COMPARED = 1000
ItemRow = tables.InventoryItem

METRICS = {
    "balise.changes": ("{change}", "Differences that a collection of the inventory had from the one before"),
    "balise.certificate.left": ("s", "How long a certificate that was found on a host is still good"),
}
"""Unit and meaning of each."""


class InventoryBook:
    """What is on every host, now and before."""

    def __init__(self, *, state: StateStore, directory: Directory, series: SeriesStore, changes: ChangeLog) -> None:
        self._state = state
        self._directory = directory
        self._series = series
        self._changes = changes

    # --- taking in

    def take(self, host: int, content: dict[str, Any], at: float) -> None:
        """A collection of one kind arrived. What differs from the last is kept and told; the first tells nothing."""
        known = self._directory.get(host)
        try:
            collected = CollectedInventory.model_validate(content)
        except ValidationError:
            return
        if known is None:
            return
        items = by_name(_with_certificates(collected, at))

        def write(session: Session) -> list[Change] | None:
            look = session.get(tables.InventoryLook, (host, collected.kind, collected.scope))
            if look is None:
                look = tables.InventoryLook(host=host, kind=collected.kind, scope=collected.scope, first_at=at, at=at)
                session.add(look)
                first = True
            else:
                first = False
                if at < look.at:
                    # Delivered late: what is known is newer.
                    return None
            look.problem = collected.problem
            if collected.problem and not items:
                return None
            look.at = at
            rows = {row.name: row for row in session.scalars(_current(host, collected.kind, collected.scope))}
            found = changes({name: row.item for name, row in rows.items()}, items)
            for change in found:
                if change.name in rows:
                    rows[change.name].until = at
                if change.after is not None:
                    session.add(
                        ItemRow(
                            host=host,
                            kind=collected.kind,
                            scope=collected.scope,
                            name=change.name,
                            item=dict(change.after),
                            since=at,
                        )
                    )
            return None if first else found

        found = self._state.write(write)
        if found is not None:
            self._count(known, collected.kind, len(found), at)
        if found:
            self._changes.keep(list(_told(known.name, collected, found, at)))

    def _count(self, known: Known, kind: str, count: int, at: float) -> None:
        """How many differences a collection had, as a series that rules can watch."""
        self._write(known.id, "balise.changes", [((("inventory.kind", kind),), float(count))], at)

    def _write(self, host: int, name: str, values: list[tuple[tuple[tuple[str, str], ...], float]], at: float) -> None:
        keep_gauges(self._series, METRICS, [Gauge(host, name, a, v) for a, v in values], at)

    def look_at_certificates(self) -> None:
        """How long every certificate is still good, as series that rules can watch."""
        query = select(ItemRow).where(ItemRow.kind == "certificates", ItemRow.until.is_(None)).limit(20_000)
        now = time.time()
        by_host: dict[int, list[tuple[tuple[tuple[str, str], ...], float]]] = {}
        for row in self._state.read(lambda s: list(s.scalars(query))):
            ends = row.item.get("not_after")
            if ends and self._directory.is_here(row.host):
                left = (instant(str(ends), now) - now, (("tls.certificate", row.name),))
                by_host.setdefault(row.host, []).append((left[1], round(left[0])))
        for host, values in by_host.items():
            self._write(host, "balise.certificate.left", values, now)

    # --- asking

    def _known(self, host: str) -> Known:
        known = self._directory.find(host)
        if known is None:
            raise unknown("host", host)
        return known

    def names_of(self, host: int, kind: str) -> list[str]:
        query = select(ItemRow.name).where(ItemRow.host == host, ItemRow.kind == kind, ItemRow.until.is_(None))
        return self._state.read(lambda s: list(s.scalars(query)))

    def listening(self, host: int) -> list[FoundService]:
        """What listens on a host for others to reach, as its inventory has it."""
        query = select(ItemRow).where(ItemRow.host == host, ItemRow.kind == "ports", ItemRow.until.is_(None))
        found = []
        for row in self._state.read(lambda s: list(s.scalars(query))):
            port, address = row.name.removeprefix("tcp "), str(row.item.get("address", ""))
            if port.isdecimal() and not address.startswith("127.") and address != "::1":
                with suppress(ValidationError):
                    found.append(FoundService.model_validate({**row.item, "port": int(port), "address": address}))
        return found

    def get(self, host: str, kind: InventoryKind | None, at: str | None, text: str | None = None) -> Inventory:
        """A kind of a host's inventory, or all of it, now or at an earlier moment."""
        known, moment = self._known(host), _moment(at)
        query = _at(select(ItemRow).where(ItemRow.host == known.id), moment)
        looks = select(tables.InventoryLook).where(tables.InventoryLook.host == known.id)
        if kind is not None:
            query = query.where(ItemRow.kind == kind)
            looks = looks.where(tables.InventoryLook.kind == kind)
        if text:
            query = query.where(func.instr(func.lower(ItemRow.name), text.lower()) > 0)
        order = query.order_by(ItemRow.kind, ItemRow.scope, ItemRow.name)

        def read(session: Session) -> tuple[list[ItemRow], int, list[tables.InventoryLook]]:
            total = session.scalar(select(func.count()).select_from(query.subquery())) or 0
            return list(session.scalars(order.limit(MOST_ANSWER))), total, list(session.scalars(looks))

        rows, total, looked = self._state.read(read)
        last = max((look.at for look in looked), default=None)
        problem = "; ".join(look.problem for look in looked if look.problem)
        first = {(look.kind, look.scope): look.first_at for look in looked}
        items = [_answer(row, moment or time.time(), first) for row in rows]
        return Inventory(
            kind=kind, at=rfc3339(last) if last is not None else None, problem=problem, items=items, total=total
        )

    def counts(self, host: str) -> list[InventoryCount]:
        """How much of each kind there is, and how much of it changed in the last seven days."""
        known, week = self._known(host), time.time() - 7 * 86_400

        def read(session: Session) -> tuple[dict[str, int], dict[str, int], list[tables.InventoryLook]]:
            of = ItemRow.host == known.id
            now = select(ItemRow.kind, func.count()).where(of, ItemRow.until.is_(None)).group_by(ItemRow.kind)
            looks = list(session.scalars(select(tables.InventoryLook).where(tables.InventoryLook.host == known.id)))
            first = {(look.kind, look.scope): look.first_at for look in looks}
            changed: dict[str, set[tuple[str, str]]] = {}
            recent = select(ItemRow).where(of, or_(ItemRow.since > week, ItemRow.until > week)).limit(20_000)
            for row in session.scalars(recent):
                if row.until is not None or row.since > first.get((row.kind, row.scope), 0.0):
                    changed.setdefault(row.kind, set()).add((row.scope, row.name))
            return {r[0]: r[1] for r in session.execute(now)}, {k: len(v) for k, v in changed.items()}, looks

        counts, changed, looks = self._state.read(read)
        found = []
        for kind in KINDS:
            mine = [look for look in looks if look.kind == kind]
            at = max((look.at for look in mine), default=None)
            found.append(
                InventoryCount(
                    kind=kind,
                    items=counts.get(kind, 0),
                    at=rfc3339(at) if at is not None else None,
                    problem="; ".join(look.problem for look in mine if look.problem),
                    changed=changed.get(kind, 0),
                )
            )
        return found

    def compare(
        self, host: str, kind: InventoryKind | None, *, with_host: str | None, group: str | None, earlier: str | None
    ) -> Comparison:
        """A host beside another, beside its group's most common values, or beside itself at an earlier time."""
        known = self._known(host)
        given = [word for word in (with_host, group, earlier) if word]
        if len(given) != 1:
            raise bad_field("host", "say one thing to compare with: another host, a group, or an earlier time")
        here = self._shown(known.id, kind, None)
        if with_host:
            there, name = self._shown(self._known(with_host).id, kind, None), with_host
        elif group:
            members = [k for k in self._directory.all() if group in k.groups and k.id != known.id]
            if not members:
                raise bad_field("group", f"the group {group!r} has no other host to compare with")
            held = (self._shown(k.id, kind, None) for k in members[:200])
            told = ({"\0".join(key): value for key, value in one.items()} for one in held if one)
            common = most_common(told)
            there = {_key(key): value for key, value in common.items()}
            name = f"most of the {len(members)} others in {group}"
        else:
            there, name = self._shown(known.id, kind, _moment(earlier)), f"{host}, {earlier}"
        found = [
            Difference(kind=k, name=n, here=here.get((k, n)), there=there.get((k, n)))  # type: ignore[arg-type]
            for k, n in sorted(here.keys() | there.keys())
            if here.get((k, n)) != there.get((k, n))
        ]
        same = len(here.keys() & there.keys()) - sum(1 for d in found if d.here is not None and d.there is not None)
        return Comparison(
            here=host, there=name, items=found[:MOST_COMPARED], same=same, left_out=max(0, len(found) - MOST_COMPARED)
        )

    def _shown(self, host: int, kind: str | None, moment: float | None) -> dict[tuple[str, str], str]:
        """Everything on a host in a line each, by kind and name."""
        query = _at(select(ItemRow).where(ItemRow.host == host), moment)
        if kind is not None:
            query = query.where(ItemRow.kind == kind)
        rows = self._state.read(lambda s: list(s.scalars(query.limit(50_000))))
        return {(row.kind, row.name): shown(row.item) for row in rows}

    def forget(self, before: float) -> None:
        """Removes what has not been so since a moment, unix seconds."""

        def write(session: Session) -> None:
            for row in session.scalars(select(ItemRow).where(ItemRow.until < before).limit(5000)):
                session.delete(row)

        self._state.write(write)


def _key(text: str) -> tuple[str, str]:
    kind, _, name = text.partition("\0")
    return kind, name


def _current(host: int, kind: str, scope: str) -> Any:
    return select(ItemRow).where(
        ItemRow.host == host, ItemRow.kind == kind, ItemRow.scope == scope, ItemRow.until.is_(None)
    )


def _at(query: Any, moment: float | None) -> Any:
    if moment is None:
        return query.where(ItemRow.until.is_(None))
    return query.where(ItemRow.since <= moment, or_(ItemRow.until.is_(None), ItemRow.until > moment))


def _moment(at: str | None) -> float | None:
    if at is None or at == "now":
        return None
    try:
        return instant(at, time.time())
    except ValueError as error:
        raise Refused(422, f"at: {error}") from None


def _answer(row: ItemRow, now: float, first: dict[tuple[str, str], float]) -> InventoryItem:
    held = {k: v for k, v in row.item.items() if k not in ("kind", "scope", "since")}
    if row.kind == "certificates" and held.get("not_after"):
        held["days_left"] = round((instant(str(held["not_after"]), now) - now) / 86_400, 1)
    fresh = row.since > first.get((row.kind, row.scope), 0.0)
    since = rfc3339(row.since) if fresh else None
    return InventoryItem.model_validate(
        {**held, "name": row.name, "kind": row.kind, "scope": row.scope, "since": since}
    )


def _with_certificates(collected: CollectedInventory, at: float) -> Iterable[dict[str, Any]]:
    """Items as they are kept: of a certificate what it says, not the certificate."""
    if collected.kind != "certificates":
        return collected.items
    found = []
    for item in collected.items:
        told = {"name": str(item.get("name", ""))}
        try:
            read = read_certificate(ssl.PEM_cert_to_DER_cert(str(item.get("pem", ""))), at)
            told |= {"subject": read.subject, "issuer": read.issuer, "not_after": read.not_after}
            told["names"] = read.names  # type: ignore[assignment]
        except (ValueError, x509.UnsupportedGeneralNameType):
            told["problem"] = "this certificate cannot be read"
        found.append(told)
    return found


def _told(host: str, collected: CollectedInventory, found: list[Change], at: float) -> Iterable[ChangeOnHost]:
    for change in found[:MOST_EVENTS]:
        attributes = {
            "change.kind": collected.kind,
            "change.what": change.what,
            "change.name": change.name,
            "change.before": json.dumps(change.before, ensure_ascii=False)[:1000] if change.before else "",
            "change.after": json.dumps(change.after, ensure_ascii=False)[:1000] if change.after else "",
        }
        if collected.scope:
            attributes["service.name"] = collected.scope
        kept = {k: v for k, v in attributes.items() if v}
        yield ChangeOnHost(host, sentence(collected.kind, change), kept, at)
    if len(found) > MOST_EVENTS:
        more = f"and {len(found) - MOST_EVENTS} more differences in {collected.kind}"
        yield ChangeOnHost(host, more, {"change.kind": collected.kind}, at)
