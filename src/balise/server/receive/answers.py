"""What OTLP/HTTP answers: an Export…ServiceResponse."""

from __future__ import annotations

from google.protobuf.json_format import MessageToJson
from google.protobuf.message import Message
from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import (
    ExportLogsPartialSuccess,
    ExportLogsServiceResponse,
)
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import (
    ExportMetricsPartialSuccess,
    ExportMetricsServiceResponse,
)

from balise.server.receive.bodies import Outcome


def answer_body(outcome: Outcome, as_json: bool, noun: str) -> bytes:
    """Empty, or with `partial_success`, which may also be a warning about what was taken."""
    if not outcome.rejected and not outcome.why:
        return b"{}" if as_json else b""
    answer: Message
    if noun == "points":
        points = ExportMetricsPartialSuccess(rejected_data_points=outcome.rejected, error_message=outcome.why)
        answer = ExportMetricsServiceResponse(partial_success=points)
    else:
        records = ExportLogsPartialSuccess(rejected_log_records=outcome.rejected, error_message=outcome.why)
        answer = ExportLogsServiceResponse(partial_success=records)
    return _written(answer, as_json)


def _written(message: Message, as_json: bool) -> bytes:
    return MessageToJson(message, indent=None).encode() if as_json else message.SerializeToString()
