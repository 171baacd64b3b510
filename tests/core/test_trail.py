"""The trail's measure and its ranking, against moments that are known, numbers worked by hand and small graphs."""

from __future__ import annotations

import statistics
import time

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra.numpy import arrays
from numpy.typing import NDArray

from balise.core.series.steps import Steps
from balise.core.series.summary import Flat
from balise.core.trail import ranking
from balise.core.trail.case import Case
from balise.core.trail.departing import departed
from balise.core.trail.evidence import evidence_of
from balise.core.trail.graph import Edge, Graph, near
from balise.core.trail.grid import on_grid, spacing_of, width_of
from balise.core.trail.ranking import MOST_LEANING, probabilities, told
from balise.core.trail.segments import segments
from balise.core.trail.sorts import sort_of
from balise.core.trail.suspects import suspects_of
from balise.core.trail.things import Happening, Line, Thing, thing_of
from balise.core.trail.trail import Trail, trail_of
from balise.core.trail.words import NOTHING

STEP = 15.0
N, START = 240, 120
TIMES = 1_700_000_000.0 + np.arange(N) * STEP


def measured(values: np.ndarray, unit: str = "x", usual: np.ndarray | None = None, clock: float = 0.0):
    rows = np.atleast_2d(values)
    nothing = np.full(rows.shape, np.nan)
    return departed(
        TIMES, rows, START, units=[unit] * len(rows), usual=nothing if usual is None else np.atleast_2d(usual),
        spread=np.full(len(rows), np.nan if usual is None else 1e-9), clock=np.full(len(rows), clock),
    )  # fmt: skip


def stepped(rng: np.random.Generator, at: int, size: float, rise: int = 0, level: float = 20.0) -> np.ndarray:
    place = np.arange(N)
    grown = np.clip((place - at) / rise, 0, 1) if rise else (place >= at) * 1.0
    return level + rng.normal(0, 1, N) + size * grown


# --- when, and how far


@pytest.mark.parametrize("rise", [0, 4, 20], ids=["at once", "in a minute", "in five minutes"])
@pytest.mark.parametrize("size", [9.0, 20.0, 50.0])
def test_the_moment_of_made_series_lies_within_its_uncertainty(size: float, rise: int) -> None:
    rng = np.random.default_rng(7)
    moments = rng.integers(START - 4, 190, 200)
    found = measured(np.array([stepped(rng, int(at), size, rise) for at in moments]))
    known = ~np.isnan(found.at)
    assert known.mean() >= 0.95
    off = np.abs(found.at - TIMES[moments])[known]
    assert (off <= found.uncertainty[known]).mean() >= 0.9
    assert np.median(found.uncertainty[known]) <= 4 * STEP


def test_quiet_series_do_not_depart() -> None:
    rng = np.random.default_rng(8)
    assert np.isnan(measured(rng.normal(20, 1, (500, N))).at).all()


def test_one_outlier_is_no_departure() -> None:
    line = stepped(np.random.default_rng(9), N, 0.0)
    line[150] += 80
    assert np.isnan(measured(line).deviation[0])


def test_the_deviation_is_the_one_worked_out_by_other_means() -> None:
    rng = np.random.default_rng(10)
    line = np.round(rng.normal(100, 8, N), 1)
    line[150:] += 90
    before = line[:START].tolist()
    middle = statistics.median(before)
    around = 1.4826 * statistics.median(abs(value - middle) for value in before)
    low, high = np.quantile(before, [0.2, 0.8])
    spread = max(around, (high - low) / 1.683, 0.02 * max(middle, statistics.fmean(abs(v) for v in line)))
    # It has to stay there for three steps: the farthest that three in a row reach.
    far = max(min(line[i : i + 3]) for i in range(N - 2))
    found = measured(line)
    assert found.deviation[0] == pytest.approx((far - middle) / spread)
    assert found.before[0] == pytest.approx(middle)


def test_what_is_usual_at_this_hour_has_not_departed() -> None:
    rng = np.random.default_rng(11)
    line = stepped(rng, 150, 30)
    as_always = np.where(np.arange(N) >= 150, 50.0, 20.0)
    assert not np.isnan(measured(line).at[0])
    assert np.isnan(measured(line, usual=as_always).at[0])
    # What is missing although it is usual is told by the drop against the usual and before alone.
    assert measured(stepped(rng, 150, -15), usual=np.full(N, 20.0)).deviation[0] < -4


