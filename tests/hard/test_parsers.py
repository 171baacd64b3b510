"""Fuzzers of what reads texts and bytes of others: they read them or say what is wrong, and nothing else happens."""

from __future__ import annotations

import asyncio
import json
import math
import os
import time
from collections.abc import Iterator
from typing import Any, get_args

import pytest
import yaml
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceRequest
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest

from balise.api.applications import ApplicationBody
from balise.api.events import SEVERITIES
from balise.api.parsers import Form, Parser
from balise.api.plans import PlanDocument
from balise.api.rules import RuleDocument
from balise.core import filters
from balise.core.documents import DocumentError, read_document
from balise.core.events.journal import entries, line_of
from balise.core.events.parsers import ParserReader
from balise.core.events.patterns import PatternLearner
from balise.core.events.syslog_reader import SyslogReader
from balise.core.filters import FilterError
from balise.core.kits.documents import check_kit
from balise.core.moments import Nanos
from balise.core.series.wire import WireError
from balise.core.syslog import MAX_LINE, parse_line
from balise.listen.syslog.framing import Frames
from balise.server.life import close
from balise.server.parts import Parts, build
from balise.server.people.access import Principal
from balise.server.receive.bodies import Outcome
from balise.server.settings import Settings

TIMES = 100 if os.environ.get("FUZZ") == "long" else 1
often = settings(
    max_examples=300 * TIMES, deadline=None, suppress_health_check=[HealthCheck.too_slow, HealthCheck.data_too_large]
)


@pytest.fixture(scope="module")
def console(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Parts]:
    made = build(Settings(data=tmp_path_factory.mktemp("fuzzed")))
    yield made
    close(made)


ADMIN = Principal("fuzz", "administrator")


def take(console: Parts, kind: str, body: bytes, *, as_json: bool) -> Outcome | None:
    intake = console.metric_intake if kind == "metrics" else console.log_intake
    try:
        return asyncio.run(intake.take(ADMIN, body, as_json=as_json))
    except WireError:
        return None


# --- OTLP as protobuf


def whole(kind: str) -> bytes:
    now = time.time_ns()
    if kind == "logs":
        logs = ExportLogsServiceRequest()
        group = logs.resource_logs.add()
        group.resource.attributes.add(key="host.name").value.string_value = "pier"
        record = group.scope_logs.add().log_records.add(time_unix_nano=now, severity_number=17, severity_text="x")
        record.body.kvlist_value.values.add(key="a").value.array_value.values.add().int_value = 5
        record.attributes.add(key="b").value.bytes_value = b"\x00\xff"
        return logs.SerializeToString()
    metrics = ExportMetricsServiceRequest()
    parts = metrics.resource_metrics.add()
    parts.resource.attributes.add(key="host.name").value.string_value = "pier"
    scope = parts.scope_metrics.add()
    for form in ("gauge", "sum", "histogram", "exponential_histogram", "summary"):
        metric = scope.metrics.add(name=f"fuzz.{form}", unit="1")
        point = getattr(metric, form).data_points.add(time_unix_nano=now)
        point.attributes.add(key="a").value.double_value = 0.5
        if form in ("gauge", "sum"):
            point.as_double = 1.5
        elif form == "histogram":
            point.count, point.sum = 3, 4.5
            point.explicit_bounds.extend([1.0, 2.0])
            point.bucket_counts.extend([1, 1, 1])
        elif form == "exponential_histogram":
            point.count, point.scale, point.positive.offset = 3, 2, -1
            point.positive.bucket_counts.extend([1, 2])
        else:
            point.count, point.sum = 3, 4.5
            point.quantile_values.add(quantile=0.5, value=1.0)
    return metrics.SerializeToString()


@st.composite
def broken(draw: st.DrawFn, kind: str) -> bytes:
    """A whole body in which some bytes are others, some are gone, and some come twice."""
    body = bytearray(whole(kind))
    for _ in range(draw(st.integers(0, 6))):
        at = draw(st.integers(0, max(0, len(body) - 1)))
        how = draw(st.sampled_from(["other", "gone", "more", "cut"]))
        if how == "other" and body:
            body[at] = draw(st.integers(0, 255))
        elif how == "gone":
            del body[at : at + draw(st.integers(1, 8))]
        elif how == "more":
            body[at:at] = draw(st.binary(max_size=12)) or body[at : at + 40]
        else:
            del body[at:]
    return bytes(body)


@often
@given(data=st.data(), kind=st.sampled_from(["metrics", "logs"]))
def test_protobuf_is_read_or_said_to_be_none(console: Parts, data: st.DataObject, kind: str) -> None:
    body = data.draw(st.one_of(broken(kind), st.binary(max_size=200)))
    outcome = take(console, kind, body, as_json=False)
    request = ExportMetricsServiceRequest if kind == "metrics" else ExportLogsServiceRequest
    try:
        request.FromString(body)
    except Exception:
        return
    # What the standard's own classes read is read here, but for texts that are no text.
    assert outcome is not None or not _is_text(body)


