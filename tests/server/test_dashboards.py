"""Dashboards: kept in versions, refused by field, brought by kits, answered in one go."""

from __future__ import annotations

import json
import time
from typing import Any

import numpy as np
import pytest
from pydantic import ValidationError

from balise.api.access import Scope
from balise.api.dashboards import Dashboard, DashboardAnswer, DashboardAsked, DashboardBody, DashboardDocument
from balise.api.hosts import GroupBody
from balise.api.metrics import MetricQuery
from balise.api.spans import rfc3339
from balise.core.moments import NS
from balise.server.dashboards.book import read_text, text_of
from balise.server.errors import Refused
from balise.server.parts import Parts
from balise.server.people.access import Principal
from laying import lay

ANNA, BERIT = Principal("anna", "viewer"), Principal("berit", "operator")
CHIEF = Principal("chief", "administrator")


def panel(kind: str = "chart", **query: Any) -> dict[str, Any]:
    return {"kind": kind, "title": kind, "at": [0, 0, 6, 4], "query": query}


def body(*panels: dict[str, Any], **words: Any) -> DashboardBody:
    return DashboardBody.model_validate({"about": "mine", "panels": list(panels), **words})


HOST = {"variables": [{"name": "host", "of": "host"}]}


def test_a_dashboard_is_kept_with_its_versions(console: Parts) -> None:
    book = console.dashboards
    book.put("morning", body(panel(metric="tide", where='host eq "$host"'), **HOST), ANNA)
    second = book.put("morning", body(panel("text", text="Look here first.")), ANNA)
    assert (second.version, second.owner, second.shared) == (2, "anna", False)
    assert [(one.version, one.panels) for one in book.versions("morning", ANNA)] == [(2, 1), (1, 1)]
    back = book.restore("morning", 1, ANNA)
    assert back.version == 3 and back.panels[0].kind == "chart" and back.variables[0].name == "host"
    book.delete("morning", ANNA)
    with pytest.raises(Refused, match="no dashboard"):
        book.get("morning", ANNA)


def test_ones_own_is_seen_by_nobody_else_and_sharing_needs_an_operator(console: Parts) -> None:
    book = console.dashboards
    book.put("hers", body(panel("incidents")), ANNA)
    assert "hers" not in [one.name for one in book.all(BERIT)]
    for refused in (lambda: book.get("hers", BERIT), lambda: book.delete("hers", BERIT)):
        with pytest.raises(Refused) as error:
            refused()
        assert error.value.status == 404
    with pytest.raises(Refused, match="choose another name"):
        book.put("hers", body(), BERIT)
    with pytest.raises(Refused, match="role operator"):
        book.put("ours", body(shared=True), ANNA)
    book.put("ours", body(panel("incidents"), shared=True), BERIT)
    assert book.get("ours", ANNA).owner == "berit"
    with pytest.raises(Refused) as error:
        book.put("ours", body(), ANNA)
    assert error.value.status == 403
    # Another operator mends what is shared; whose it is stays.
    assert book.put("ours", body(shared=True), Principal("carl", "operator")).owner == "berit"
    assert book.get("hers", CHIEF).owner == "anna"


def test_a_screen_sees_its_dashboards_alone(console: Parts) -> None:
    console.dashboards.put("wall", body(panel("incidents"), shared=True), BERIT)
    console.dashboards.put("other", body(shared=True), BERIT)
    screen = Principal("wall", "screen", scope=Scope(dashboards=["wall"]))
    assert console.dashboards.get("wall", screen).name == "wall"
    console.kits.start()
    for other in ("other", "kit postgresql"):
        with pytest.raises(Refused):
            console.dashboards.get(other, screen)


@pytest.mark.parametrize(
    ("wrong", "place"),
    [
        ({"panels": [panel("pie in the sky")]}, ("panels", 0)),
        ({"panels": [panel(metric="x", take="wrong")]}, ("panels", 0, "chart", "query", "queries", 0, "take")),
        ({"panels": [panel("text", text="a") | {"at": [0, 0, 0, 0]}]}, ("panels", 0, "text", "at")),
        ({"panels": [panel("text", text="a") | {"at": [8, 0, 6, 1]}]}, ("panels", 0, "text", "at")),
        ({"variables": [{"name": "Host", "of": "host"}]}, ("variables", 0, "name")),
        ({"variables": [{"name": "a", "of": "host"}] * 2}, ("variables",)),
        ({"colour": "red"}, ("colour",)),
    ],
)
def test_what_has_not_the_right_form_is_refused_by_place(wrong: dict[str, Any], place: tuple[object, ...]) -> None:
    with pytest.raises(ValidationError) as error:
        DashboardBody.model_validate(wrong)
    assert place in [one["loc"] for one in error.value.errors()]


