"""Kits as documents, rows as values, texts as rows, log lines as events."""

from __future__ import annotations

import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from balise.api.kits import KitLog, KitPart
from balise.collect.kits.folder import SHIPPED, kits_in, shipped_kits
from balise.core.documents import DocumentError
from balise.core.kits.documents import TargetError, changes, check_kit, read_kit, whole_target
from balise.core.kits.forms import FormError, rows_of
from balise.core.kits.logs import LogReader
from balise.core.kits.openmetrics import OpenMetricsError, samples
from balise.core.kits.rows import MOST_VALUES, meanings_of, table_of, values_of, wanted
from balise.core.kits.sessions import blocking, in_chains, kept_sessions

KIT = """
kit: ticket-desk
version: "1.2"
title: Ticket desk
about: The desk's own figures
by: http
target:
  url: {about: its page, kind: url, needed: true}
read:
  - part: desk
    ask: {form: json}
    metrics:
      ticket-desk.waiting: {about: People who wait, unit: "{person}", column: waiting}
rules:
  - rule: desk-crowded
    about: Many people wait
    measure: {metric: ticket-desk.waiting, each: [host]}
    limits: {warning: {above: 20}}
charts:
  - {title: Waiting, metric: ticket-desk.waiting}
"""


def test_a_kit_is_read_and_what_is_wrong_has_its_line_and_column() -> None:
    assert read_kit(KIT).kit == "ticket-desk"
    for old, new, line, words in (
        ("column: waiting", "colum: waiting", 13, "there is no such key here"),
        ("metric: ticket-desk.waiting, each", "metric: ticket-desk.crowd, each", 17, "collects nothing called"),
        ("form: json", 'form: pattern, pattern: "(?P<a>"', 11, "the pattern cannot be read"),
        ("form: json", "form: json, rows: '$.['", 11, "the JSONPath"),
        ('version: "1.2"', "version: [1]", 3, "version"),
        ("ticket-desk.waiting: {about", "desk_waiting: {about", 13, "metrics are called ticket-desk.something"),
    ):
        check = check_kit("x", KIT.replace(old, new, 1))
        assert not check.good and check.problems[0].line == line and words in check.problems[0].detail, check


def test_every_shipped_kit_is_good_and_says_what_it_means() -> None:
    good, bad = kits_in(SHIPPED)
    assert bad == [] and len(good) >= 16
    for one in good:
        assert one.kit.kit == one.path.name
        for name, meaning in meanings_of(one.kit).items():
            assert meaning.unit and meaning.about, f"{one.kit.kit}: {name}"
        for rule in one.kit.rules:
            assert rule.advice, f"{one.kit.kit}: {rule.rule} has no advice"
        if not one.kit.generic and one.kit.credential and one.kit.credential.needed:
            assert one.kit.grant is not None, f"{one.kit.kit} does not say what to grant"


def test_a_target_is_filled_and_checked_field_by_field() -> None:
    kit = shipped_kits()["postgresql"].kit
    assert whole_target(kit, {"port": "5433"}, here=True) == {
        "address": "127.0.0.1", "port": 5433, "database": "postgres", "tls": "prefer"
    }  # fmt: skip
    assert "address" not in whole_target(kit, {}, here=False)
    for target, field in (
        ({"prt": 1}, "target.prt"),
        ({"port": 70000}, "target.port"),
        ({"port": "x"}, "target.port"),
        ({"tls": "maybe"}, "target.tls"),
        ({"log": "a\nb"}, "target.log"),
        ({"address": "169.254.1.1"}, "target.address"),
    ):
        with pytest.raises(TargetError) as caught:
            whole_target(kit, target, here=True)
        assert caught.value.field == field
    for url in ("ftp://x/", "http://", "http://u:p@h/", "http://169.254.169.254/"):
        with pytest.raises(TargetError, match=r"target\.url"):
            whole_target(shipped_kits()["openmetrics"].kit, {"url": url}, here=True)