def test_a_gap_makes_a_moment_less_certain_and_is_no_departure_itself() -> None:
    rng = np.random.default_rng(12)
    whole, gapped = stepped(rng, 150, 30), stepped(rng, 150, 30)
    gapped[130:150] = np.nan
    quiet = stepped(rng, N, 0)
    quiet[130:170] = np.nan
    sure, unsure = measured(whole), measured(gapped)
    assert sure.uncertainty[0] <= 3 * STEP
    since, until = unsure.at[0] - unsure.uncertainty[0], unsure.at[0] + unsure.uncertainty[0]
    assert since <= TIMES[130] and until >= TIMES[150], "it may have begun anywhere in the gap"
    assert np.isnan(measured(quiet).at[0])


def test_a_clock_that_may_be_off_makes_a_moment_less_certain_by_that() -> None:
    line = stepped(np.random.default_rng(13), 150, 30)
    assert measured(line, clock=25.0).uncertainty[0] == pytest.approx(measured(line).uncertainty[0] + 25)


# --- what a series tells of


@pytest.mark.parametrize(
    ("metric", "unit", "attributes", "sort"),
    [
        ("http.server.request.duration", "s", {}, "latency"),
        ("http.server.request.errors", "{request}/s", {}, "errors"),
        ("postgresql.sessions.blocked", "{session}", {}, "waiting"),
        ("system.cpu.utilization", "1", {"cpu.mode": "steal"}, "waiting"),
        ("system.cpu.utilization", "1", {"cpu.mode": "idle"}, "other"),
        ("system.filesystem.utilization", "1", {}, "saturation"),
        ("system.network.io", "By/s", {}, "traffic"),
        ("system.network.errors", "{error}/s", {}, "errors"),
        ("hw.temperature", "Cel", {}, "saturation"),
        ("messaging.queue.depth", "{message}", {}, "waiting"),
        ("shop.basket", "{basket}/s", {}, "traffic"),
        ("shop.requests", "{request}/s", {"outcome": "rejected"}, "errors"),
        ("http.server.request.count", "{request}/s", {"http.response.status_code": "503"}, "errors"),
        ("balise.unit.running", "{state}", {}, "state"),
        ("system.cpu.time", "1", {"cpu.mode": "user"}, "saturation"),
        ("nginx.connections", "{connection}", {}, "saturation"),
        ("nginx.connections.total", "{connection}/s", {}, "traffic"),
        ("system.filesystem.limit", "By", {}, "other"),
        ("postgresql.uptime", "s", {}, "other"),
        ("postgresql.transaction.longest", "s", {}, "waiting"),
        ("haproxy.answer.time", "s", {}, "latency"),
        ("disk.reading.time", "1", {}, "saturation"),
    ],
)
def test_a_name_tells_what_it_is_about(metric: str, unit: str, attributes: dict[str, str], sort: str) -> None:
    assert sort_of(metric, unit, attributes) == sort


def test_what_a_kit_says_of_a_metric_goes_before_its_name() -> None:
    assert sort_of("pier.connection.count", "{connection}") == "traffic"
    assert sort_of("pier.connection.count", "{connection}", tells="saturation") == "saturation"
    assert sort_of("pier.connection.count", "{connection}", {"state": "idle"}, "saturation") == "other"


@pytest.mark.parametrize(
    ("metric", "attributes", "thing"),
    [
        ("system.filesystem.usage", {"system.filesystem.mountpoint": "/var/log"}, Thing("volume", "/var/log", "h")),
        ("tls.certificate.remaining", {"tls.server.name": "a.example"}, Thing("certificate", "a.example", "h")),
        ("system.network.errors", {"network.interface.name": "eth0"}, Thing("link", "eth0", "h")),
        ("system.network.io", {"network.interface.name": "eth0"}, Thing("machine", "h", "h")),
        (
            "balise.program.cpu",
            {"process.executable.name": "java", "process.owner": "app"},
            Thing("process", "java", "h"),
        ),
        ("balise.user.cpu", {"user.name": "ops"}, Thing("user", "ops", "h")),
        ("postgresql.backends", {"service.name": "booking"}, Thing("service", "booking", "h", "booking")),
        ("balise.cpu.busy", {}, Thing("machine", "h", "h")),
    ],
)
def test_a_series_is_of_the_narrowest_thing(metric: str, attributes: dict[str, str], thing: Thing) -> None:
    assert thing_of("h", metric, attributes, is_machine=True) == thing


