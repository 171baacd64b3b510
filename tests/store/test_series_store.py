"""The series store: durable, in order, each moment once; sealed, rolled up, forgotten."""

from __future__ import annotations

import threading
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any
from unittest.mock import Mock

import numpy as np
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from sqlalchemy.exc import OperationalError

from balise.core.moments import NS
from balise.core.series.steps import Steps
from balise.store.series import tables
from balise.store.series.catalogue import Catalogue, Metric, TooMany
from balise.store.series.matrices import DAY
from balise.store.series.query import QueryEngine, Selector
from balise.store.series.recent import Recent
from balise.store.series.store import Retention, SeriesStore
from olden import with_a_row_for_each
from store_box import Hosts

T0 = 1_800_000_000 * NS // DAY * DAY
FIVE = 300 * NS


class Box:
    """A store with one metric, and shorthand for putting points in and asking for them."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.open()

    def open(self) -> None:
        self.store = SeriesStore(self.folder, retention=Retention(raw=3, five_minutes=10, hour=100))
        self.metric = self.store.catalogue.metric("tide", "m", "gauge", "height")
        self.engine = QueryEngine(
            self.store.catalogue, self.store.reader, Selector(self.store.catalogue, Hosts()), self.store.kept_since
        )

    def again(self) -> None:
        self.store.close()
        self.open()

    def ids(self, *names: str, host: int = 1, metric: Metric | None = None) -> np.ndarray:
        chosen = metric or self.metric
        made = [self.store.catalogue.series_id(host, chosen, (("berth", n),), "", "gauge") for n in names]
        return np.array(made, np.int64)

    def put(self, ids: np.ndarray, times: list[int], values: list[float]) -> None:
        layout = self.store.catalogue.layouts.of(ids)
        self.store.accept_now(self.store.batch(layout, np.array(times, np.int64), np.array(values, float)))

    def row(self, second: float, *values: float, names: str = "ab") -> None:
        self.put(self.ids(*names), [T0 + int(second * NS)] * len(values), list(values))

    def read(self, name: str = "a") -> list[tuple[float, float]]:
        times, values = self.store.reader.raw(self.ids(name).tolist(), 0, 2**62)[0]
        return [((t - T0) / NS, v) for t, v in zip(times.tolist(), values.tolist(), strict=True)]

    def rolled(self, tier: str = "5m", steps: int = 12) -> np.ndarray:
        width = {"5m": FIVE, "1h": 12 * FIVE}[tier]
        wanted = {"low", "high", "total", "count", "last", "grown", "seen"}
        series = self.ids("a").tolist()
        s = self.store.reader.rolled(tier, self.metric.id, series, Steps(T0, width, steps), wanted)  # type: ignore[arg-type]
        return np.vstack([s.low[0], s.high[0], s.total[0], s.count[0], s.last[0], s.grown[0], s.seen[0]])


@pytest.fixture
def box(tmp_path: Path) -> Iterator[Box]:
    made = Box(tmp_path)
    yield made
    made.store.close()


def test_what_was_accepted_is_there_after_a_restart(box: Box) -> None:
    box.row(0, 1.0, 10.0)
    box.row(15, 2.0, 20.0)
    box.again()
    assert box.read("a") == [(0.0, 1.0), (15.0, 2.0)]
    assert box.read("b") == [(0.0, 10.0), (15.0, 20.0)]


@given(
    st.lists(
        st.tuples(st.sampled_from(["ab", "a", "ba", "bc"]), st.integers(0, 40), st.booleans()), min_size=1, max_size=60
    ),
    st.integers(0, 60),
    st.booleans(),
)
@settings(max_examples=40, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_what_waits_is_what_it_was_after_a_start(
    tmp_path_factory: pytest.TempPathFactory, came: list[tuple[str, int, bool]], sealed: int, wholly: bool
) -> None:
    """Bodies of several layouts, in order, late and repeated, of one moment or of several, some sealed meanwhile, and
    of some of the host's series more than of others."""
    box = Box(tmp_path_factory.mktemp("waits"))
    for count, (names, minute, apart) in enumerate(came):
        at = T0 + minute * 60 * NS
        times = [at + (NS * place if apart else 0) for place in range(len(names))]
        box.put(box.ids(*names), times, [float(count)] * len(names))
        if count == sealed:
            box.store.seal(T0 + 20 * 60 * NS, None if wholly else list(box.store.head.stripes)[:1])
    before = [box.read(name) for name in "abc"]
    seqs, samples = box.store._seq, box.store.head.samples
    box.again()
    assert [box.read(name) for name in "abc"] == before
    assert (box.store._seq, box.store.head.samples, box.store.repeated) == (seqs, samples, 0)
    # Sealed, it is still all of it, each once, and what comes again is known.
    names, minute, _ = came[0]
    box.put(box.ids(*names[:1]), [T0 + minute * 60 * NS], [99.0])
    assert box.store.repeated == 1
    box.store.seal(T0 + DAY)
    assert [box.read(name) for name in "abc"] == before
    assert box.store.head.samples == 0
    box.store.close()


