"""How much there may be in one body, counted before it is unpacked."""

from __future__ import annotations

import pytest
from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceRequest
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest

from balise.core.events.records import MOST_RECORDS, count_records
from balise.core.series.wire import MOST_NUMBERS, TooLarge, WireError, read_metric, sections


def field(number: int, content: bytes) -> bytes:
    """One length-delimited field, as the encoding's description says (tag, length, content)."""
    size, length = len(content), b""
    while size > 0x7F:
        length += bytes([size & 0x7F | 0x80])
        size >>= 7
    return bytes([number << 3 | 2]) + length + bytes([size]) + content


def test_records_are_counted_as_the_standards_classes_have_them() -> None:
    request = ExportLogsServiceRequest()
    for number in range(3):
        scope = request.resource_logs.add().scope_logs.add()
        for _ in range(number + 1):
            scope.log_records.add(severity_text="x").body.string_value = "a line"
    request.resource_logs.add()
    assert count_records(request.SerializeToString()) == 6
    assert count_records(b"") == 0


def test_more_records_than_are_read_at_once_are_not_unpacked() -> None:
    records = field(2, b"") * (MOST_RECORDS + 1)
    with pytest.raises(TooLarge, match="records"):
        count_records(field(1, field(2, records)))
    assert count_records(field(1, field(2, field(2, b"") * MOST_RECORDS))) == MOST_RECORDS
    for empty in (field(1, b"") * 1_000_002, field(1, field(2, b"") * 1_000_002)):
        with pytest.raises(TooLarge, match="fields"):
            count_records(empty)


def test_one_record_of_a_million_attributes_is_not_unpacked() -> None:
    with pytest.raises(TooLarge, match="fields"):
        count_records(field(1, field(2, field(2, field(6, b"") * 1_000_001))))


def test_what_is_cut_is_said_to_be() -> None:
    with pytest.raises(WireError, match="cut"):
        count_records(b"\x0a\x05ab")


def test_metrics_and_points_have_a_number() -> None:
    with pytest.raises(TooLarge, match="metrics"):
        sections(field(1, field(2, field(2, b"") * (MOST_NUMBERS + 1))))
    for kind in (5, 7, 9, 10, 11):
        metric = field(1, b"m") + field(kind, field(1, b"") * (MOST_NUMBERS + 1))
        with pytest.raises(TooLarge, match="points"):
            read_metric(metric, (0, len(metric)))


def test_buckets_count_as_the_numbers_they_are() -> None:
    request = ExportMetricsServiceRequest()
    metric = request.resource_metrics.add().scope_metrics.add().metrics.add(name="h")
    for _ in range(1200):
        point = metric.histogram.data_points.add(count=1, time_unix_nano=1)
        point.explicit_bounds.extend(range(199))
        point.bucket_counts.extend([0] * 200)
    body = request.SerializeToString()
    with pytest.raises(TooLarge, match="numbers"):
        read_metric(body, sections(body)[0].metric)
