"""The groups of a rule: the things that can have an alert of their own."""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import dataclass
from functools import lru_cache
from sys import intern

import numpy as np
from numpy.typing import NDArray

from balise.server.alerts.book import group_key

MOST_HOSTS = 50_000
"""Hosts whose names as keys are remembered."""
MOST_GROUPS = 20_000
"""Groups that events and alerts may make in one rule."""
NO_ATTRIBUTES: dict[str, str] = {}
"""Of all that are a host; never changed."""
I64 = NDArray[np.int64]


@dataclass(slots=True)
class Group:
    """One thing that can have an alert of its own. `rows` is how many series it has."""

    key: str
    host: int | None
    host_name: str
    attributes: dict[str, str]
    rows: int = 0


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

    def key_of(self, host_name: str) -> str:
        """`group_key` of a host's."""
        return f"{self._begin}{_written(host_name)}{self._end}"


class Groups:
    """Groups by number and by key. They are never removed, so that a number stays what it was."""

    def __init__(self, each: Iterable[str]) -> None:
        self.each = list(each)
        self.numbers: dict[str, int] = {}
        self.all: list[Group] = []
        self._of_host: dict[int, list[int]] = {}
        self.left_out = 0

    def __len__(self) -> int:
        return len(self.all)

    def __getitem__(self, number: int) -> Group:
        return self.all[number]

    def of_kin(self, kin: Kin, host: int, host_name: str) -> int:
        """The group of a host, a new one if need be: as `of` its name and what its kin have."""
        key = kin.key_of(host_name)
        number = self.numbers.get(key)
        return self._made(Group(intern(key), host, host_name, kin.values)) if number is None else number

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
        return self._made(Group(key, host if named else None, host_name if named else "", attributes))

    def of_host_itself(self, host: int, name: str) -> int:
        """The group of a host where each has one, a new one if need be."""
        key = _key_of_host(name)
        number = self.numbers.get(key)
        return self._made(Group(key, host, name, NO_ATTRIBUTES)) if number is None else number

    def _made(self, group: Group) -> int:
        number = self.numbers[group.key] = len(self.all)
        self.all.append(group)
        if group.host is not None:
            self._of_host.setdefault(group.host, []).append(number)
        return number

    def count(self, groups: I64) -> None:
        """Each of these, [n], has one more series, as often as it is among them."""
        numbers, more = np.unique(groups, return_counts=True)
        for number, rows in zip(numbers.tolist(), more.tolist(), strict=True):
            self.all[number].rows += rows

    def of_host(self, host: int) -> list[int]:
        """The groups that are a host's own."""
        return self._of_host.get(host, [])


def _key_of(values: dict[str, str]) -> str:
    """`group_key`, the same text for all rules that have groups of the same things."""
    return _key_of_host(values["host"]) if len(values) == 1 and "host" in values else intern(group_key(values))


@lru_cache(maxsize=MOST_HOSTS)
def _written(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)


@lru_cache(maxsize=MOST_HOSTS)
def _key_of_host(name: str) -> str:
    return intern(group_key({"host": name}))