def test_what_is_recent_is_told_while_what_is_older_is_sealed(box: Box, monkeypatch: pytest.MonkeyPatch) -> None:
    for second in (0, 15, 600):
        box.row(second, float(second), 0.0)
    series, drop = box.ids("a").tolist(), box.store.head.drop
    told: dict[int, list[float]] = {}

    def ask(since: int) -> threading.Thread:
        def answered() -> None:
            told[since] = box.store.reader.raw(series, T0 + since * NS, 2**62)[0][1].tolist()

        asking = threading.Thread(target=answered)
        asking.start()
        return asking

    asking = []

    def dropping(*given: Any) -> None:
        # Those are written, and nobody who needs both places may look at either.
        ask(300).join(20)
        assert told == {300: [600.0]}
        drop(*given)
        asking.append(ask(10))
        time.sleep(0.2)

    monkeypatch.setattr(box.store.head, "drop", dropping)
    box.store.seal(T0 + 60 * NS)
    asking[0].join(20)
    assert told == {300: [600.0], 10: [15.0, 600.0]}


@pytest.mark.parametrize(
    ("names", "every", "rows"),
    [("a", 15, [5760, 1440]), ("ab", 3600, [480, 480]), ("abcdefghij", 15, [2400, 2400, 960, 1440])],
)
def test_blocks_of_few_series_are_long_but_end_at_midnight(box: Box, names: str, every: int, rows: list[int]) -> None:
    times = T0 + np.arange(sum(rows)) * every * NS
    values = np.arange(len(names) * len(times), dtype=float).reshape(len(names), -1)
    box.store.lay_down([box.ids(*names)], [times], [values])
    with box.store.engine.connect() as connection:
        found = connection.exec_driver_sql("SELECT samples, last - first FROM block ORDER BY first").all()
    assert [samples for samples, _ in found] == [len(names) * count for count in rows]
    assert all(span < DAY or samples == 480 * len(names) for samples, span in found)
    assert [value for _, value in box.read()] == values[0].tolist()


def test_points_out_of_order_land_in_their_place(box: Box) -> None:
    for second in (30, 0, 15):
        box.row(second, float(second), 0.0)
    assert [at for at, _ in box.read()] == [0.0, 15.0, 30.0]
    box.store.seal(T0 + 60 * NS)
    assert [at for at, _ in box.read()] == [0.0, 15.0, 30.0]


@pytest.mark.parametrize("sealed", [False, True])
def test_the_same_moment_counts_once(box: Box, sealed: bool) -> None:
    box.row(0, 1.0, 1.0)
    if sealed:
        box.store.seal(T0 + 60 * NS)
    box.row(0, 9.0, 9.0)
    assert box.read() == [(0.0, 1.0)]
    assert box.rolled()[3, 0] == 1
    box.store.seal(T0 + 600 * NS)
    assert box.read() == [(0.0, 1.0)]
    assert box.rolled()[3, 0] == 1
    box.again()
    assert box.rolled()[3, 0] == 1


