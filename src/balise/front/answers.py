"""What OTLP/HTTP answers of an error."""

from __future__ import annotations

from google.protobuf.json_format import MessageToJson
from google.rpc.code_pb2 import INVALID_ARGUMENT
from google.rpc.status_pb2 import Status

UNKNOWN = "the token is not known or has expired"


def status_body(why: str, as_json: bool) -> bytes:
    """A google.rpc.Status, as OTLP/HTTP asks of an error's body."""
    status = Status(code=INVALID_ARGUMENT, message=why)
    return MessageToJson(status, indent=None).encode() if as_json else status.SerializeToString()