def _is_text(body: bytes) -> bool:
    try:
        body.decode("utf-8")
    except UnicodeDecodeError:
        return False
    return True


# --- OTLP as JSON

FIELDS = [
    "resourceMetrics", "resourceLogs", "resource", "attributes", "key", "value", "stringValue", "intValue", "doubleValue",
    "arrayValue", "kvlistValue", "values", "bytesValue", "scopeMetrics", "scopeLogs", "metrics", "logRecords", "name",
    "unit", "gauge", "sum", "histogram", "exponentialHistogram", "summary", "dataPoints", "timeUnixNano", "asDouble",
    "asInt", "count", "bucketCounts", "explicitBounds", "aggregationTemporality", "isMonotonic", "scale", "positive",
    "offset", "body", "severityNumber", "severityText", "traceId", "eventName", "flags", "exemplars", "quantileValues",
]  # fmt: skip
LEAVES = st.one_of(
    st.none(), st.booleans(), st.integers(-(2**70), 2**70), st.floats(), st.text(max_size=20),
    st.sampled_from(["host.name", "NaN", "Infinity", "-1", "1e400", "pier", "\ud800", "\x00", "AAAA", "9" * 30]),
)  # fmt: skip
JSON = st.recursive(
    LEAVES,
    lambda inner: st.one_of(
        st.lists(inner, max_size=4), st.dictionaries(st.sampled_from(FIELDS), inner, max_size=5)
    ),
    max_leaves=40,
)  # fmt: skip


@st.composite
def likely(draw: st.DrawFn) -> Any:
    """JSON of the right form at the top, and anything below."""
    metrics = draw(st.booleans())
    held = [draw(JSON) for _ in range(draw(st.integers(0, 3)))]
    form = draw(st.sampled_from(["gauge", "sum", "histogram", "exponentialHistogram", "summary"]))
    inner = {"metrics": [{"name": "fuzz", form: {"dataPoints": held}}]} if metrics else {"logRecords": held}
    host = {"attributes": [{"key": "host.name", "value": {"stringValue": "pier"}}]}
    kind = "Metrics" if metrics else "Logs"
    return {f"resource{kind}": [{"resource": host, f"scope{kind}": [inner]}]}


@often
@given(content=st.one_of(likely(), JSON), kind=st.sampled_from(["metrics", "logs"]))
def test_json_is_read_or_said_to_be_none(console: Parts, content: Any, kind: str) -> None:
    body = json.dumps(content).encode("utf-8", "surrogatepass")
    take(console, kind, body, as_json=True)


@often
@given(st.one_of(st.binary(max_size=100), st.text(max_size=200).map(lambda t: t.encode("utf-8", "surrogatepass"))))
def test_what_is_no_json_is_said_to_be_none(console: Parts, body: bytes) -> None:
    for kind in ("metrics", "logs"):
        take(console, kind, body, as_json=True)


# --- syslog

PIECES = st.sampled_from([
    "<34>1 ", "<191>", "<999>", "2026-11-28T03:00:00Z ", "2026-02-30T25:61:61+99:99 ", "Nov 28 03:00:00 ", "Feb 30 99:99:99 ",
    "gate-1 ", "app[12]: ", "app ", "- ", '[x@1 a="b\\]"] ', "[", "]", '"', "\\", "\ufeff", "\x00", "\x1b[31m", "ERROR ",
    "<165>1 2026-08-24T05:14:15.000003-07:00 192.0.2.1 evntslog - ID47 ", "\U0001f4a5", " " * 50, "[" * 50,
])  # fmt: skip


@often
@given(st.one_of(st.lists(PIECES, max_size=12).map("".join), st.text(max_size=300)))
def test_a_line_of_a_log_is_read_whatever_it_is(text: str) -> None:
    line = parse_line(text, year_of=time.time())
    assert line.severity in SEVERITIES
    assert line.time is None or (math.isfinite(line.time) and abs(line.time) < 1e12)
    assert len(line.body) <= MAX_LINE
    assert all(isinstance(v, str) for v in line.attributes.values())


# --- filters

WORDS = st.sampled_from([
    "host", "label.site", "severity", "and", "or", "not", "eq", "ne", "co", "sw", "ew", "gt", "ge", "lt", "le", "pr", "(", ")",
    '"a"', '"', "'a'", "5", "-1.5e3", "1e999", "true", "null", "[", "]", "a.b", "é", "\x00", ",", "=", "error", "warning",
])  # fmt: skip
FOUND = st.one_of(
    st.none(), st.text(max_size=5), st.integers(), st.floats(), st.booleans(), st.lists(st.text(max_size=3), max_size=3)
)


@often
@given(st.one_of(st.lists(WORDS, max_size=14).map(" ".join), st.text(max_size=100)), FOUND)
def test_a_filter_is_read_or_said_to_be_none(text: str, found: Any) -> None:
    try:
        node = filters.parse(text)
    except FilterError as error:
        assert str(error)
        return
    assert filters.matches(node, lambda _name: found) in (True, False)


