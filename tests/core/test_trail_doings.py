"""Sessions and processes as suspects, what people said as odds, and what is told together: worked by hand."""

from __future__ import annotations

import math

import pytest

from balise.core.trail import processes, sessions
from balise.core.trail.advice import advice_for
from balise.core.trail.graph import Edge, Graph
from balise.core.trail.leaning import Count, counted
from balise.core.trail.ranking import MOST_LEANING
from balise.core.trail.things import Thing
from balise.core.trail.words import named


def row(number: int, statement: str = "select 1", by: int | None = None, *, user: str = "shop", state: str = "active"):
    return {"id": number, "service": "store", "application": f"app-{number}", "user": user, "statement": statement,
            "state": state, "seconds": 20.0, "blocked_by": by}  # fmt: skip


def test_the_root_of_a_chain_of_waits_stands_for_all_that_wait_however_far() -> None:
    looks = [(1000.0, [row(1), row(2, by=1), row(3, by=2), row(4, by=3)]), (1060.0, [row(1), row(2, by=1)])]
    (one,) = sessions.holders("db", looks, start=900.0)
    assert (one.thing, one.at) == (Thing("session", "app-1", "db", "store"), 980.0)
    assert (one.share, one.deviation, one.holds) == (1.0, 7.0, "3 sessions wait for it")
    assert list(sessions.holders("db", looks, start=990.0)) == [], "it was there before"
    assert list(sessions.holders("db", [(1.0, [row(1), row(2)])], 0)) == []


def test_a_statement_that_runs_far_more_than_before_is_named_without_its_values() -> None:
    early = [(float(at), [row(1)]) for at in range(0, 600, 60)]
    late = [(float(at), [row(1), *(row(10 + i, f"select * from fares where day = {i}") for i in range(4))])
            for at in range(600, 1200, 60)]  # fmt: skip
    found = {one.thing.kind: one for one in sessions.grown("db", [*early, *late], 600.0)}
    query = found["query"]
    assert query.thing.name == "select * from fares where day = ?"
    assert (query.share, query.deviation) == (pytest.approx(1.0), pytest.approx(16.0))
    assert query.at == 600 - 20.0 and "user" not in found


def test_a_user_with_many_statements_stands_for_them() -> None:
    early = [(float(at), []) for at in range(0, 600, 60)]
    late = [(float(at), [row(i, f"select a{i} from b", user="batch") for i in range(6)]) for at in range(600, 1200, 60)]
    found = {one.thing for one in sessions.grown("db", [*early, *late], 600.0) if one.thing.kind == "user"}
    assert found == {Thing("user", "batch", "db", "store")}


def test_idle_and_waiting_sessions_do_not_count_as_work() -> None:
    late = [(float(at), [row(1, by=2), row(2, state="idle"), row(3, state="")]) for at in range(600, 1200, 60)]
    assert list(sessions.grown("db", [(0.0, []), *late], 600.0)) == []


def busy(name: str, cpu: float, *, user: str = "root", started: float = 1.0):
    return {"name": name, "user": user, "cpu": cpu, "started": started}


def test_processes_are_judged_by_what_they_take_more_than_before() -> None:
    early = [(float(at), [busy("store", 1.0)]) for at in range(0, 600, 60)]
    late = [(float(at), [busy("store", 1.1), busy("copy", 3.0, started=590.0)]) for at in range(600, 1200, 60)]
    (one,) = processes.grown("db", [*early, *late], start=0.0, stretch=600.0, day_before=[])
    assert (one.thing.name, one.at, one.deviation) == ("copy", 590.0, 18.0)
    assert one.share == pytest.approx(3.0 / 3.1) and one.usual == 0.0
    yesterday = [(at - 86_400, rows) for at, rows in late]
    (same,) = processes.grown("db", [*early, *late], start=0.0, stretch=600.0, day_before=yesterday)
    assert same.usual == pytest.approx(1.0), "it runs each day at this hour"


def test_a_user_whose_many_programs_grew_is_named() -> None:
    late = [(float(at), [busy(f"job-{i}", 0.5, user="batch") for i in range(5)]) for at in range(600, 1200, 60)]
    found = processes.grown("db", [(0.0, []), *late], start=0.0, stretch=600.0, day_before=[])
    assert Thing("user", "batch", "db") in {one.thing for one in found}


def test_what_people_said_is_a_ratio_with_doubt_and_bounds() -> None:
    counts = counted([({"session": 0.9, "host": 0.1}, "host"), ({"session": 0.8, "host": 0.2}, "host")])
    assert counts["host"] == Count(pytest.approx(0.3), 2)
    assert counts["host"].leaning == pytest.approx(math.log(4 / 2.3))
    assert counts["session"].leaning == pytest.approx(math.log(2 / 3.7))
    assert Count(0.0, 1000).leaning == MOST_LEANING and Count(1000.0, 0).leaning == -MOST_LEANING
    assert counted([]) == {}


def test_those_beside_a_host_are_those_of_its_machine() -> None:
    edges = [Edge((f"g{i}", ""), ("metal", ""), "runs on") for i in range(3)]
    graph = Graph([*edges, Edge(("other", ""), ("iron", ""), "runs on"), Edge(("g0", "shop"), ("g0", ""), "runs on")])
    assert set(graph.beside(("g0", ""))) == {("g1", ""), ("g2", "")}
    assert set(graph.on(("metal", ""))) == {("g0", ""), ("g1", ""), ("g2", "")}
    assert graph.beside(("metal", "")) == []


@pytest.mark.parametrize(
    ("thing", "said"),
    [
        (Thing("session", "import", "db", "store"), "session import on db"),
        (Thing("link", "network", "gate"), "network link of gate"),
        (Thing("link", "eth0", "gate"), "link eth0 of gate"),
        (Thing("address", "203.0.113.9", "web"), "address 203.0.113.9 against web"),
        (Thing("service", "payments", "", "payments"), "payments"),
        (Thing("machine", "metal", "metal"), "metal"),
    ],
)
def test_things_are_called_what_people_call_them_and_have_advice(thing: Thing, said: str) -> None:
    assert named(thing) == said
    assert advice_for(thing).endswith(".")
