"""The fleet as a table: its columns held to the points, its pages to each other."""

from __future__ import annotations

import time

import numpy as np
import pytest

from balise.api.hosts import Facts, GroupBody, HostChange
from balise.api.table import HostTable, HostTableQuery
from balise.core.events.new_event import NewEvent
from balise.core.moments import NS
from balise.core.outliers import unlike
from balise.server.errors import Refused
from balise.server.parts import Parts
from balise.store.events.store import Delivery
from laying import lay

HOSTS = [f"gate-{n}" for n in range(9)]


@pytest.fixture
def console(console: Parts) -> Parts:
    now = time.time()
    times = np.arange(now - 3600, now, 15.0)
    for number, host in enumerate(HOSTS):
        lay(console, host, "busy", times, np.full(len(times), number / 10) + np.where(times > now - 240, 0.05, 0.0))
        site = "north" if number < 6 else "south"
        console.hosts.change(host, HostChange(labels={"site": site, "role": "gate"}), "t")
        known = console.hosts.known(host).id
        console.reports.set_facts(known, Facts(host_name=host, os="Debian", cores=2 + number, memory=2**30))
    lay(console, "gate-8", "temperature", times, np.full(len(times), 71.0), unit="Cel")
    return console


def page(console: Parts, **words: object) -> HostTable:
    return console.fleet_table.page(HostTableQuery.model_validate(words))


def test_metrics_facts_labels_and_counts_are_columns(console: Parts) -> None:
    columns = [
        {"metric": "busy", "over": "3m"},
        {"metric": "busy", "over": "1h", "take": "max"},
        {"metric": "temperature"},
        {"fact": "cores"},
        {"label": "site"},
        {"count": "alerts"},
        {"fact": "os"},
    ]
    found = page(console, columns=columns, sort=[{"column": 3, "descending": True}])
    assert [row.host for row in found.items] == HOSTS[::-1] and found.total == 9
    first = found.items[0].values
    assert first[:2] == pytest.approx([0.85, 0.85]) and first[2:] == [71.0, 10.0, "south", 0.0, "Debian"]
    assert found.items[1].values[2] is None
    assert [column.unit for column in found.columns] == ["1", "1", "Cel", "", "", "{alert}", ""]


def test_events_are_counted_by_host(console: Parts) -> None:
    now = int(time.time() * NS)
    for host, severity, count in (("gate-3", 3, 4), ("gate-3", 6, 9), ("gate-5", 2, 1)):
        said = [NewEvent(now, host, severity, "gate", f"barrier {n}", "{}") for n in range(count)]
        console.events.accept_now(Delivery(said))
    columns = [{"count": "events", "where": 'severity ge "error"', "over": "1h"}]
    found = page(console, columns=columns, sort=[{"column": 0, "descending": True}], limit=3)
    assert [(row.host, row.values) for row in found.items] == [("gate-3", [4.0]), ("gate-5", [1.0]), ("gate-0", [0.0])]


def test_pages_have_each_host_once_whatever_the_values_do(console: Parts) -> None:
    columns = [{"metric": "busy", "over": "3m"}]
    query: dict[str, object] = {"columns": columns, "sort": [{"column": 0, "descending": True}], "limit": 4}
    first = page(console, **query)
    # The last comes first now; the pages go on in the order in which they began.
    lay(console, "gate-0", "busy", np.array([time.time() - 1]), np.array([9.0]))
    console.columns._held.clear()
    second = page(console, **query, cursor=first.next)
    third = page(console, **query, cursor=second.next)
    assert [row.host for one in (first, second, third) for row in one.items] == HOSTS[::-1]
    assert third.next is None and third.items[0].values[0] != first.items[0].values[0]
    with pytest.raises(Refused) as refused:
        page(console, **query, cursor="of.nobody")
    assert refused.value.errors[0].field == "cursor"