@pytest.mark.parametrize("text", ["(" * 100_000, "not " * 100_000 + "a pr", "a pr and " * 100_000 + "a pr"])
def test_a_filter_has_a_depth(text: str) -> None:
    with pytest.raises(FilterError):
        filters.parse(text)


# --- YAML documents

KEYS = [
    "rule", "about", "measure", "metric", "take", "over", "each", "hosts", "where", "limits", "warning", "critical", "above",
    "below", "hold", "clear", "plan", "for", "groups", "filter", "collect", "follow", "path", "every", "kit", "version", "by",
    "read", "part", "ask", "values", "column", "unit", "rules", "needs", "health", "members", "application", "drawn", "labels",
]  # fmt: skip
TREES = st.recursive(
    st.one_of(
        st.none(), st.booleans(), st.integers(), st.floats(), st.text(max_size=12), st.sampled_from(["5m", "1h", "x"])
    ),
    lambda inner: st.one_of(st.lists(inner, max_size=4), st.dictionaries(st.sampled_from(KEYS), inner, max_size=6)),
    max_leaves=30,
)
SYNTAX = st.lists(
    st.sampled_from(["a: ", "- ", "&x ", "*x", "!!python/object:os.system ", "{", "}", "[", "]", "|", ">", "'", '"', "#", "\n",
                     "\n  ", "\t", "? ", ": ", "<<: ", "%YAML 9.9\n", "---\n", "...\n", "rule: ", "1e400", "2026-02-30", "\x00"]),
    max_size=20,
).map("".join)  # fmt: skip


@often
@given(st.one_of(TREES.map(lambda tree: yaml.safe_dump(tree, allow_unicode=True)), SYNTAX, st.text(max_size=80)))
def test_a_document_is_read_or_said_to_be_none(text: str) -> None:
    for model in (RuleDocument, PlanDocument, ApplicationBody):
        try:
            read_document(text, model)
        except DocumentError as error:
            assert str(error)
    check_kit("fuzz", text)


@pytest.mark.parametrize(
    "text",
    [
        "".join(f"a{n}: &a{n} [{', '.join([f'*a{n - 1}'] * 9) if n else 'x'}]\n" for n in range(12)),
        "a: &a [*a]\n",
        "[" * 50_000,
        "{a: " * 20_000,
        "- " * 20_000,
        "rule: " + "x" * 5_000_000,
    ],
    ids=["laughs", "ring", "lists", "maps", "dashes", "long"],
)
def test_a_document_that_blows_up_is_refused(text: str) -> None:
    for model in (RuleDocument, PlanDocument, ApplicationBody):
        with pytest.raises(DocumentError):
            read_document(text, model)
    assert check_kit("bomb", text).problems


def test_the_folder_of_the_fuzzers_holds_what_was_taken(console: Parts) -> None:
    assert take(console, "metrics", whole("metrics"), as_json=False) == Outcome()
    assert take(console, "logs", whole("logs"), as_json=False) == Outcome()
    assert {m.split(".")[1] for m in console.series.catalogue.metrics if m.startswith("fuzz.")} >= {
        "gauge",
        "sum",
        "histogram",
    }


FRAGMENTS = st.text(alphabet="<>0123456789 -[]=\"\\\n:.TZ{}'ab…é\x00", max_size=200)


@often
@given(FRAGMENTS)
def test_any_syslog_message_is_an_event_with_attributes_that_can_be_read(text: str) -> None:
    event = SyslogReader().read(text, Nanos(1_795_000_000_000_000_000))
    assert isinstance(json.loads(event.attributes or "{}"), dict)
    assert event.severity in range(8)


@often
@given(st.lists(st.binary(max_size=60), max_size=12))
def test_any_stream_of_syslog_comes_to_an_end(parts: list[bytes]) -> None:
    frames = Frames()
    found = [message for part in parts for message in frames.feed(part)]
    assert sum(map(len, [*found, *frames.end()])) <= sum(map(len, parts))


@often
@given(FRAGMENTS, st.sampled_from(get_args(Form)))
def test_any_line_is_read_by_any_parser(text: str, form: str) -> None:
    if form != "pattern":
        ParserReader(Parser.model_validate({"form": form})).read(text, 1.8e9)


@often
@given(st.lists(FRAGMENTS, max_size=20))
def test_patterns_learn_from_anything(bodies: list[str]) -> None:
    learner = PatternLearner()
    lines = [(at, "h", 6, "s", body, None) for at, body in enumerate(bodies)]
    found = learner.of(lines)
    assert [learner.by_id[number].root().id for number in learner.of(lines)] == [
        learner.by_id[number].root().id for number in found
    ]


@often
@given(st.binary(max_size=300))
def test_any_journal_export_is_read(data: bytes) -> None:
    found, used = entries(data)
    assert used <= len(data)
    assert all(line_of(entry).severity in SEVERITIES for entry in found)
