"""What relays and the console say to each other, and what people see of relays."""

from __future__ import annotations

import json
import struct
from collections.abc import Iterator, Sequence
from typing import Annotated, Any, Literal

from pydantic import BaseModel, Field

from balise.api.hosts import Facts
from balise.api.probes import ProbeResult, ProbeTarget
from balise.api.remote import FilePlace, RemoteTarget, Result
from balise.api.secrets import OfLength, Secret
from balise.api.services import ServiceTurn
from balise.api.sources import LogPath, PathTried
from balise.api.spans import Name

MOST_SENDERS = 5000
SITES_SUMS = "sums"
"""The sender of what a relay adds up itself."""
_LENGTH = struct.Struct(">I")


class RelayEnrol(BaseModel):
    key: Annotated[Secret, OfLength(0, 200)]
    name: Name
    site: Name | None = None
    facts: Facts


class RelayEnrolled(BaseModel):
    relay: str
    relay_id: int
    site: str | None
    token: str


class Sender(BaseModel):
    """Whom a token stands for: `host:12` for an agent, `token:NAME` for another sender."""

    sender: str
    name: str
    role: str


class SendersQuestion(BaseModel):
    """SHA-256 digests of tokens that were shown to a relay."""

    digests: Annotated[list[Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")]], Field(max_length=MOST_SENDERS)]


class SendersAnswer(BaseModel):
    """By digest; null for a token that the console does not know."""

    senders: dict[str, Sender | None]


class TrialRequest(BaseModel):
    """A host that a relay is to try to read once, before it is added."""

    """A host to be read once; with a path, what is at it to be looked at."""

    id: int
    target: RemoteTarget
    path: LogPath | None = None


class TrialAnswer(BaseModel):
    tried: PathTried | None = None
    result: Result
    message: Annotated[str, Field(max_length=1000)]
    facts: Facts | None = None
    host_key: Annotated[str, Field(max_length=4000)] = ""


class RemoteTurn(BaseModel):
    """How reading one host went at a relay."""

    problem: Annotated[str, Field(max_length=1000)] | None = None
    cost: float | None = None
    host_key: Annotated[str, Field(max_length=4000)] = ""
    positions: dict[str, FilePlace] = {}
    files: Annotated[list[dict[str, Any]], Field(max_length=500)] = []
    facts: Facts | None = None


class ReceiverTarget(BaseModel):
    """A receiver that a relay is to run."""

    name: Name
    transport: Literal["udp", "tcp", "tls"]
    listen: Annotated[str, Field(max_length=100)]
    client_ca: str | None = None


class ReceiverTurn(BaseModel):
    """How a receiver goes at a relay, since it began."""

    name: Name
    listening: bool
    problem: Annotated[str, Field(max_length=500)] = ""
    received: int
    dropped: int


class RelayReport(BaseModel):
    """What a relay says of itself every few seconds. Sizes in bytes, counts since its start."""

    version: str
    waiting: int
    waiting_bytes: int
    limit_bytes: int
    oldest_at: float | None = None
    dropped: int
    refused: int
    forwarded: int
    thinned: int = Field(default=0, description="points that were left out because a plan says so")
    summed: int = Field(default=0, description="numbers that came to be added up because a plan says so")
    unsummed: int = Field(default=0, description="those of them that are in no sum: too late, or not to be added")
    cpu: float
    memory: int
    remote_hosts: int
    problem: Annotated[str, Field(max_length=1000)] | None = None
    turns: dict[int, RemoteTurn] = {}
    service_turns: dict[int, ServiceTurn] = {}
    probes: Annotated[list[tuple[str, ProbeResult]], Field(max_length=500)] = []
    receivers: Annotated[list[ReceiverTurn], Field(max_length=50)] = []


class SumPlan(BaseModel):
    """What a relay adds up of the hosts of a plan: metrics by name, `*` for any characters, in steps of `every` so many
    seconds. With `only` their own points are not sent on."""

    plan: str
    metrics: list[str]
    every: float
    only: bool
    hosts: list[int]


class RelayWork(BaseModel):
    """The hosts a relay is to read now, and those it is to try once."""

    etag: str
    targets: list[RemoteTarget]
    trials: list[TrialRequest] = []
    probes: list[ProbeTarget] = []
    receivers: list[ReceiverTarget] = []
    thin: dict[int, float] = Field(
        default={}, description="by host: in how many seconds one point of each of its series is sent on"
    )
    sums: list[SumPlan] = []


class Relay(BaseModel):
    """A relay as people see it."""

    name: str
    site: str | None
    state: Literal["ok", "silent"]
    last_seen: str | None
    behind: int = Field(description="hosts whose agents deliver through it")
    remote_hosts: int
    report: dict[str, Any] | None


class Frame(BaseModel):
    """The head of one request that a relay took: who sent it, what it is, when it came (unix nanoseconds).

    `behind` is by how many seconds the sender's clock is behind the relay's, if the sender says when it sends.
    """

    sender: str
    kind: Literal["metrics", "logs", "syslog"]
    delivery: str
    at: int
    json_body: bool = False
    behind: float | None = None


class BundleError(ValueError):
    """A bundle of frames that cannot be read."""


def pack(frame: Frame, body: bytes) -> bytes:
    """One frame: length and JSON of its head, length and content of its body; lengths as 4 bytes, big-endian."""
    head = frame.model_dump_json(exclude_defaults=True).encode()
    return _LENGTH.pack(len(head)) + head + _LENGTH.pack(len(body)) + body


def unpack(bundle: bytes, most: int = 10_000) -> Iterator[tuple[Frame, bytes]]:
    """The frames of a bundle.

    Raises:
        BundleError: a length points beyond the end, a head cannot be read, or there are too many.
    """
    at = 0
    for _ in range(most + 1):
        if at == len(bundle):
            return
        head, at = _part(bundle, at)
        body, at = _part(bundle, at)
        try:
            frame = Frame.model_validate(json.loads(head))
        except ValueError as error:
            raise BundleError(f"a frame's head cannot be read: {str(error)[:200]}") from None
        yield frame, body
    raise BundleError(f"more than {most} frames")


def _part(bundle: bytes, at: int) -> tuple[bytes, int]:
    start = at + _LENGTH.size
    if start > len(bundle):
        raise BundleError("the bundle is cut")
    end = start + _LENGTH.unpack_from(bundle, at)[0]
    if end > len(bundle):
        raise BundleError("the bundle is cut")
    return bundle[start:end], end


def pack_messages(address: str, messages: Sequence[bytes]) -> bytes:
    """What one address said to a receiver: the address and each message, with their lengths before them."""
    return b"".join(_LENGTH.pack(len(part)) + part for part in (address.encode(), *messages))


def unpack_messages(body: bytes) -> tuple[str, list[bytes]]:
    """The address, and the messages. Raises BundleError."""
    parts: list[bytes] = []
    at = 0
    while at < len(body):
        part, at = _part(body, at)
        parts.append(part)
    if not parts:
        raise BundleError("a frame of syslog says nothing")
    return parts[0].decode("utf-8", "replace")[:100], parts[1:]


class FrameStatus(BaseModel):
    """What became of a frame: 200 kept, 503 not now, everything else not wanted."""

    status: int
    why: str = ""


class BundleAnswer(BaseModel):
    frames: list[FrameStatus]