def test_groups_have_the_sum_the_mean_and_the_worst(console: Parts) -> None:
    console.groups.put("quays", GroupBody(hosts=["gate-0", "gate-7"]), "t")
    found = page(console, columns=[{"fact": "cores"}, {"label": "role"}], group_by="site", sort=[{"by": "name"}])
    assert found.groups is not None
    by_name = {group.name: group for group in found.groups}
    assert set(by_name) == {"north", "south"} and by_name["north"].hosts == 6
    south = by_name["south"].values[0]
    assert south is not None and by_name["south"].values[1] is None
    assert (south.sum, south.mean, south.least, south.most, south.worst) == (27.0, 9.0, 8.0, 10.0, "gate-8")
    in_groups = page(console, columns=[{"fact": "cores"}], group_by="group").groups or []
    assert {group.name: group.hosts for group in in_groups} == {"quays": 2, "": 7}
    assert [group.name for group in page(console, group_by="label.role").groups or []] == ["gate"]


def test_one_that_is_unlike_its_group_is_marked(console: Parts) -> None:
    """By hand: of the seven the middle is 0.4 and the median distance from it 0.2, so 3.0 is 2.6 / (1.4826 × 0.2) away."""
    values = np.array([0.1, 0.2, 0.3, 0.4, 0.5, 0.6, 3.0, np.nan])
    middle, distance = 0.4, 0.2
    away = unlike(values, np.zeros(8, np.int64))
    assert away[6] == pytest.approx((3.0 - middle) / (1.4826 * distance), rel=1e-3) and np.isnan(away[:6]).all()
    # Among those of its own group, of which there are too few, nobody can tell.
    assert np.isnan(unlike(values, np.array([0, 0, 0, 0, 0, 0, 1, 1]))).all()
    lay(console, "gate-2", "busy", np.array([time.time() - 1]), np.array([500.0]))
    found = page(console, columns=[{"metric": "busy", "over": "5m", "take": "max"}], group_by="site")
    assert [row.host for row in found.items if row.unusual[0]] == ["gate-2"]


def test_lines_are_the_course_of_each_metric(console: Parts) -> None:
    found = page(
        console, columns=[{"metric": "busy", "over": "1h"}, {"fact": "cores"}], lines=True, where='host eq "gate-4"'
    )
    (row,) = found.items
    assert row.lines is not None and row.lines[1] is None
    course = row.lines[0] or []
    assert len(course) == 24 and course[5] == pytest.approx(0.4) and course[-1] == pytest.approx(0.45, abs=0.02)


@pytest.mark.parametrize(
    ("words", "field"),
    [
        ({"columns": [{"fact": "os"}, {"metric": "busy", "where": "host eq"}]}, "columns.1.where"),
        ({"columns": [{"count": "alerts", "where": "("}]}, "columns.0.where"),
        ({"columns": [{"count": "events", "where": 'severity ge "worst"'}]}, "columns.0.where"),
        ({"columns": [{"count": "incidents", "where": "severity ge"}]}, "columns.0.where"),
        ({"where": "host eq"}, "where"),
    ],
)
def test_what_cannot_be_asked_is_refused_by_field(console: Parts, words: dict[str, object], field: str) -> None:
    with pytest.raises(Refused) as refused:
        page(console, **words)
    assert [one.field for one in refused.value.errors] == [field]


def test_a_metric_that_nobody_sent_is_an_empty_column_that_says_so(console: Parts) -> None:
    found = page(console, columns=[{"metric": "bsy"}])
    assert "bsy" in found.columns[0].problem and {row.values[0] for row in found.items} == {None}


def test_only_so_many_columns_are_kept_up_to_date(console: Parts) -> None:
    for number in range(100):
        page(console, columns=[{"metric": "busy", "over": f"{300 + number}s"}])
    assert len(console.columns._looked_at) == len(console.columns._held) == 64
    before = {key: held.at for key, held in console.columns._held.items()}
    console.columns.look()
    assert {key: held.at for key, held in console.columns._held.items()} == before
    console.columns._clock = lambda: time.time() + 30
    console.columns.look()
    assert all(held.at > before[key] for key, held in console.columns._held.items())
    console.columns._clock = lambda: time.time() + 200
    console.columns.look()
    assert not console.columns._looked_at