def test_sealing_changes_no_answer(box: Box) -> None:
    for i in range(240):
        box.row(15 * i, float(i % 7), float(i))
    before, sums = box.read(), box.rolled()
    assert box.store.seal(T0 + 1800 * NS) == 2 * 120
    assert box.read() == before
    np.testing.assert_array_equal(box.rolled(), sums)
    box.store.seal(T0 + DAY)
    assert box.store.head.samples == 0
    assert box.read() == before
    np.testing.assert_array_equal(box.rolled(), sums)
    turns = 0
    while done := box.store.compact(T0 + 3 * DAY, longest=0.0):
        turns += 1
        assert done == 1, "a turn that may take no time does one"
        np.testing.assert_array_equal(box.rolled(), sums)
    assert turns > 1
    box.again()
    assert box.read() == before
    assert box.rolled("1h", 1)[3, 0] == 240


def test_sealing_in_the_middle_of_an_answer_changes_none(box: Box, monkeypatch: pytest.MonkeyPatch) -> None:
    def late(*asked: Any) -> Recent:
        """What was recent when the view was taken is sealed before it is looked at."""
        box.store.seal(T0 + DAY)
        return Recent(*asked)

    for i in range(120):
        box.row(15 * i, float(i % 7), float(i))
    box.store.seal(T0 + 600 * NS)
    before, sums = box.read(), box.rolled()
    monkeypatch.setattr("balise.store.series.reader.Recent", late)
    np.testing.assert_array_equal(box.rolled(), sums)
    assert box.store.head.samples == 0
    box.row(15 * 120, 3.0, 3.0)
    assert box.read() == [*before, (1800.0, 3.0)]
    assert box.store.head.samples == 0


def test_what_comes_late_is_added_to_what_was_rolled_up(box: Box) -> None:
    for second in (0, 15, 45):
        box.row(second, 5.0, 5.0)
    box.store.seal(T0 + 600 * NS)
    box.row(30, 9.0, 9.0)
    for _ in range(2):
        assert box.rolled()[:, 0].tolist() == [5.0, 9.0, 24.0, 4.0, 5.0, 0.0, 45.0]
        box.store.seal(T0 + 600 * NS)
    assert [at for at, _ in box.read()] == [0.0, 15.0, 30.0, 45.0]


def test_points_of_one_body_may_have_their_own_times(box: Box) -> None:
    ids = box.ids("a", "a", "b")
    box.put(ids, [T0, T0 + NS, T0 + 2 * NS], [1.0, 2.0, 3.0])
    box.put(ids, [T0 + NS, T0 + 3 * NS, T0 + 4 * NS], [7.0, 4.0, 5.0])
    wanted = [(0.0, 1.0), (1.0, 2.0), (3.0, 4.0)]
    assert box.read() == wanted
    box.store.seal(T0 + 60 * NS)
    assert box.read() == wanted
    box.again()
    assert box.read() == wanted


@settings(max_examples=25, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(st.one_of(st.integers(0, 200), st.just("seal"), st.just("again")), min_size=1, max_size=30))
def test_whatever_happens_in_whatever_order_nothing_is_lost_or_doubled(
    tmp_path_factory: pytest.TempPathFactory, story: list[object]
) -> None:
    box = Box(tmp_path_factory.mktemp("story"))
    wanted: dict[float, float] = {}
    for number, step in enumerate(story):
        if step == "again":
            box.again()
        elif step == "seal":
            box.store.seal(T0 + 100 * NS)
        else:
            second = float(str(step))
            wanted.setdefault(second, float(number))
            box.row(second, float(number), 0.0)
    assert box.read() == sorted(wanted.items())
    assert box.rolled()[3].sum() == len(wanted)
    box.store.seal(T0 + DAY)
    assert box.rolled()[3].sum() == len(wanted)
    box.store.close()


def test_each_tier_is_forgotten_in_its_own_time(box: Box) -> None:
    for i in range(10):
        box.row(15 * i, 1.0, 1.0)
    box.store.seal(T0 + DAY)
    box.store.forget(T0 + 5 * DAY)
    assert box.read() == []
    assert box.rolled()[3].sum() == 10
    box.store.forget(T0 + 20 * DAY)
    assert box.rolled()[3].sum() == 0
    assert box.rolled("1h", 1)[3].sum() == 10