# --- what needs what


def test_who_suffers_is_the_product_along_the_best_way() -> None:
    web, app, store, metal = ("web", ""), ("app", ""), ("store", ""), ("metal", "")
    graph = Graph([Edge(web, app), Edge(app, store), Edge(store, metal, "runs on"), Edge(web, store, "talks to")])
    reached = graph.reached(store)
    assert {node: round(way.strength, 4) for node, way in reached.items()} == {
        store: 1.0, app: 0.92, web: round(0.92 * 0.92, 4),
    }  # fmt: skip
    assert reached[web].hops == 2
    assert round(graph.reached(metal)[web].strength, 4) == round(0.9 * 0.92 * 0.92, 4)
    assert store in graph.reached(web), "who talks to another may hurt it"
    strongest = {node: max(way.strength for way in (graph.reached(one).get(node) for one in (store, metal)) if way)
                 for node in {*graph.reached(store), *graph.reached(metal)}}  # fmt: skip
    assert {node: way.strength for node, way in graph.reached(store, metal).items()} == strongest
    assert metal not in graph.reached(store), "a machine does not suffer with what runs on it"


def test_neighbours_reach_each_other_weakly_and_no_farther() -> None:
    graph = Graph(near({"site a": [("x", ""), ("y", "")], "site b": [("y", ""), ("z", "")]}))
    assert round(graph.reached(("x", ""))["y", ""].strength, 2) == 0.16
    assert ("z", "") not in graph.reached(("x", ""))


def test_a_ring_ends() -> None:
    a, b = ("a", ""), ("b", "")
    assert set(Graph([Edge(a, b), Edge(b, a)]).reached(a)) == {a, b}


# --- who it was


WEB, APP, STORE = (Thing("service", name, f"{name}-1", name) for name in ("web", "app", "store"))
EDGES = [Edge(WEB.node, APP.node), Edge(APP.node, STORE.node)]


def case_of(
    *rows: tuple[Thing, str, str, int | None, float],
    happenings: list[Happening] | None = None,
    edges: list[Edge] = EDGES,
    felt: frozenset = frozenset({WEB.node}),
    **more,
) -> Case:
    """Series of things, each with the step at which it departs (if it does) and by how much."""
    rng = np.random.default_rng(14)
    values = np.array([stepped(rng, N if at is None else at, size, 2) for *_, at, size in rows]).reshape(-1, N)
    lines = [Line(thing, metric, unit, sort_of(metric, unit)) for thing, metric, unit, *_ in rows]
    nothing = np.full(values.shape, np.nan)
    return Case(
        float(TIMES[START]), float(TIMES[-1]), felt, TIMES, lines, values, nothing, np.full(len(rows), np.nan),
        happenings or [], Graph(edges), **more,
    )  # fmt: skip


def trail(case: Case) -> Trail:
    return trail_of(case, lambda at: time.strftime("%H:%M", time.gmtime(at)))


CHAIN = (
    (STORE, "store.queue.depth", "{request}", 140, 40.0),
    (STORE, "store.requests", "{request}/s", 142, -15.0),
    (APP, "app.request.duration", "x", 150, 30.0),
    (WEB, "web.request.duration", "x", 158, 25.0),
    (WEB, "web.request.errors", "x", 160, 25.0),
)


def test_the_first_of_a_chain_is_named_and_what_follows_is_said_in_its_order() -> None:
    found = trail(case_of(*CHAIN))
    assert found.suspects[0].suspect.thing == STORE
    assert found.sure >= 0.5
    assert found.sentence.startswith("store on store-1: ")
    assert found.sentence.index("app on app-1 answers slowly") < found.sentence.index("web on web-1 ")
    assert [sign.thing for sign in found.departed] == [STORE, STORE, APP, WEB, WEB]


def test_the_probabilities_are_a_share_of_one_with_room_for_none_of_them() -> None:
    case = case_of(*CHAIN)
    evidence = evidence_of(case)
    assert 0.75 < probabilities(suspects_of(case, evidence), evidence, {}).sum() < 1.0
    found = trail(case)
    assert [one.sure for one in found.suspects] == sorted((one.sure for one in found.suspects), reverse=True)


