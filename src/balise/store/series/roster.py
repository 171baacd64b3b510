"""All series as columns: of each its host, its metric, and what else tells it apart."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from balise.core.series.wire import Attributes, PointKind, Trait

I32 = NDArray[np.int32]
I64 = NDArray[np.int64]
Names = tuple[str, ...]
NOBODY = -1
MOST_NAMES = 20_000
"""Names that attributes have together, from which on those that nothing has any more are looked for."""
UNCOUNTED = 50_000
"""Series that wait until it is counted which traits they have."""


class Series(NamedTuple):
    """One series, as it is named."""

    id: int
    host: int
    metric: int
    attributes: Attributes
    part: str
    kind: PointKind


GAUGE, DELTA, PART = 1, 2, 4
"""What of its kind is kept of each trait."""
NO_TRAIT: Trait = ((), "", "gauge")
"""Of what is not there any more."""


class Kinds(NamedTuple):
    """Of several series, [n], which are gauges, which are amounts since the point before, and which are a part of a
    histogram or of a summary."""

    gauge: NDArray[np.bool_]
    delta: NDArray[np.bool_]
    part: NDArray[np.bool_]

    def rows(self, chosen: NDArray[np.intp]) -> Kinds:
        return Kinds(self.gauge[chosen], self.delta[chosen], self.part[chosen])


class Roster:
    """Series by number, a few bytes each; named when they are asked for. Written under the catalogue's lock, read by
    any thread: what is there stays where it is, or is gone."""

    def __init__(self) -> None:
        self._host = np.empty(0, np.int32)
        self._metric = np.empty(0, np.int32)
        self._trait = np.empty(0, np.int32)
        self._traits: list[Trait | None] = []
        self._numbers: dict[Trait, int] = {}
        self._names: list[Names] = []
        self._name_of = np.empty(0, np.int32)
        """Of each trait which of the names its attributes have."""
        self._kind_of = np.empty(0, np.int8)
        """Of each trait what of its kind holds."""
        self._alike: dict[Names, int] = {}
        self._most_names = MOST_NAMES
        self.renumbered = 0
        """How often names were given other numbers."""
        self._uses = np.empty(0, np.int64)
        """Of each trait how many series have it, but for those that wait to be counted."""
        self._uncounted: list[I64] = []
        self._waiting = 0
        self._free: list[int] = []
        self._made: list[tuple[int, Trait]] = []
        self._end = 0
        self._count = 0

    # --- one

    def __getitem__(self, number: int) -> Series:
        """Raises KeyError for one that is not there."""
        found = self.get(number)
        if found is None:
            raise KeyError(number)
        return found

    def get(self, number: int) -> Series | None:
        if number not in self:
            return None
        trait = self._traits[self._trait[number]]
        host = int(self._host[number])
        # It may be forgotten meanwhile.
        return Series(number, host, int(self._metric[number]), *trait) if trait is not None and host != NOBODY else None

    def __contains__(self, number: int) -> bool:
        return 0 <= number < self._end and self._host[number] != NOBODY

    def __len__(self) -> int:
        return self._count

    def __iter__(self) -> Iterator[int]:
        return iter(self.numbers().tolist())

    def values(self) -> Iterator[Series]:
        """All of them, as they are now."""
        found = (self.get(number) for number in self)
        return (one for one in found if one is not None)

    # --- many

    def numbers(self) -> I64:
        """Those that there are, ascending."""
        return np.flatnonzero(self._host[: self._end] != NOBODY)

    def has(self, numbers: I64) -> NDArray[np.bool_]:
        """Whether each is there."""
        end = self._end
        known = (numbers >= 0) & (numbers < end)
        known[known] = self._host[numbers[known]] != NOBODY
        return known

    def hosts_of(self, numbers: I64 | Sequence[int]) -> I64:
        """The host of each, which must have been there once."""
        return self._host[numbers].astype(np.int64)

    def metrics_of(self, numbers: I64 | Sequence[int]) -> I64:
        return self._metric[numbers].astype(np.int64)

    def kinds_of(self, numbers: I64 | Sequence[int]) -> list[PointKind]:
        return [trait[2] for trait in self._traits_of(numbers)]

    def all_kinds(self, numbers: I64) -> Kinds:
        """What kind each is of, of many at once."""
        found = self._kind_of[self._trait[numbers]]
        return Kinds(found & GAUGE != 0, found & DELTA != 0, found & PART != 0)

    def parts_of(self, numbers: I64 | Sequence[int]) -> list[str]:
        return [trait[1] for trait in self._traits_of(numbers)]

    def trait_numbers(self, numbers: I64) -> I64:
        return self._trait[numbers].astype(np.int64)

    def _traits_of(self, numbers: I64 | Sequence[int]) -> list[Trait]:
        traits = self._traits
        found = [traits[place] for place in self._trait[numbers].tolist()]
        return [trait if trait is not None else NO_TRAIT for trait in found]

    # --- what tells them apart

    def trait(self, made: Trait) -> int:
        """The number of a trait, a new one if need be; it stays while a series has it."""
        found = self._numbers.get(made)
        if found is not None:
            return found
        if self._free:
            number = self._free.pop()
            self._traits[number] = made
        else:
            number = len(self._traits)
            self._traits.append(made)
        self._numbers[made] = number
        self._note(number, made)
        self._made.append((number, made))
        return number

    def take_made(self) -> list[tuple[int, Trait]]:
        """The traits that are new since the last time, in the order they came."""
        taken, self._made = self._made, []
        return taken

    def load_trait(self, number: int, made: Trait) -> None:
        """Takes up one that is written; those between are free."""
        for free in range(len(self._traits), number):
            self._traits.append(None)
            self._free.append(free)
        self._traits.append(made)
        self._numbers[made] = number
        self._note(number, made)

    def name_numbers(self, traits: I64) -> I64:
        """Which names of attributes there are together in each of these traits: numbers that `names` knows."""
        return self._name_of[traits].astype(np.int64)

    def names(self, number: int) -> Names:
        return self._names[number]

    def _note(self, trait: int, made: Trait) -> None:
        attributes, part, kind = made
        if trait >= len(self._name_of):
            more = np.zeros(trait + trait // 4 + 64 - len(self._name_of), np.int32)
            self._name_of = np.concatenate([self._name_of, more])
            self._kind_of = np.concatenate([self._kind_of, more.astype(np.int8)])
        if len(self._names) > self._most_names:
            self._renumber()
        self._name_of[trait] = self._number_of(attributes)
        self._kind_of[trait] = (kind == "gauge") * GAUGE | (kind == "delta") * DELTA | (part != "") * PART

    def _renumber(self) -> None:
        """Names that no trait has any more go, and the others have other numbers."""
        self._alike, self._names = {}, []
        self.renumbered += 1
        for place, trait in enumerate(self._traits):
            if trait is not None:
                self._name_of[place] = self._number_of(trait[0])
        self._most_names = max(MOST_NAMES, 2 * len(self._names))

    def _number_of(self, attributes: Attributes) -> int:
        names = tuple([name for name, _ in attributes])
        number = self._alike.get(names)
        if number is None:
            number = self._alike[names] = len(self._names)
            self._names.append(names)
        return number

    def find_trait(self, made: Trait) -> int | None:
        return self._numbers.get(made)

    # --- coming and going

    def add(self, number: int, host: int, metric: int, trait: int) -> None:
        self._room(number + 1)
        self._metric[number], self._trait[number], self._host[number] = metric, trait, host
        self._use(np.array([trait]))
        self._end = max(self._end, number + 1)
        self._count += 1

    def add_many(self, first: int, host: int, metrics: I64, traits: I64) -> None:
        """Series of one host, with numbers from `first` on."""
        end = first + len(metrics)
        self._room(end)
        self._metric[first:end], self._trait[first:end], self._host[first:end] = metrics, traits, host
        self._use(traits)
        self._end = max(self._end, end)
        self._count += len(metrics)

    def load(self, numbers: I64, hosts: I64, metrics: I64, traits: I64) -> None:
        """Takes up what is written, into an empty one; numbers ascending."""
        self._room(int(numbers[-1]) + 1)
        self._host[numbers], self._metric[numbers], self._trait[numbers] = hosts, metrics, traits
        self._use(traits)
        self._end, self._count = int(numbers[-1]) + 1, len(numbers)

    def remove(self, number: int) -> None:
        self._count_uses()
        place = int(self._trait[number])
        self._host[number] = NOBODY
        self._count -= 1
        self._uses[place] -= 1
        self.drop_unused([place])

    def drop_unused(self, traits: Sequence[int]) -> None:
        """Forgets those of these traits that no series has."""
        self._count_uses()
        for place in traits:
            trait = self._traits[place]
            if not self._uses[place] and trait is not None:
                del self._numbers[trait]
                self._traits[place] = None
                self._free.append(place)

    def _use(self, traits: I64) -> None:
        """Series have these traits; they are counted many at a time."""
        self._uncounted.append(traits)
        self._waiting += len(traits)
        if self._waiting >= UNCOUNTED:
            self._count_uses()

    def _count_uses(self) -> None:
        if len(self._uses) < len(self._traits):
            more = np.zeros(len(self._traits) + len(self._traits) // 4 + 64 - len(self._uses), np.int64)
            self._uses = np.concatenate([self._uses, more])
        if self._waiting:
            counts = np.bincount(np.concatenate(self._uncounted))
            self._uses[: len(counts)] += counts
            self._uncounted, self._waiting = [], 0

    def _room(self, size: int) -> None:
        if size > len(self._host):
            more = np.full(size + size // 4 + 64 - len(self._host), NOBODY, np.int32)
            self._metric = np.concatenate([self._metric, more])
            self._trait = np.concatenate([self._trait, more])
            self._host = np.concatenate([self._host, more])
