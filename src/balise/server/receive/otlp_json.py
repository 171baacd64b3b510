"""OTLP as JSON, read into the same messages as protobuf."""

from __future__ import annotations

import json
from typing import Any

from google.protobuf import json_format
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest

from balise.core.series.wire import WireError


def metrics_from_json(body: bytes) -> bytes:
    """A metrics request in protobuf. Raises WireError."""
    request = ExportMetricsServiceRequest()
    parse_json(body, request)
    return request.SerializeToString()


def parse_json(body: bytes, request: Any) -> None:
    """Fills a message of OTLP. Raises WireError."""
    try:
        content = json.loads(body)
        if not isinstance(content, dict):
            raise ValueError("an object is expected")
        json_format.ParseDict(_without_ids(content), request, ignore_unknown_fields=True, max_recursion_depth=32)
    except SystemError:
        # What the library raises where it looks such a text up as a name.
        raise WireError("the body is no OTLP JSON: a text has half of a surrogate pair") from None
    except (ValueError, TypeError, AttributeError, RecursionError, json_format.ParseError) as error:
        raise WireError(f"the body is no OTLP JSON: {str(error)[:200]}") from None


def _without_ids(content: Any, depth: int = 0) -> Any:
    """Trace and span ids are hexadecimal in OTLP JSON, where protobuf's JSON expects base64."""
    if depth > 40:
        raise WireError("the JSON is nested too deep")
    if isinstance(content, dict):
        return {
            k: _without_ids(v, depth + 1)
            for k, v in content.items()
            if k not in ("traceId", "spanId", "trace_id", "span_id")
        }
    if isinstance(content, list):
        return [_without_ids(v, depth + 1) for v in content]
    return content
