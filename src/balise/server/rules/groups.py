"""The groups of a rule: the things that can have an alert of their own."""

from __future__ import annotations

import json
from collections.abc import Iterable
from functools import lru_cache
from sys import intern
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from balise.core.rules.room import Room
from balise.server.alerts.book import group_key

MOST_HOSTS = 50_000
"""Hosts whose names as keys are remembered."""
MOST_GROUPS = 20_000
"""Groups that events and alerts may make in one rule."""
NO_ATTRIBUTES: dict[str, str] = {}
"""Of all that are a host; never changed."""
I64 = NDArray[np.int64]


class Group(NamedTuple):
    """One thing that can have an alert of its own."""

    key: str
    host: int | None
    host_name: str
    attributes: dict[str, str]


class Kin:
    """Groups that are alike but for their host: what is the same of their keys is written once."""

    def __init__(self, values: dict[str, str]) -> None:
        """`values` are those beside the host's."""
        self.values = values
        # Host names are remembered as they are written, values are not: those may be long.
        written = {name: json.dumps({name: value}, ensure_ascii=False)[1:-1] for name, value in sorted(values.items())}
        before = [text for name, text in written.items() if name < "host"]
        after = [text for name, text in written.items() if name > "host"]
        self._begin = "{" + "".join(f"{text}, " for text in before) + '"host": '
        self._end = "".join(f", {text}" for text in after) + "}"

    def group_of(self, host: int, host_name: str) -> Group:
        """That of a host; its key is as of `group_key`."""
        key = f"{self._begin}{_written(host_name)}{self._end}"
        return Group(intern(key), host, host_name, self.values)


class Groups:
    """Groups by number and by key. They are never removed, so that a number stays what it was."""

    def __init__(self, each: Iterable[str]) -> None:
        self.each = list(each)
        self.numbers: dict[str, int] = {}
        self.all: list[Group] = []
        self._of_host: dict[int, list[int]] = {}
        self._looked_at = 0
        """How many groups it was made of."""
        self.left_out = 0
        self._rows = np.empty(0, np.int32)
        """Of each how many series it has, as far as any has."""
        self._room = Room({"_rows": 0})

    def __len__(self) -> int:
        return len(self.all)

    def __getitem__(self, number: int) -> Group:
        return self.all[number]

    def of_kin(self, kin: Kin, hosts: Iterable[int], names: Iterable[str]) -> list[int]:
        """The groups of hosts, new ones if need be: of each as `of` its name and what its kin have."""
        return self._numbers_of(map(kin.group_of, hosts, names))

    def of_hosts(self, hosts: Iterable[int], names: Iterable[str]) -> list[int]:
        """The groups of hosts where each has one, new ones if need be."""
        return self._numbers_of(map(_group_of_host, hosts, names))

    def find(self, values: dict[str, str]) -> int | None:
        """The group of these values of `each`."""
        return self.numbers.get(_key_of(values))

    def of(self, values: dict[str, str], host: int | None, host_name: str, *, most: int | None = None) -> int | None:
        """The group of these values, a new one if need be; None when there are `most` of them."""
        key = _key_of(values)
        number = self.numbers.get(key)
        if number is not None:
            return number
        if most is not None and len(self.all) >= most:
            self.left_out += 1
            return None
        named = "host" in self.each
        attributes = {name: value for name, value in values.items() if name != "host"}
        return self._numbers_of([Group(key, host if named else None, host_name if named else "", attributes)])[0]

    def _numbers_of(self, groups: Iterable[Group]) -> list[int]:
        numbers, held = self.numbers, self.all
        found = []
        for group in groups:
            number = numbers.setdefault(group[0], len(held))
            if number == len(held):
                held.append(group)
            found.append(number)
        return found

    def of_host(self, host: int) -> list[int]:
        """The groups that are a host's own."""
        # Few rules are ever asked.
        for number in range(self._looked_at, len(self.all)):
            group = self.all[number]
            if group.host is not None:
                self._of_host.setdefault(group.host, []).append(number)
        self._looked_at = len(self.all)
        return self._of_host.get(host, [])

    # --- how many series they have

    def count(self, groups: I64) -> None:
        """Each of these, [n], has one more series, as often as it is among them."""
        self._make_room()
        np.add.at(self._rows, groups, 1)

    def recount(self, before: int | None, after: int | None) -> None:
        """A series went from one group to another, where it was in any and is in any."""
        self._make_room()
        if before is not None:
            self._rows[before] -= 1
        if after is not None:
            self._rows[after] += 1

    def rows_of(self, number: int) -> int:
        """How many series a group has."""
        return int(self._rows[number]) if number < len(self._rows) else 0

    def _make_room(self) -> None:
        if len(self._rows) < len(self.all):
            vars(self).update(self._room.grow(vars(self), len(self.all) - len(self._rows)))


def _key_of(values: dict[str, str]) -> str:
    """`group_key`, the same text for all rules that have groups of the same things."""
    return _key_of_host(values["host"]) if len(values) == 1 and "host" in values else intern(group_key(values))


@lru_cache(maxsize=MOST_HOSTS)
def _group_of_host(host: int, name: str) -> Group:
    """The same for all rules that have one of each host."""
    return Group(_key_of_host(name), host, name, NO_ATTRIBUTES)


@lru_cache(maxsize=MOST_HOSTS)
def _written(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)


@lru_cache(maxsize=MOST_HOSTS)
def _key_of_host(name: str) -> str:
    return intern(group_key({"host": name}))
