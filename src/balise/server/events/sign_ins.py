"""Who tried to get in, and who did."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

from balise.api.sign_ins import AccountChange, SignInAnswer, SignInItem, SignInTrend
from balise.api.spans import rfc3339
from balise.core import filters
from balise.core.events.sign_in_counts import KINDS, By, Tries, counted
from balise.core.moments import NS, nanos, seconds_of
from balise.server.asking import read_filter, span_of
from balise.store.events.signed import SignedIn, SignedRow
from balise.store.events.store import EventStore

HOUR, DAY = 3600 * NS, 86_400 * NS
DAYS_FROM = 4 * DAY
"""From this length on, the trend is by the day."""
MOST_CHANGES, MOST_STEPS = 200, 800
AttributeOf = Callable[[str, str], Any]


class SignInSearch:
    """Answers questions about sign-ins. `attribute_of` gives an attribute of a host by both their names."""

    def __init__(self, *, events: EventStore, attribute_of: AttributeOf) -> None:
        self._signed = SignedIn(events)
        self._attribute_of = attribute_of

    def of(self, start: str, end: str, by: By, *, sweep: int, where: str | None, limit: int) -> SignInAnswer:
        """Raises Refused 422 naming the field that cannot be read."""
        first, last = (nanos(at) for at in span_of(start, end, time.time()))
        node = read_filter(where, "where")
        rows, more = self._signed.rows(first, last)
        if node is not None:
            rows = [row for row in rows if filters.matches(node, lambda name, row=row: self._attribute(row, name))]  # type: ignore[misc]
        tries = counted(rows, by, self._signed.known_before(first))
        least = sweep if by == "address" else None
        told = [(key, one, one.kind(least)) for key, one in tries.items()]
        told.sort(key=lambda t: (KINDS.index(t[2]), -t[1].failed, -t[1].last))
        changes = [_change(row) for row in reversed(rows) if row.outcome not in ("failed", "succeeded")]
        return SignInAnswer(
            items=[_item(key, one, kind) for key, one, kind in told[:limit]],
            total=len(told),
            changes=changes[:MOST_CHANGES],
            trend=_trend(rows, first, last),
            complete=not more,
        )

    def _attribute(self, row: SignedRow, name: str) -> Any:
        own = {"host": row.host, "account": row.account, "address": row.address, "how": row.how, "detail": row.detail}
        return own[name] if name in own else self._attribute_of(row.host, name)


def _item(key: tuple[str, str], tries: Tries, kind: Any) -> SignInItem:
    account, address = key
    return SignInItem(
        account=account or tries.accounts.most_common(1)[0][0],
        address=address or tries.addresses.most_common(1)[0][0],
        host=tries.hosts.most_common(1)[0][0],
        hosts=len(tries.hosts),
        failed=tries.failed,
        succeeded=tries.succeeded,
        accounts=len(tries.accounts),
        first=rfc3339(seconds_of(tries.first)),
        last=rfc3339(seconds_of(tries.last)),
        kind=kind,
    )


def _change(row: SignedRow) -> AccountChange:
    day, number = row.event
    return AccountChange(
        time=rfc3339(seconds_of(row.time)),
        host=row.host,
        account=row.account,
        what=row.outcome,  # type: ignore[arg-type]
        detail=row.detail,
        event=f"{day}-{number}",
    )


def _trend(rows: list[SignedRow], start: int, end: int) -> SignInTrend:
    width = HOUR if end - start < DAYS_FROM else DAY
    first = max(start // width, end // width - MOST_STEPS)
    count = -(-end // width) - first
    bars = {"failed": [0] * count, "succeeded": [0] * count}
    for row in rows:
        if row.outcome in bars and row.time // width >= first:
            bars[row.outcome][row.time // width - first] += row.count
    times = [seconds_of((first + i) * width) for i in range(count)]
    return SignInTrend(step_seconds=seconds_of(width), times=times, **bars)