def test_history_laid_down_in_bulk_is_like_any_other(box: Box) -> None:
    ids = box.ids("a", "b")
    times = T0 + np.arange(100) * 15 * NS
    box.store.lay_down([ids], [times], [np.vstack([np.arange(100.0), np.zeros(100)])])
    assert len(box.read()) == 100
    assert box.rolled()[3].sum() == 100
    box.row(2000, 1.0, 2.0)
    box.again()
    assert len(box.read()) == 101


def test_a_host_has_only_so_many_series() -> None:
    catalogue = Catalogue(most_series_a_host=2)
    metric = catalogue.metric("m", "1", "gauge", "")
    for name in ("a", "b"):
        catalogue.series_id(1, metric, (("k", name),), "", "gauge")
    with pytest.raises(TooMany):
        catalogue.series_id(1, metric, (("k", "c"),), "", "gauge")
    assert catalogue.series_id(1, metric, (("k", "a"),), "", "gauge") == 1
    assert catalogue.series_id(2, metric, (("k", "c"),), "", "gauge") == 3


def test_room_is_made_for_new_series_by_those_silent_for_longest(tmp_path: Path) -> None:
    """Containers that come and go: of ten series allowed, the ones that stopped days ago give way; none is reused."""
    box = Box(tmp_path)
    box.store.catalogue._most_a_host = 10
    for day, names in enumerate(("abc", "def", "ghij")):
        box.put(box.ids(*names), [T0 + day * DAY] * len(names), [1.0] * len(names))
        box.store.seal(T0 + (day + 1) * DAY)
    with pytest.raises(TooMany):
        box.ids("k")
    assert box.store.make_room(T0 + 2 * DAY + 3600 * NS) == 2
    box.put(box.ids("k"), [T0 + 2 * DAY], [1.0])
    assert int(box.ids("k")[0]) == 11
    left = {dict(s.attributes)["berth"] for s in box.store.catalogue.series.values()}
    assert left == set("cdefghijk")
    box.again()
    assert int(box.ids("new")[0]) == 12
    box.store.close()


def test_a_row_that_cannot_be_sealed_is_set_aside_and_the_rest_is_sealed(box: Box) -> None:
    box.row(0, 1.0, 2.0)
    box.row(0, 3.0, names="x")
    bad = (int(box.ids("x")[0]),)
    real = box.store._encoder.encode_many

    def failing(blocks: list[np.ndarray], ids: list[np.ndarray] | None = None) -> list[bytes]:
        if ids is not None and set(bad) & set(np.concatenate(ids).tolist()):
            raise ValueError("cannot be packed")
        return real(blocks, ids)

    box.store._encoder.encode_many = failing  # type: ignore[method-assign]
    box.store.seal(T0 + 600 * NS)
    box.store._encoder.encode_many = real  # type: ignore[method-assign]
    assert (box.store.count_set_aside(), box.store.head.samples) == (1, 0)
    box.again()
    assert (box.read(), box.read("x"), box.store.count_set_aside()) == ([(0.0, 1.0)], [], 1)


def test_a_repeat_within_one_commit_and_a_restart_leave_sealing_alone(box: Box) -> None:
    """What the door was made for: twins in one group, then a restart, then sealing, and another restart."""
    ids = box.ids("a", "b")
    layout = box.store.catalogue.layouts.of(ids)
    twin = box.store.batch(layout, np.array([T0], np.int64), np.array([1.0, 2.0]))
    other = box.store.batch(box.store.catalogue.layouts.of(ids[::-1]), np.array([T0], np.int64), np.array([9.0, 9.0]))
    box.store._writer.run(lambda: box.store._commit([twin, twin, other]))
    assert box.store.repeated == 4
    box.again()
    box.store.seal(T0 + 600 * NS)
    assert box.store.head.samples == 0
    box.again()
    assert (box.read("a"), box.read("b"), box.rolled()[3, 0]) == ([(0.0, 1.0)], [(0.0, 2.0)], 1.0)


