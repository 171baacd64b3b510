"""The catalogue's columns against dictionaries, over series that come alone and together, go, and are read again."""

from __future__ import annotations

from typing import Any

import numpy as np
import pytest
from hypothesis import settings
from hypothesis import strategies as st
from hypothesis.stateful import RuleBasedStateMachine, invariant, rule
from sqlalchemy import create_engine

from balise.store.series import catalogue as catalogues
from balise.store.series import numbers, roster, tables
from balise.store.series.catalogue import Catalogue, Keys, TooMany
from balise.store.series.places import Key, Places

MOST_A_HOST = 12
HOSTS, NAMES = st.integers(1, 3), st.sampled_from(["a", "b", "c"])
TRAITS = st.tuples(
    st.lists(st.tuples(st.sampled_from("xy"), st.sampled_from("12")), max_size=1, unique_by=lambda pair: pair[0]).map(
        tuple
    ),
    st.sampled_from(["", "count"]),
    st.sampled_from(["gauge", "counter"]),
)


class CatalogueModel(RuleBasedStateMachine):
    """`held` is what there is: a number by host, metric and trait."""

    def __init__(self) -> None:
        super().__init__()
        self.engine = create_engine("sqlite://")
        tables.metadata.create_all(self.engine)
        self.connection = self.engine.connect()
        self.patched = pytest.MonkeyPatch()
        # Names that nothing has any more are looked for all the time.
        self.patched.setattr(roster, "MOST_NAMES", 1)
        self.patched.setattr(numbers, "LOOSE", 3)
        self.patched.setattr(numbers, "PIECES", 4)
        self.catalogue = Catalogue(most_series_a_host=MOST_A_HOST)
        self.named: dict[str, set[str]] = {}
        self.held: dict[tuple[int, str, Any], int] = {}
        self.known: dict[tuple[Any, ...], Keys] = {}
        self.gone: set[int] = set()

    def count(self, host: int) -> int:
        return sum(key[0] == host for key in self.held)

    def note(self, host: int, name: str, trait: Any, number: int) -> None:
        before = self.held.setdefault((host, name, trait), number)
        assert before == number and number not in self.gone
        self.named.setdefault(name, set()).update(key for key, _ in trait[0])
        assert list(self.held.values()).count(number) == 1

    @rule(host=HOSTS, name=NAMES, trait=TRAITS)
    def one(self, host: int, name: str, trait: Any) -> None:
        metric = self.catalogue.metric(name, "1", "gauge", "")
        room = (host, name, trait) in self.held or self.count(host) < MOST_A_HOST
        try:
            self.note(host, name, trait, self.catalogue.series_id(host, metric, *trait))
            assert room
        except TooMany:
            assert not room

    @rule(host=HOSTS, wanted=st.lists(st.tuples(NAMES, st.lists(TRAITS, min_size=1, max_size=4)), max_size=3))
    def many(self, host: int, wanted: list[tuple[str, list[Any]]]) -> None:
        flat = [(name, trait) for name, traits in wanted for trait in traits]
        asked = [(self.catalogue.metric(name, "1", "gauge", ""), traits) for name, traits in wanted]
        key = tuple((name, tuple(traits)) for name, traits in wanted)
        found, self.known[key] = self.catalogue.numbers_of(host, asked, self.known.get(key))
        assert len(found) == len(flat)
        for (name, trait), number in zip(flat, found.tolist(), strict=True):
            if (host, name, trait) in self.held or self.count(host) < MOST_A_HOST:
                self.note(host, name, trait, number)
            else:
                assert number == -1

    @rule(host=HOSTS, data=st.data(), trait=TRAITS)
    def like(self, host: int, data: st.DataObject, trait: Any) -> None:
        """Series like those that were asked for before, but that some of them have another trait."""
        if not self.known:
            return
        key = data.draw(st.sampled_from(sorted(self.known, key=repr)))
        flat = [(name, one) for name, traits in key for one in traits]
        others = data.draw(st.lists(st.integers(0, len(flat) - 1), unique=True)) if flat else []
        wanted = [(name, trait if place in others else one) for place, (name, one) in enumerate(flat)]
        which = np.zeros(len(others), np.int64)
        found = self.catalogue.layout_like(host, self.known[key], np.array(others, np.int64), [trait], which)
        if found is not None:
            numbers = found.series.tolist()
            for (name, one), number in zip(wanted, numbers, strict=True):
                self.note(host, name, one, number)
            assert (found.plain, found.largest) == (len(set(numbers)) == len(numbers), max(numbers, default=-1))
            assert all(found.columns(one) == [n for n, it in enumerate(numbers) if it == one] for one in numbers)

    @rule(data=st.data(), written=st.booleans())
    def forget(self, data: st.DataObject, written: bool) -> None:
        if self.held:
            gone = data.draw(st.lists(st.sampled_from(sorted(self.held.values())), unique=True, min_size=1))
            if written:
                self.catalogue.take_pending().write(self.connection, self.catalogue.series)
            self.catalogue.forget(self.connection, gone)
            self.held = {key: number for key, number in self.held.items() if number not in gone}
            self.gone.update(gone)

    @rule()
    def again(self) -> None:
        self.catalogue.take_pending().write(self.connection, self.catalogue.series)
        self.connection.commit()
        self.catalogue = Catalogue(most_series_a_host=MOST_A_HOST)
        self.catalogue.load(self.connection)
        self.known.clear()
        self.named.clear()
        for (_, name, trait), _number in self.held.items():
            self.named.setdefault(name, set()).update(key for key, _ in trait[0])

    @invariant()
    def agrees(self) -> None:
        series = self.catalogue.series
        assert len(series) == len(self.held)
        assert series.numbers().tolist() == sorted(self.held.values()) == list(series)
        for (host, name, trait), number in self.held.items():
            metric = self.catalogue.metrics[name]
            one = series[number]
            assert (one.id, one.host, one.metric, (one.attributes, one.part, one.kind)) == (
                number, host, metric.id, trait,
            )  # fmt: skip
            assert self.catalogue.find(host, metric, *trait) == number
        for host in {key[0] for key in self.held}:
            mine = {number for key, number in self.held.items() if key[0] == host}
            assert set(self.catalogue.of_host(host)) == mine
            assert set(series.hosts_of(sorted(mine)).tolist()) == {host}
        for metric in self.catalogue.metrics.values():
            mine = {number for key, number in self.held.items() if key[1] == metric.name}
            assert list(metric.series) == sorted(mine) and len(metric.series) == len(mine)
            assert metric.attributes == self.named.get(metric.name, set())
        assert not any(number in series for number in self.gone)

    def teardown(self) -> None:
        self.patched.undo()
        self.connection.close()
        self.engine.dispose()