def part(**said: Any) -> KitPart:
    return KitPart.model_validate({"part": "p1", **said})


def test_rows_become_values_as_a_part_says() -> None:
    one = part(
        attributes={"db.namespace": "name"},
        where={"kind": ["db"]},
        metrics={
            "k.size": {"about": "s", "unit": "By", "column": "kb", "scale": 1024},
            "k.rows": {"about": "r", "unit": "1", "split": {"attribute": "of", "columns": {"in": "i", "out": "o"}}},
            "k.up": {"about": "u", "unit": "1", "column": "state", "states": {"on": 1, "*": 0}},
            "k.limit": {"about": "l", "unit": "1", "column": "limit", "least": 0},
        },
    )
    rows = [
        {"kind": "db", "name": "fares", "kb": "2", "i": 3, "o": None, "state": "off", "limit": -1},
        {"kind": "other", "name": "x", "kb": 9},
        {"kind": "db", "name": "times", "kb": "n/a", "state": "on", "limit": 5},
    ]
    found = {(v.metric, *v.attributes.values()): v.value for v in values_of(one, wanted(one, rows))}
    assert found == {
        ("k.size", "fares"): 2048.0, ("k.rows", "fares", "in"): 3.0, ("k.up", "fares"): 0.0,
        ("k.up", "times"): 1.0, ("k.limit", "times"): 5.0,
    }  # fmt: skip


def test_what_a_part_gives_is_bounded_and_finite() -> None:
    one = part(free={"metric": "v", "about": "a", "attribute": "c"})
    assert len(list(values_of(one, [{f"c{i}": i for i in range(400)}] * 40))) == MOST_VALUES
    assert list(values_of(one, [{"a": "nan", "b": "inf", "c": None, "d": [1]}])) == []
    table = part(keep={"name": "long", "about": "a", "most": 2}).keep
    assert table is not None
    kept = table_of(table, [{"text": "x" * 5000, "n": 1.23456789}] * 9)
    assert len(kept) == 2 and len(str(kept[0]["text"])) == 1000 and kept[0]["n"] == 1.234568


def test_the_example_of_the_openmetrics_standard_is_read() -> None:
    # OpenMetrics 1.0, section "Overall Structure", shortened.
    text = (
        "# TYPE acme_http_router_request_seconds summary\n# UNIT acme_http_router_request_seconds seconds\n"
        "# HELP acme_http_router_request_seconds Latency through all of ACME's HTTP request router.\n"
        'acme_http_router_request_seconds_sum{path="/api/v1",method="GET"} 9036.32\n'
        'acme_http_router_request_seconds_count{path="/api/v1",method="GET"} 807283.0\n'
        'acme_http_router_request_seconds_created{path="/api/v1",method="GET"} 1605281325.0\n'
        "# TYPE go_goroutines gauge\n# HELP go_goroutines Number of goroutines that currently exist.\ngo_goroutines 69\n"
        "# TYPE process_cpu_seconds counter\nprocess_cpu_seconds_total 4.20072246e+06\n# EOF\n"
    )
    found = samples(text)
    assert [(r["name"], r["value"], r["kind"]) for r in found] == [
        ("acme_http_router_request_seconds_sum", 9036.32, "counter"),
        ("acme_http_router_request_seconds_count", 807283.0, "counter"),
        ("go_goroutines", 69.0, "gauge"),
        ("process_cpu_seconds_total", 4200722.46, "counter"),
    ]
    assert found[0]["labels"] == {"path": "/api/v1", "method": "GET"} and found[0]["unit"] == "seconds"
    assert samples('a{b="x\\"y\\\\z\\n,}"} 1 123\n')[0]["labels"] == {"b": 'x"y\\z\n,}'}
    for bad in ("a b c d", "a{b=1} 2", "a one", "{} 1", "a 1_000", 'a{b="1",b="2"} 3', "a 1 2 3"):
        with pytest.raises(OpenMetricsError, match="line 1"):
            samples(bad)
    for bad in ("a 1\na 1\n", "# EOF\na 1\n"):
        with pytest.raises(OpenMetricsError, match="line 2"):
            samples(bad)
    with pytest.raises(OpenMetricsError, match="does not end with # EOF"):
        samples("a 1\n", whole=True)
    assert samples("a 1\n")[0]["value"] == 1.0
    assert samples('a{b="x\u2028y"} 1\n# EOF\n', whole=True)[0]["labels"] == {"b": "x\u2028y"}
    assert [r["name"] for r in samples("# TYPE user_created gauge\nuser_created 7\n")] == ["user_created"]
    assert samples('a_bucket 8 # {trace_id="x"} 0.67\n')[0]["value"] == 8.0