@pytest.mark.parametrize(
    ("panels", "field"),
    [
        ([panel(metric="x", where='host eq "$nobody"')], "panels.0.query.queries.0.where"),
        ([panel("events", where="host eq")], "panels.0.query.where"),
        ([panel("text", text="a"), panel("table", columns=[{"metric": "x", "where": "("}])], "panels.1.query.columns.0.where"),
    ],
)  # fmt: skip
def test_what_does_not_hold_together_is_refused_by_field(console: Parts, panels: list[Any], field: str) -> None:
    with pytest.raises(Refused) as refused:
        console.dashboards.put("bad", body(*panels), ANNA)
    assert [one.field for one in refused.value.errors] == [field]
    with pytest.raises(Refused):
        console.dashboards.get("bad", ANNA)


@pytest.mark.parametrize("as_json", [True, False])
def test_a_file_reads_as_it_was_written(as_json: bool) -> None:
    said = {"dashboard": "morning", "panels": [panel(metric="tide", where='host eq "$host"')], **HOST}
    document = DashboardDocument.model_validate(said)
    found = read_text(text_of(document, as_json=as_json))
    assert found.problems == [] and found.dashboard == document


def test_a_slip_in_a_file_has_its_line_and_column() -> None:
    text = 'dashboard: morning\npanels:\n  - kind: events\n    at: [0, 0, 6, 4]\n    query:\n      where: host eq "$nobody"\n'
    (slip,) = read_text(text).problems
    assert (slip.line, slip.column, slip.field) == (6, 7, "panels.0.query.where") and "$nobody" in slip.detail
    broken = json.dumps({"dashboard": "x", "panels": [{"kind": "pie"}]}, indent=1)
    assert read_text(broken).problems[0].line == 4


def test_kits_bring_dashboards_that_nobody_changes(console: Parts) -> None:
    console.kits.start()
    brought = {one.name: one for one in console.dashboards.all(ANNA) if one.brought_by}
    assert "kit postgresql" in brought and not brought["kit postgresql"].may_change
    whole = console.dashboards.get("kit postgresql", ANNA)
    assert [variable.name for variable in whole.variables] == ["host", "service"] and len(whole.panels) > 5
    with pytest.raises(Refused, match="kits"):
        console.dashboards.put("kit postgresql", body(), CHIEF)
    # Whoever wants another copies it.
    copy = DashboardBody.model_validate(whole.model_dump(include=set(DashboardBody.model_fields)) | {"shared": False})
    assert console.dashboards.put("our databases", copy, ANNA).panels == whole.panels


# --- what they show


def answered(console: Parts, dashboard: DashboardBody, **asked: Any) -> DashboardAnswer:
    made: Dashboard = console.dashboards.put("shown", dashboard, ANNA)
    return console.answering.of(made, DashboardAsked.model_validate(asked))


@pytest.fixture
def fleet(console: Parts) -> Parts:
    now = time.time()
    times = np.arange(now - 3 * 3600, now, 30.0)
    for number, host in enumerate(("a", "b", "c")):
        lay(console, host, "tide", times, np.full(len(times), float(number)), {"berth": f"k{number}"}, unit="m")
    console.groups.put("north", GroupBody(kind="site", hosts=["a", "b"]), "t")
    return console


def test_every_panel_is_answered_as_its_question_alone(fleet: Parts) -> None:
    now = time.time()
    span = {"from": rfc3339(now - 7200), "to": rfc3339(now)}
    panels = [
        panel(metric="tide", take="max"),
        panel("value", metric="tide", take="max", by=[]),
        panel("table", columns=[{"metric": "tide"}], sort=[{"column": 0, "descending": True}], limit=1),
        panel("states", by="site"),
        panel("events", limit=5),
        panel("patterns"),
        panel("incidents"),
        panel("alerts"),
        panel("text", text="Look *here*."),
    ]
    found = answered(fleet, body(*panels), **span, points=60).panels
    assert [one.kind for one in found] == [one["kind"] for one in panels] and not any(one.problem for one in found)
    alone = fleet.metrics.ask(MetricQuery.model_validate({"metric": "tide", "take": "max", **span, "points": 60}))
    assert found[0].chart == [alone]
    value, course = found[1].value, found[1].course
    assert value is not None and [one.values for one in value.series] == [[2.0]] and value.unit == "m"
    assert course is not None and len(course.times) > 20
    assert found[2].table is not None and [row.host for row in found[2].table.items] == ["c"]
    assert found[3].states is not None and {node.name for node in found[3].states.items} == {"north", "(none)"}
    assert (found[4].events, found[6].incidents, found[7].alerts) == ([], [], []) and found[8].text == "Look *here*."