@pytest.mark.parametrize("between", ["nothing", "alone", "others", "gone"])
def test_of_each_metric_there_are_the_series_of_all_kin_whatever_comes_between(
    monkeypatch: pytest.MonkeyPatch, between: str
) -> None:
    for module in (numbers, catalogues):
        monkeypatch.setattr(module, "LOOSE", 3)
    monkeypatch.setattr(numbers, "PIECES", 4)
    engine = create_engine("sqlite://")
    tables.metadata.create_all(engine)
    catalogue = Catalogue()
    metrics = [catalogue.metric(name, "1", "gauge", "") for name in "ab"]
    traits = [(((("x", str(n)),)), "", "gauge") for n in range(2)]
    held: dict[int, list[int]] = {metric.id: [] for metric in metrics}
    with engine.connect() as connection:
        for host in range(1, 20):
            found, _ = catalogue.numbers_of(host, [(metric, traits) for metric in metrics])
            for metric, mine in zip(metrics, found.reshape(2, 2).tolist(), strict=True):
                held[metric.id] += mine
            if between == "alone":
                held[1].append(catalogue.series_id(host, metrics[0], (), "count", "gauge"))
            elif between == "others" and host % 2:
                held[2] += catalogue.numbers_of(host + 100, [(metrics[1], traits)])[0].tolist()
            elif between == "gone":
                catalogue.take_pending().write(connection, catalogue.series)
                catalogue.forget(connection, [held[1].pop(0)])
            for metric in metrics:
                assert list(metric.series) == held[metric.id] and len(metric.series) == len(held[metric.id])


def test_keys_of_what_was_forgotten_find_nothing_of_what_came_after() -> None:
    engine = create_engine("sqlite://")
    tables.metadata.create_all(engine)
    catalogue = Catalogue()
    metric = catalogue.metric("depth", "m", "gauge", "")
    old, new = ((("berth", "1"),), "", "gauge"), ((("berth", "2"),), "", "gauge")
    first, keys = catalogue.numbers_of(1, [(metric, [old])])  # type: ignore[list-item]
    with engine.connect() as connection:
        catalogue.take_pending().write(connection, catalogue.series)
        catalogue.forget(connection, first.tolist())
    second = catalogue.series_id(1, metric, *new)  # type: ignore[arg-type]
    [third], _ = catalogue.numbers_of(1, [(metric, [old])], keys)  # type: ignore[list-item]
    assert len({int(first[0]), second, int(third)}) == 3
    assert catalogue.series[int(third)].attributes == (("berth", "1"),)


def test_a_series_that_comes_twice_at_once_is_one() -> None:
    catalogue = Catalogue()
    metric = catalogue.metric("depth", "m", "gauge", "")
    one, other = (((("berth", berth),), "", "gauge") for berth in "ab")
    numbers, _ = catalogue.numbers_of(1, [(metric, [one, other, one])])  # type: ignore[list-item]
    assert numbers[0] == numbers[2] != numbers[1] and len(catalogue.series) == len(metric.series) == 2


class PlacesModel(RuleBasedStateMachine):
    """`held` is which series each stripe has."""

    def __init__(self) -> None:
        super().__init__()
        self.places = Places()
        self.held: dict[Key, set[int]] = {}

    @rule(number=st.integers(1, 6), series=st.lists(st.integers(0, 9), min_size=1, max_size=5, unique=True))
    def add(self, number: int, series: list[int]) -> None:
        key = (number, True)
        if key not in self.held:
            self.held[key] = set(series)
            self.places.add(key, np.array(series))

    @rule(data=st.data())
    def remove(self, data: st.DataObject) -> None:
        if self.held:
            key = data.draw(st.sampled_from(sorted(self.held)))
            self.places.remove(key, np.array(sorted(self.held.pop(key))))

    @invariant()
    def agrees(self) -> None:
        for one in range(12):
            wanted = {key for key, series in self.held.items() if one in series}
            assert set(self.places.of_any(np.array([one]))) == wanted
            assert self.places.shares(np.array([one])) == (len(wanted) > 1)
        assert set(self.places.of_any(np.arange(12))) == set(self.held)


TestCatalogue = CatalogueModel.TestCase
TestCatalogue.settings = settings(max_examples=150, stateful_step_count=30, deadline=None)
TestPlaces = PlacesModel.TestCase
TestPlaces.settings = settings(max_examples=100, stateful_step_count=30, deadline=None)