def test_texts_of_every_form_become_rows() -> None:
    assert rows_of("Total: 3\nBusy : x\n", {"form": "pairs"}) == [{"Total": "3", "Busy": "x"}]
    assert rows_of("# a,b,\n1,2,\n", {"form": "csv"})[0]["b"] == "2"
    answer = json.dumps({"q": [{"n": "gates", "s": {"ready": 5}, "l": [1, 2]}], "v": "3.10"})
    assert rows_of(
        answer, {"form": "json", "rows": "$.q[*]", "columns": {"name": "n", "r": "s.ready", "v": "$.v", "k": "l"}}
    ) == [{"name": "gates", "r": 5, "v": "3.10", "k": 2}]
    assert rows_of(answer, {"form": "json"}) == [{"v": "3.10"}]
    heap = (
        "OK - Attribute get 'java.lang:type=Memory' - HeapMemoryUsage = javax.management.openmbean.CompositeDataSupport("
        "compositeType=X,contents={committed=100, init=1, max=200, used=50})"
    )
    [row] = rows_of(heap, {"form": "beans"})
    assert (row["HeapMemoryUsage.used"], row["HeapMemoryUsage.share"]) == ("50", 0.25)
    for text, form in (("{", "json"), ("plain", "pairs"), ("x", "csv"), ("Error - no", "beans"), ("a", "nope")):
        with pytest.raises(FormError):
            rows_of(text, {"form": form})


def test_a_careless_pattern_ends(tmp_path: object) -> None:
    with pytest.raises(FormError, match="takes too long"):
        rows_of("a" * 5000 + "!", {"form": "pattern", "pattern": r"(?P<x>(a|aa)+)$"})


@given(st.text(max_size=200))
def test_no_text_breaks_a_form(text: str) -> None:
    for form in ("pairs", "csv", "json", "openmetrics", "beans", "queue-reasons"):
        try:
            assert isinstance(rows_of(text, {"form": form, "now": 0.0}), list)
        except FormError:
            continue


def test_who_blocks_whom_is_followed_to_the_root() -> None:
    assert blocking({"a": None, "b": "a", "c": "b", "d": None}) == {
        "a": ("a", 0), "b": ("a", 1), "c": ("a", 2), "d": (None, 0)
    }  # fmt: skip
    ring = blocking({"a": "b", "b": "a"})
    assert {depth for _, depth in ring.values()} == {1}
    rows = [{"id": n, "state": "idle", "seconds": n} for n in range(90)] + [
        {"id": 100, "state": "idle in transaction", "seconds": 1}, {"id": 101, "blocked_by": 3, "seconds": 5},
    ]  # fmt: skip
    kept = kept_sessions(rows, "pg")
    assert [s["id"] for s in kept] == ["101", "3", "100"]