def test_twins_that_an_earlier_version_left_in_the_inbox_go_at_the_start(box: Box) -> None:
    box.row(0, 1.0, 2.0)
    connection = box.store._write_connection
    connection.exec_driver_sql("INSERT INTO inbox SELECT seq + 1, layout, times, points FROM inbox")
    connection.exec_driver_sql("INSERT INTO inbox SELECT seq + 2, layout, x'00', points FROM inbox WHERE seq = 1")
    connection.commit()
    box.again()
    assert (box.read(), box.store.count_set_aside()) == ([(0.0, 1.0)], 1)
    box.store.seal(T0 + 600 * NS)
    assert box.store._write_connection.exec_driver_sql("SELECT count(*) FROM inbox").scalar_one() == 0


def test_layouts_of_which_nothing_is_left_go_and_nothing_is_searched_for_them(box: Box) -> None:
    """Nobody is answered meanwhile: with a fleet's rows in the inbox, each search of it would take a second."""
    names = "cdefghijklmnopqrstuvwxyz"
    for name in names:
        box.row(0, 1.0, names=name)
    box.store.seal(T0 - NS)
    for second in range(2000, 4000):
        box.row(second, 1.0, 2.0)
    steps = [0]
    connection = box.store._write_connection.connection.driver_connection
    connection.set_progress_handler(lambda: steps.__setitem__(0, steps[0] + 1), 10)
    box.store.seal(T0 + 600 * NS)
    connection.set_progress_handler(None, 0)
    assert steps[0] * 10 < 2000 * len(names)
    assert [len(layout.series) for layout in box.store.catalogue.layouts.by_id.values()] == [2]
    box.again()
    assert [len(layout.series) for layout in box.store.catalogue.layouts.by_id.values()] == [2]
    assert (len(box.read()), box.read("c")) == (2000, [(0, 1.0)])