def test_what_is_chosen_narrows_every_panel_and_nothing_chosen_none(fleet: Parts) -> None:
    variables = [{"name": "site", "of": "site"}, {"name": "berth", "of": "berth", "metric": "tide"}]
    where = 'site eq "$site" and berth eq "$berth"'
    made = body(panel(metric="tide", where=where), panel("table", where='site eq "$site"'), variables=variables)

    def hosts(**chosen: list[str]) -> tuple[set[str], set[str]]:
        chart, table = answered(fleet, made, variables=chosen).panels
        assert chart.chart is not None and table.table is not None
        return {one.attributes["host"] for one in chart.chart[0].series}, {row.host for row in table.table.items}

    assert hosts() == ({"a", "b", "c"}, {"a", "b", "c"})
    assert hosts(site=["north"]) == ({"a", "b"}, {"a", "b"})
    assert hosts(site=["north"], berth=["k1", "k2"]) == ({"b"}, {"a", "b"})
    found = answered(fleet, made, variables={"site": ["north"]}).variables
    assert [(one.name, one.chosen, one.choices) for one in found] == [
        ("site", ["north"], ["north"]), ("berth", [], ["k0", "k1", "k2"]),
    ]  # fmt: skip
    with pytest.raises(Refused, match="no such variable"):
        answered(fleet, made, variables={"quay": ["x"]})


def test_a_panel_that_cannot_be_answered_leaves_the_others(fleet: Parts) -> None:
    first, second, third = answered(
        fleet, body(panel(metric="ebb"), panel("value", metric="ebb"), panel(metric="tide", beside=["-1h"], usual=True))
    ).panels
    assert first.chart is not None and "ebb" in first.chart[0].problem and "ebb" in second.problem
    assert third.chart is not None and len(third.chart) == 2 and third.chart[1].series
    assert third.usual is not None and [one is not None for one in third.usual] == [True]


def berths(console: Parts, now: float) -> None:
    """Seventy hosts with a gauge and a counter of six hours: the last half hour as it came, with points that lack."""
    rng = np.random.default_rng(4)
    past, recent = np.arange(now - 6 * 3600, now - 1800, 60.0), np.arange(now - 1800, now, 15.0)
    for number in range(70):
        host = f"berth-{number}"
        kept = past[past // 60 % 7 != 3] if number % 5 == 0 else past
        lay(console, host, "tide", kept, rng.random(len(kept)))
        lay(console, host, "wind", past, np.arange(len(past)) * 60.0, kind="counter")
        known = console.directory.ensure(host)
        metric = console.series.catalogue.metrics["tide"]
        ids = np.array([console.series.catalogue.series_id(known.id, metric, (), "", "gauge")])
        for at in recent[: 100 - number].tolist():
            console.series.accept_now(
                console.series.batch(console.series.catalogue.layouts.of(ids), np.array([int(at * NS)]), rng.random(1))
            )


def test_many_series_over_hours_are_told_as_they_are_kept_and_rightly(console: Parts) -> None:
    """Read together for all panels, and held to questions by themselves."""
    now = time.time() // 300 * 300
    berths(console, now)
    span = {"from": rfc3339(now - 3 * 3600), "to": rfc3339(now)}

    def alone(**query: Any) -> dict[str, list[float | None]]:
        answer = console.metrics.ask(MetricQuery.model_validate({**span, "step": "5m", **query}))
        return {one.attributes.get("host", ""): one.values for one in answer.series}

    shown = body(
        panel(metric="tide", by=["host"]),
        panel("value", metric="tide"),
        panel("value", metric="wind", take="rate"),
        panel(metric="tide", take="max", by=[]),
    )
    made = console.dashboards.put("many", shown, CHIEF)
    chart, value, rate, highest = console.answering.of(made, DashboardAsked.model_validate(span)).panels
    assert chart.chart is not None and (chart.chart[0].step_seconds, chart.chart[0].tier) == (300, "5m")
    told = {one.attributes["host"]: one.values for one in chart.chart[0].series}
    exact = alone(metric="tide", by=["host"])
    assert told.keys() == exact.keys() and len(told) == 70
    for host, values in exact.items():
        assert [v is None for v in told[host]] == [v is None for v in values]
        assert [v for v in told[host] if v is not None] == pytest.approx([v for v in values if v is not None])
    assert value.value is not None and rate.value is not None and highest.chart is not None
    course = [v for v in alone(metric="tide", by=[])[""] if v is not None]
    assert value.value.series[0].values == pytest.approx([np.mean(course)], rel=0.02)
    assert rate.value.series[0].values == pytest.approx([70.0], rel=1e-6)
    assert highest.chart[0].series[0].values == alone(metric="tide", take="max", by=[])[""]


def test_a_value_is_one_figure_and_the_usual_of_what_has_none_is_left_out(fleet: Parts) -> None:
    value, chart = answered(
        fleet, body(panel("value", metric="tide"), panel(metric="tide", take="p95", usual=True))
    ).panels
    assert value.value is not None and [one.attributes for one in value.value.series] == [{}]
    assert chart.usual == [None] and chart.chart is not None