def test_what_is_told_of_a_share_is_how_often_such_shares_are_right(monkeypatch: pytest.MonkeyPatch) -> None:
    # Worked by hand: 0.5 and 0.3 of a whole of 0.8; odds 0.5^2 / 0.5 × 4 = 2, and 0.3^2 / 0.7 × 4 = 0.514.
    monkeypatch.setattr(ranking, "TOLD", np.array([2.0, 1.0, 0.0, 1.0]))
    assert told(np.array([0.5, 0.3])) == pytest.approx([2 / 3, 0.36 / 1.06])
    # With these weights a share is told as it is.
    monkeypatch.setattr(ranking, "TOLD", np.array([1.0, 1.0, 0.0, 0.0]))
    assert told(np.array([0.1, 0.85])) == pytest.approx([0.1, 0.85])


@given(arrays(float, st.integers(1, 8), elements=st.floats(0, 1)))
def test_what_is_told_keeps_the_order_and_its_ends(shares: NDArray[np.float64]) -> None:
    shares /= max(1.0, shares.sum())
    said = told(shares)
    assert ((said >= 0) & (said <= 1)).all()
    order = np.argsort(shares, kind="stable")
    assert (np.diff(said[order]) >= -1e-12).all()
    assert told(np.array([0.0]))[0] < 1e-9
    assert told(np.array([1.0]))[0] > 0.999
    # Of two that are right together each is more often right than its share says.
    assert (told(np.array([0.5, 0.49])) > 0.6).all()


def test_a_trouble_beside_what_people_were_called_for_is_not_named_when_nothing_departed_there() -> None:
    """Somebody was called for a limit that is always passed: whatever else is wrong at that time is not why."""
    calm = Thing("host", "calm", "calm")
    rows = (*CHAIN, (calm, "calm.busy", "1", None, 0.0))
    edges = [*EDGES, Edge(calm.node, STORE.node, "needs")]
    called = {"felt": frozenset({calm.node}), "called": float(TIMES[170])}
    found = trail(case_of(*rows, edges=edges, **called))
    assert found.sentence.startswith(NOTHING) and found.sure < 0.5
    moved = trail(case_of(*CHAIN, (calm, "calm.busy", "1", 160, 20.0), edges=edges, **called))
    assert moved.suspects[0].suspect.thing == found.suspects[0].suspect.thing == STORE
    assert moved.sure >= 0.5


def test_less_traffic_because_answers_are_slow_is_no_cause_even_when_it_was_seen_first() -> None:
    rows = ((STORE, "store.requests", "{request}/s", 138, -15.0), (APP, "app.request.duration", "x", 142, 40.0),
            (WEB, "web.request.duration", "x", 146, 25.0))  # fmt: skip
    assert trail(case_of(*rows)).suspects[0].suspect.thing == APP


def test_a_session_comes_before_its_database_and_a_process_before_its_host() -> None:
    job = Thing("session", "import", STORE.host, STORE.service)
    one = Happening(
        "session", job, float(TIMES[139]), "began", share=0.9, deviation=8.0, uncertainty=5, holds="14 wait for it"
    )
    found = trail(case_of(*CHAIN, happenings=[one]))
    assert found.suspects[0].suspect.thing == job
    assert "14 wait for it" in found.sentence
    assert found.suspects[1].suspect.thing == STORE


def test_a_change_comes_before_what_it_broke() -> None:
    change = Thing("change", "store 4.2", STORE.host, STORE.service)
    one = Happening("change", change, float(TIMES[139]), "a new version", uncertainty=5)
    rows = ((STORE, "store.request.errors", "x", 140, 40.0), *CHAIN[2:])
    assert trail(case_of(*rows, happenings=[one])).suspects[0].suspect.thing == change


def test_a_change_that_nothing_follows_is_none() -> None:
    change = Thing("change", "store 4.2", STORE.host, STORE.service)
    one = Happening("change", change, float(TIMES[130]), "a new version", uncertainty=5)
    quiet = tuple((thing, metric, unit, None, 0.0) for thing, metric, unit, *_ in CHAIN)
    found = trail(case_of(*quiet, happenings=[one]))
    assert found.sentence.startswith(NOTHING)
    assert found.sure < 0.5


