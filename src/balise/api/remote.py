"""Collecting without an agent: how hosts are reached, lists of hosts to enrol, and the settings of it."""

from __future__ import annotations

from typing import Annotated, Literal, NamedTuple

from pydantic import BaseModel, ConfigDict, Field, model_validator

from balise.api.credentials import CredentialBody
from balise.api.hosts import LabelKey, LabelValue
from balise.api.metrics import FilterText
from balise.api.parsers import LinePattern, Mask, Parser
from balise.api.places import Address, Port
from balise.api.services import ServiceTarget
from balise.api.spans import Duration, Name

Protocol = Literal["ssh", "snmp"]
PORTS: dict[str, int] = {"ssh": 22, "snmp": 161}
Result = Literal[
    "added",
    "refused",
    "timed-out",
    "wrong-host-key",
    "wrong-credential",
    "no-permission",
    "already-enrolled",
    "failed",
]
MOST_ENTRIES = 5000


Encoding = Literal["utf-8", "utf-16", "utf-16-be", "latin-1", "iso-8859-15", "cp1252"]


class FollowedFile(BaseModel):
    """A text file to follow, or all that a pattern names (`*`, `?`, `[ ]`, and `**` for folders of any depth).

    It is read from its end when it is first met, unless `from_start`: then what was turned over before it is read as
    well. A record is a line; with `first_line` it begins where that matches, with `indented` lines that begin with a
    blank belong to it. How the console's `parser` reads it and what is masked holds before anything leaves the host.
    """

    model_config = ConfigDict(extra="forbid")
    path: Annotated[str, Field(min_length=2, max_length=400, pattern=r"^[^\x00-\x1f]+$")]
    from_start: bool = False
    encoding: Encoding = "utf-8"
    first_line: LinePattern | None = None
    indented: bool = False
    parser: Parser | None = None
    mask: Annotated[list[Mask], Field(max_length=20)] = []
    send: FilterText | None = Field(
        default=None, description="only lines that pass leave the host, by what stands in them and their severity"
    )

    @property
    def is_plain(self) -> bool:
        """Whether nothing but the path and where to begin is said of it."""
        return self == FollowedFile(path=self.path, from_start=self.from_start)


class FilePlace(NamedTuple):
    """Up to where a distant file was read: its inode, the offset in bytes, and a mark of what stands before that.

    The mark is how many bytes, at most 64, and the beginning of their SHA-256: by it a file that was cut and grew
    again is told from what it was, and the copy that was made of it is found.
    """

    inode: Annotated[int, Field(ge=0)]
    offset: Annotated[int, Field(ge=0)]
    mark: Annotated[str, Field(pattern=r"^([1-9][0-9]?:[0-9a-f]{16})?$")] = ""


class RemoteTarget(BaseModel):
    """One host to collect from, with all that is needed to do it. Goes to relays; never to people."""

    host_id: int
    host: str
    protocol: Literal["ssh", "snmp", "kit"]
    address: str
    port: int
    credential: CredentialBody | None
    every: float
    time_limit: float
    host_key: str = ""
    follow: list[FollowedFile] = []
    positions: dict[str, FilePlace] = Field(default={}, description="up to where each followed file was read")
    off: list[str] = Field(default=[], description="parts of the system that the plan switched off")
    inventory_every: float | None = Field(default=3600.0, description="seconds; None when it is switched off")
    refresh: int = Field(default=0, description="another number means: tell the inventory at once")
    service: ServiceTarget | None = None

    @property
    def key(self) -> tuple[int, int]:
        """What tells targets apart: the host, and the service if it is one."""
        return self.host_id, self.service.id if self.service else 0


class EnrolmentEntry(BaseModel):
    """One host to be tested and added."""

    model_config = ConfigDict(extra="forbid")
    name: Name | None = None
    address: Address
    port: Port | None = None
    mode: Literal["remote"] = "remote"
    protocol: Protocol = "ssh"
    credential: Name
    labels: dict[LabelKey, LabelValue] = {}
    group: Name | None = None
    site: Name | None = None
    host_key: Annotated[str, Field(max_length=2000)] = ""

    @property
    def reached_at(self) -> tuple[str, int]:
        return self.address, self.port or PORTS[self.protocol]


class NewEnrolment(BaseModel):
    model_config = ConfigDict(extra="forbid")
    entries: Annotated[list[EnrolmentEntry], Field(min_length=1, max_length=MOST_ENTRIES)]
    time_limit: Duration = "5s"


class StartedEnrolment(BaseModel):
    id: int
    total: int


class TestedEntry(BaseModel):
    """An entry and what became of it; `result` is null until it is tested."""

    position: int
    name: str
    address: str
    port: int
    protocol: Protocol
    credential: str
    labels: dict[str, str]
    group: str | None
    site: str | None
    result: Result | None
    message: str
    host: str | None


class Enrolment(BaseModel):
    id: int
    state: Literal["testing", "done"]
    total: int
    tested: int
    results: dict[Result, int]
    time_limit: str
    created_at: str
    created_by: str
    done_at: str | None
    entries: list[TestedEntry]


class ReadList(BaseModel):
    """A pasted list, a CSV or a range of addresses, to be read into entries before anything is tested."""

    model_config = ConfigDict(extra="forbid")
    text: Annotated[str, Field(min_length=1, max_length=400_000)]
    protocol: Protocol = "ssh"
    credential: Name | None = None
    group: Name | None = None
    site: Name | None = None


class ListProblem(BaseModel):
    """What is wrong with a line, or with several that lack the same: then `line` is the first, `text` has them all."""

    line: int
    lines: int = 1
    text: str
    problem: str


class ListAnswer(BaseModel):
    """What a list says, and the lines that could not be read. `heading` is the first line of a CSV."""

    entries: list[EnrolmentEntry]
    problems: list[ListProblem]
    heading: str = ""


class RemoteBody(BaseModel):
    """How a host is to be reached from now on. A field left out stays as it is; on a host without one, it is needed."""

    model_config = ConfigDict(extra="forbid")
    protocol: Protocol | None = None
    address: Address | None = None
    port: Port | None = None
    credential: Name | None = None
    every: Duration | None = None
    time_limit: Duration | None = None
    site: Name | None = None
    accept_host_key: bool = Field(False, description="pin the key that the host shows next, instead of the old one")


class Remote(BaseModel):
    """How a host is reached over the network."""

    protocol: Protocol
    address: str
    port: int
    credential: str
    every: str
    time_limit: str
    host_key: str = Field(description="the fingerprint of the pinned key, empty before the first contact")
    site: str | None
    owner: str


class CollectionSettings(BaseModel):
    """How remote collection works, unless a host or a plan says otherwise."""

    model_config = ConfigDict(extra="forbid")
    every: Duration = "30s"
    time_limit: Duration = "10s"
    side_by_side: Annotated[int, Field(ge=1, le=1000)] = 100

    @model_validator(mode="after")
    def _sensible(self) -> CollectionSettings:
        from balise.api.spans import seconds

        if not 5 <= seconds(self.every) <= 86_400:
            raise ValueError("every: between 5s and 1d")
        if not 1 <= seconds(self.time_limit) <= 120:
            raise ValueError("time_limit: between 1s and 120s")
        return self