def test_who_waits_stands_under_whom_it_waits_for() -> None:
    waits = {"a": None, "b": "a", "c": "a", "d": "b", "e": None, "f": "e", "g": None}
    rows = [{"id": n, "blocked_by": b, "seconds": ord(n)} for n, b in waits.items()]
    assert [(s.id, s.depth) for s in in_chains(rows)] == [
        ("a", 0), ("c", 1), ("b", 1), ("d", 2), ("e", 0), ("f", 1), ("g", 0),
    ]  # fmt: skip
    long = [{"id": n, "blocked_by": n - 1 if n > 1 else None} for n in range(1, 3001)]
    assert [s.depth for s in in_chains(long)] == list(range(3000))


def test_a_log_is_read_as_its_kit_says() -> None:
    log = next(one for one in shipped_kits()["postgresql"].kit.logs if one.log == "server")
    line = LogReader(log).read(
        json.dumps({
            "timestamp": "2026-11-23 06:02:32.554 UTC", "user": "app", "pid": 15926, "error_severity": "ERROR",
            "message": "deadlock detected", "dbname": "fares", "state_code": "40P01",
        }), 0.0,
    )  # fmt: skip
    assert line is not None and (line.body, line.severity, line.time) == ("deadlock detected", "error", 1795413752.554)
    assert line.attributes["db.namespace"] == "fares" and line.attributes["db.response.status_code"] == "40P01"
    log = shipped_kits()["openssh"].kit.logs[0]
    reader = LogReader(log)
    for text, outcome, user, client in (
        ("Nov 23 06:10:04 bastion-h1 sshd[812]: Failed password for invalid user oracle from 203.0.113.9 port 4022 ssh2",
         "Failed", "oracle", "203.0.113.9"),
        ("Nov 23 06:10:05 bastion-h1 sshd[813]: Accepted publickey for mate from 192.0.2.7 port 51000 ssh2: ED25519 SHA256:x",
         "Accepted", "mate", "192.0.2.7"),
    ):  # fmt: skip
        line = reader.read(text, 1795413800.0)
        assert line is not None
        assert [line.attributes[k] for k in ("openssh.outcome", "user.name", "client.address")] == [
            outcome,
            user,
            client,
        ]
    assert {v.attributes["openssh.outcome"]: v.value for v in reader.values()} == {"Failed": 1, "Accepted": 1}
    assert reader.read("something else entirely", 0.0) is not None and reader.strange == 1


def test_what_is_counted_of_a_log_is_bounded() -> None:
    log = KitLog.model_validate({
        "log": "busy", "about": "a", "path": "/x", "form": "regex", "pattern": r"(?P<who>\S+) (?P<took>\S+)",
        "tally": {"who": "who"}, "duration": "took", "deliver": "none",
        "metrics": {"n": {"about": "n", "unit": "1", "kind": "counter", "column": "count"},
                    "t": {"about": "t", "unit": "s", "column": "took"}},
    })  # fmt: skip
    reader = LogReader(log)
    for n in range(10_000):
        assert reader.read(f"u{n} {n / 10_000}", 0.0) is None
    found = list(reader.values())
    assert sum(v.metric == "n" for v in found) == 200
    quantiles = {v.attributes["quantile"]: v.value for v in found if v.metric == "t"}
    assert quantiles["p50"] == pytest.approx(0.75, abs=0.01) and quantiles["p99"] > quantiles["p95"] > 0.9


def test_what_another_version_changes_is_told() -> None:
    newer = KIT.replace('"1.2"', '"1.3"').replace("above: 20", "above: 30").replace('unit: "{person}"', 'unit: "1"')
    told = {c.what: (c.before, c.after) for c in changes(read_kit(KIT), read_kit(newer))}
    assert (
        told["version"] == ("1.2", "1.3")
        and "20" in told["rule desk-crowded"][0]
        and "30" in told["rule desk-crowded"][1]
    )
    assert told.keys() == {"version", "rule desk-crowded", "metric ticket-desk.waiting"}
    with pytest.raises(DocumentError, match="aliases"):
        read_kit("a: &x 1\nb: *x\n")