def test_one_that_takes_from_its_neighbours_comes_before_them() -> None:
    loud, machine = Thing("process", "copy", "guest-9"), Thing("machine", "metal", "metal")
    host = Thing("host", "guest-9", "guest-9")
    guests = [Thing("host", f"guest-{i}", f"guest-{i}") for i in range(3)]
    rows = [(host, "balise.cpu.busy", "x", 138, 40.0), (machine, "balise.cpu.busy", "x", 138, 25.0)]
    rows += [(guest, "system.cpu.steal", "x", 141 + i, 25.0) for i, guest in enumerate(guests)]
    one = Happening("process", loud, float(TIMES[138]), "began", share=0.9, deviation=10.0, uncertainty=5)
    edges = [Edge(thing.node, machine.node, "runs on") for thing in (host, *guests)]
    edges += [Edge(host.node, machine.node, "shares")]
    found = trail(case_of(*rows, happenings=[one], edges=edges, felt=frozenset({guests[0].node})))
    assert found.suspects[0].suspect.thing in (loud, host)


def test_nothing_at_all_is_said_so() -> None:
    quiet = tuple((thing, metric, unit, None, 0.0) for thing, metric, unit, *_ in CHAIN)
    found = trail(case_of(*quiet))
    assert (found.sentence, list(found.suspects), list(found.departed)) == (
        f"{NOTHING}: nothing left its usual.",
        [],
        [],
    )
    assert trail(case_of()).suspects == []


def test_what_people_said_moves_a_kind_a_little_and_no_more() -> None:
    plain = trail(case_of(*CHAIN))
    leaning = trail(case_of(*CHAIN, leaning={"service": -50.0}))
    less, sure = leaning.sure / (1 - leaning.sure), plain.sure / (1 - plain.sure)
    assert plain.sure > leaning.sure
    assert sum(one.sure for one in leaning.suspects) < sum(one.sure for one in plain.suspects)
    assert sure / less <= np.exp(MOST_LEANING) * 1.01


def test_evidence_says_what_how_far_and_when() -> None:
    first = trail(case_of(*CHAIN)).suspects[0]
    texts = [one.text for one in first.because]
    assert any("store.queue.depth went from 20 requests to" in text for text in texts)
    assert any("app on app-1, web on web-1" in text for text in texts)
    assert first.suspect.first.at == pytest.approx(TIMES[140], abs=first.suspect.first.uncertainty + STEP)


# --- from points to steps


def test_points_of_all_kinds_come_onto_one_grid() -> None:
    second = 1_000_000_000
    every_15 = (np.arange(8, dtype=np.int64) * 15 * second, np.array([1.0, 3, 5, 7, 9, 11, 13, 15]))
    counted = (every_15[0], np.array([0.0, 30, 60, 0, 30, 60, 90, 120]))
    each_minute = (np.array([0, 60], np.int64) * second, np.array([4.0, 8.0]))
    points = Flat.of([every_15, counted, each_minute])
    assert spacing_of(points, 3).tolist() == [15 * second, 15 * second, 60 * second]
    assert width_of(spacing_of(points, 3), 3600) == 15.0
    assert width_of(spacing_of(points, 3), 86_400) == 300.0, "never more steps than are looked at"
    grid = on_grid(points, ["gauge", "counter", "gauge"], Steps(0, 30 * second, 4))
    assert grid[0].tolist() == [2, 6, 10, 14]
    # The first point says from where it grew; the reset grew by what it showed: 30 in the 15 s known, 30 and 0 in 30 s.
    assert grid[1].tolist() == pytest.approx([2, 1, 2, 2])
    assert grid[2].tolist() == [4, 4, 8, 8], "it stands until the next"
    fine = on_grid(points, ["gauge", "counter", "gauge"], Steps(0, 15 * second, 10))
    assert fine[2].tolist()[:8] == [4, 4, 4, 4, 8, 8, 8, 8] and np.isnan(fine[2][8:]).all()
    assert np.isnan(fine[0][8:]).all(), "what stopped is missing"


@pytest.mark.parametrize(
    ("addresses", "found"),
    [
        (["10.1.2.3", "10.1.2.200"], {"10.1.2.0/24"}),
        (["10.1.2.3", "10.1.3.3"], {"10.1.2.0/24", "10.1.3.0/24"}),
        (["2001:db8:1:2:a::1"], {"2001:db8:1:2::/64"}),
        (["127.0.0.1", "::1", "fe80::1", "169.254.1.1", "0.0.0.0", "pier", ""], set()),
    ],
)
def test_addresses_beside_each_other_are_in_one_segment(addresses: list[str], found: set[str]) -> None:
    assert segments(addresses) == found