def test_what_is_written_but_found_no_room_in_memory_is_there_after_a_start(
    box: Box, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Whoever sent it is told that it failed. Its layout stays while others of it are sealed."""
    box.row(0, 1.0, 2.0)
    with monkeypatch.context() as patched:
        patched.setattr(box.store.head, "append", Mock(side_effect=MemoryError))
        with pytest.raises(MemoryError):
            box.row(15, 3.0, 4.0)
    box.row(30, 5.0, 6.0)
    box.store.seal(T0 + DAY)
    box.again()
    assert box.read() == [(0, 1.0), (15, 3.0), (30, 5.0)]
    assert box.store.count_set_aside() == 0


def test_what_waits_is_taken_up_at_once_where_more_of_its_host_was_sealed(
    box: Box, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Row by row, a start with a fleet's points took a minute and a half."""
    for i in range(40):
        box.row(15 * i, float(i), names="a")
        box.row(15 * i, float(-i), names="b")
    a, b = box.store.head.stripes
    box.store.seal(T0 + 150 * NS, [a])
    box.store.seal(T0 + 300 * NS, [b])
    monkeypatch.setattr("balise.store.series.door.Door.admit", Mock(side_effect=AssertionError("one by one")))
    box.again()
    assert (box.read("a"), box.read("b")) == ([(15 * i, i) for i in range(40)], [(15 * i, -i) for i in range(40)])


def test_sealing_ends_when_it_is_told_and_what_is_left_waits(box: Box) -> None:
    box.row(0, 1.0, 2.0)
    box.store.end_sealing()
    assert box.store.seal(T0 + DAY) == 0
    box.again()
    assert (box.store.seal(T0 + DAY), box.read()) == (2, [(0, 1.0)])


def test_one_sender_hours_behind_does_not_seal_everything_again_and_again(tmp_path: Path) -> None:
    """Two hosts for six hours, one of them three hours behind: some blocks each, not one every few minutes."""
    clock = [T0]
    store = SeriesStore(tmp_path, clock=lambda: clock[0])
    metric = store.catalogue.metric("m", "1", "gauge", "")
    layouts = [
        store.catalogue.layouts.of(np.array([store.catalogue.series_id(host, metric, (), "", "gauge")]))
        for host in (1, 2)
    ]
    for minute in range(360):
        clock[0] = T0 + minute * 60 * NS
        for layout, behind in zip(layouts, (0, 180), strict=True):
            at = np.array([clock[0] - behind * 60 * NS], np.int64)
            store.accept_now(store.batch(layout, at, np.array([float(minute)])))
        store.seal_due(clock[0])
    with store.engine.connect() as connection:
        blocks = connection.exec_driver_sql("SELECT count(*) FROM block").scalar_one()
    store.close()
    assert 2 <= blocks <= 6


def test_when_room_is_short_those_that_stood_longest_are_sealed_but_for_their_last_minutes(tmp_path: Path) -> None:
    """Twenty hosts that came minute by minute: no block is of fewer than five minutes, and of each the last five stay
    in memory."""
    clock = [T0]
    store = SeriesStore(tmp_path, most_recent=20 * 20 * 40 * 8, clock=lambda: clock[0])
    metric = store.catalogue.metric("m", "1", "gauge", "")
    layouts = [
        store.catalogue.layouts.of(
            np.array([store.catalogue.series_id(h, metric, (("a", str(i)),), "", "gauge") for i in range(20)])
        )
        for h in range(1, 21)
    ]
    for minute in range(240):
        clock[0] = T0 + minute * 60 * NS
        for layout in layouts[: minute + 1]:
            store.accept_now(store.batch(layout, np.array([clock[0] - NS], np.int64), np.arange(20.0)))
        store.seal_due(clock[0])
        assert store.head.size <= 20 * 20 * 40 * 8
        if minute > 30:
            assert len(store.head.stripes) == 20
            assert all(stripe.rows >= 5 for stripe in store.head.stripes.values())
    with store.engine.connect() as connection:
        sizes = connection.exec_driver_sql("SELECT samples / 20 FROM block").scalars().all()
    assert len(sizes) > 20 * 4 and min(sizes) >= 5
    store.close()


def test_a_host_of_which_other_series_were_sealed_before_has_no_late_points(box: Box) -> None:
    """What comes late is summed up anew, which takes long: the first sealing of a series has nothing to replace."""
    for i in range(40):
        box.row(15 * i, float(i), names="b")
        box.row(15 * i, float(2 * i), names="a")
    for stripe in list(box.store.head.stripes):
        assert box.store.seal(T0 + DAY, [stripe]) == 40
    box.row(15 * 40, 40.0, names="b")
    box.again()
    box.store.seal(T0 + DAY)
    with box.store.engine.connect() as connection:
        assert connection.exec_driver_sql("SELECT DISTINCT late FROM matrix").scalars().all() == [0]
    assert box.rolled("1h", 1)[:4, 0].tolist() == [0.0, 78.0, 1560.0, 40.0]


def test_stripes_that_share_series_are_sealed_together(box: Box, monkeypatch: pytest.MonkeyPatch) -> None:
    """Also where a part has room for one: else the points of the second were late to those of the first."""
    monkeypatch.setattr("balise.store.series.store.MOST_A_SEALING", 1)
    for i in range(20):
        box.row(15 * i, float(i), 1.0)
        box.row(15 * (i + 20), float(i + 20), names="a")
    box.store.seal(T0 + DAY)
    with box.store.engine.connect() as connection:
        assert connection.exec_driver_sql("SELECT DISTINCT late FROM matrix").scalars().all() == [0]
    assert box.rolled("1h", 1)[3, 0] == 40


def test_with_too_little_room_for_the_last_minutes_they_are_sealed_too(tmp_path: Path) -> None:
    clock = [T0]
    store = SeriesStore(tmp_path, most_recent=4000, clock=lambda: clock[0])
    metric = store.catalogue.metric("m", "1", "gauge", "")
    made = [store.catalogue.series_id(1, metric, (("a", str(i)),), "", "gauge") for i in range(100)]
    layout = store.catalogue.layouts.of(np.array(made))
    for second in range(20):
        clock[0] = T0 + second * NS
        store.accept_now(store.batch(layout, np.array([clock[0] - 1], np.int64), np.zeros(100)))
        store.seal_due(clock[0])
        assert store.head.size < 4000 + 2 * 800
    store.close()


def test_recent_points_are_sealed_by_the_bytes_they_take(tmp_path: Path) -> None:
    """Bodies of one moment take eight bytes a point, those with moments of their own sixteen; what stays is counted."""
    clock = [T0]
    store = SeriesStore(tmp_path, most_recent=60_000, clock=lambda: clock[0])
    metric = store.catalogue.metric("m", "1", "gauge", "")
    made = [store.catalogue.series_id(1, metric, (("a", str(i)),), "", "gauge") for i in range(40)]
    whole, half = (store.catalogue.layouts.of(np.array(some)) for some in (made, made[:20]))
    most, sealed = 0, 0
    for minute in range(400):
        clock[0] = T0 + minute * 60 * NS
        store.accept_now(store.batch(whole, np.array([clock[0]], np.int64), np.zeros(40)))
        store.accept_now(store.batch(half, np.full(20, clock[0] + 1, np.int64), np.zeros(20)))
        assert store.head.size == sum(stripe.size for stripe in store.head.stripes.values())
        most = max(most, store.head.size)
        sealed += bool(store.seal_due(clock[0]) and store.head.size < 60_000)
    store.close()
    assert 60_000 < most < 80_000
    assert sealed >= 3


def test_a_write_that_fails_is_told_and_leaves_nothing_behind(box: Box) -> None:
    box.row(0, 1.0, 1.0)
    box.store._write_connection.exec_driver_sql("PRAGMA query_only=ON")
    box.store._write_connection.rollback()
    with pytest.raises(Exception, match="readonly"):
        box.row(15, 2.0, 2.0, names="cd")
    assert box.read("a") == [(0.0, 1.0)]
    box.store._write_connection.exec_driver_sql("PRAGMA query_only=OFF")
    box.store._write_connection.rollback()
    box.row(15, 3.0, 3.0, names="cd")
    box.again()
    assert box.read("c") == [(15.0, 3.0)]


@pytest.mark.parametrize("take", ["avg", "min", "max", "sum", "count", "last", "rate"])
def test_rollups_and_raw_points_answer_alike(box: Box, take: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """The same question at 5-minute steps, once from raw points and once from the matrices."""
    ids = np.concatenate([box.ids("a", "b"), box.ids("a", host=2)])
    rng = np.random.default_rng(5)
    times = T0 + np.arange(480) * 15 * NS
    box.store.lay_down([ids], [times], [rng.integers(0, 50, (3, 480)).astype(float)])
    steps = Steps(T0, FIVE, 24)
    selection = box.engine._selector.select(box.metric, None, ["label.site"])
    answers = []
    for tier in ("raw", "5m"):
        monkeypatch.setattr(box.engine, "tier_for", lambda *_, tier=tier: tier)
        answers.append(box.engine.answer(box.metric, selection, steps, take).values)  # type: ignore[arg-type]
    np.testing.assert_allclose(answers[0], answers[1])
    assert selection.named == [{"label.site": "north"}, {"label.site": "south"}]


def test_a_filter_chooses_by_host_label_and_attribute(box: Box) -> None:
    for host in (1, 2):
        box.put(box.ids("a", "b", host=host), [T0] * 2, [1.0, 2.0])
    for where, count in (
        ('host eq "pier-1"', 2),
        ('label.site eq "south" and berth eq "b"', 1),
        (None, 4),
        ('berth co "B"', 2),
    ):
        assert len(box.engine._selector.select(box.metric, where, ["host"]).series) == count


def test_a_store_of_the_form_before_is_brought_to_this_one_wholly_or_not_at_all(
    box: Box, monkeypatch: pytest.MonkeyPatch
) -> None:
    for i in range(240):
        box.row(15 * i, float(i % 7), float(i))
    box.store.seal(T0 + 1800 * NS)
    before, sums = box.read(), box.rolled()
    known = list(box.store.catalogue.series.values())
    box.store.close()
    with_a_row_for_each(box.store.path, known)
    with monkeypatch.context() as patched:
        upgrades = {**tables.UPGRADES, 3: (*tables.UPGRADES[3][:-1], "SELECT killed")}
        patched.setattr(tables, "UPGRADES", upgrades)
        with pytest.raises(OperationalError):
            box.again()
    box.again()
    assert list(box.store.catalogue.series.values()) == known
    assert box.read() == before
    np.testing.assert_array_equal(box.rolled(), sums)
