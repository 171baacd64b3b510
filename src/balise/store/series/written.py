"""How the series are written: a row for each run of numbers that one host was given."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from functools import lru_cache
from sys import intern
from typing import NamedTuple, cast

import numpy as np
from numpy.typing import NDArray
from sqlalchemy import Connection, table

from balise.core.series.wire import Attributes, PointKind, Trait
from balise.store.database import delete_from, insert_rows
from balise.store.series.roster import Roster

I64 = NDArray[np.int64]
GONE = -1
_ENCODER = json.JSONEncoder(ensure_ascii=False, separators=(",", ":"))
_INSERT = "INSERT INTO series (first, host, metrics, traits) VALUES"
_TRAIT = "INSERT OR REPLACE INTO trait (id, attributes, part, kind) VALUES"


class Columns(NamedTuple):
    """Series that are written, [n] each, their numbers ascending."""

    numbers: I64
    hosts: I64
    metrics: I64
    traits: I64


def write_traits(connection: Connection, made: Sequence[tuple[int, Trait]]) -> None:
    """New traits, each with its number, which another had that no series has any more."""
    rows = [(n, _json_of(attributes), part, kind) for n, (attributes, part, kind) in made]
    insert_rows(connection, _TRAIT, rows)


def write_series(connection: Connection, roster: Roster, numbers: I64) -> None:
    """New series, each once, in any order."""
    own = np.sort(numbers)
    own = own[roster.has(own)]
    hosts, metrics, traits = roster.hosts_of(own), roster.metrics_of(own), roster.trait_numbers(own)
    ends = np.flatnonzero((np.diff(own) != 1) | (np.diff(hosts) != 0)) + 1
    rows = [
        (int(own[run[0]]), int(hosts[run[0]]), _packed(metrics[run]), _packed(traits[run]))
        for run in np.split(np.arange(len(own)), ends)
        if len(run)
    ]
    insert_rows(connection, _INSERT, rows)


def read_traits(connection: Connection, used: I64) -> Iterator[tuple[int, Trait]]:
    """The traits that any series has, with their numbers."""
    wanted = set(used.tolist())
    for number, attributes, part, kind in connection.exec_driver_sql(
        "SELECT id, attributes, part, kind FROM trait ORDER BY id"
    ):
        if number in wanted:
            named = tuple((intern(k), intern(v)) for k, v in json.loads(attributes))
            yield number, (named, intern(part), cast(PointKind, kind))


def remove_other_traits(connection: Connection, used: I64) -> None:
    """Traits that no series has any more."""
    held = [number for (number,) in connection.exec_driver_sql("SELECT id FROM trait")]
    unused = np.setdiff1d(np.array(held, np.int64), used).tolist()
    if unused:
        delete_from(connection, table("trait"), "id", unused)


def read_series(connection: Connection) -> Columns:
    """All series."""
    pieces: list[tuple[I64, I64, I64, I64]] = []
    for first, host, metrics, traits in connection.exec_driver_sql(
        "SELECT first, host, metrics, traits FROM series ORDER BY first"
    ):
        held = _unpacked(metrics)
        pieces.append((first + np.arange(len(held)), np.full(len(held), host), held, _unpacked(traits)))
    none = np.empty(0, np.int64)
    numbers, hosts, metrics, traits = (
        (np.concatenate([none, *column]) for column in zip(*pieces, strict=True))
        if pieces
        else (none, none, none, none)
    )
    there = metrics != GONE
    return Columns(numbers[there], hosts[there], metrics[there], traits[there])


def remove_series(connection: Connection, numbers: Sequence[int]) -> None:
    """Series that are forgotten; some may not be written yet."""
    left = np.unique(np.array(numbers, np.int64))
    while len(left):
        row = connection.exec_driver_sql(
            "SELECT first, metrics FROM series WHERE first <= ? ORDER BY first DESC LIMIT 1", (int(left[0]),)
        ).one_or_none()
        first, metrics = (row.first, _unpacked(row.metrics)) if row is not None else (0, np.empty(0, np.int64))
        mine = left[left < first + len(metrics)]
        if not len(mine):
            left = left[1:]
            continue
        left = left[len(mine) :]
        metrics[mine - first] = GONE
        if (metrics == GONE).all():
            connection.exec_driver_sql("DELETE FROM series WHERE first = ?", (first,))
        else:
            connection.exec_driver_sql("UPDATE series SET metrics = ? WHERE first = ?", (_packed(metrics), first))


def pack(connection: Connection) -> None:
    """Brings series that were written a row each, in `series_apart`, to the form of now."""
    rows = connection.exec_driver_sql(
        "SELECT s.id, s.host, s.metric, t.id FROM series_apart s "
        "JOIN trait t ON t.attributes = s.attributes AND t.part = s.part AND t.kind = s.kind ORDER BY s.id"
    ).all()
    if rows:
        roster = Roster()
        numbers, hosts, metrics, traits = np.array([tuple(row) for row in rows], np.int64).T
        roster.load(numbers, hosts, metrics, traits)
        write_series(connection, roster, numbers)


def _packed(numbers: I64) -> bytes:
    return numbers.astype("<i4").tobytes()


def _unpacked(blob: bytes) -> I64:
    return np.frombuffer(blob, "<i4").astype(np.int64)


@lru_cache(maxsize=4096)
def _json_of(attributes: Attributes) -> str:
    return _ENCODER.encode(attributes)
