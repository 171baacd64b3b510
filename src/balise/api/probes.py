"""Probes: active checks made over the network, whose answers are judged."""

from __future__ import annotations

from typing import Annotated, Any, Literal

from pydantic import BaseModel, ConfigDict, Field, model_validator

from balise.api.credentials import CredentialBody
from balise.api.hosts import State
from balise.api.kits import Scalar
from balise.api.spans import Duration, Name, seconds

ProbeKind = Literal[
    "http", "tcp", "tls", "dns", "smtp", "imap", "pop3", "ftp", "ldap", "ssh", "icmp", "postgresql", "mariadb", "redis"
]
PORTS: dict[str, int] = {
    "tls": 443, "dns": 53, "smtp": 25, "imap": 143, "pop3": 110, "ftp": 21, "ldap": 389, "ssh": 22,
    "postgresql": 5432, "mariadb": 3306, "redis": 6379,
}  # fmt: skip
QUERIES = ("postgresql", "mariadb", "redis")
MOST_FROM = 20
Text = Annotated[str, Field(min_length=1, max_length=500)]


class ProbeExpect(BaseModel):
    """What the answer has to be. What is not said is not looked at."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)
    status: Annotated[list[Annotated[int, Field(ge=100, le=599)]], Field(max_length=30)] | None = Field(
        default=None, description="HTTP: statuses that are good; 200 to 399 unless given"
    )
    text: Text | None = Field(default=None, description="the answer has this in it")
    not_text: Text | None = Field(default=None, description="the answer has this not in it")
    json_: Annotated[dict[Text, Scalar], Field(max_length=20)] | None = Field(
        default=None, alias="json", description="what JSONPaths (RFC 9535) find in the answer"
    )
    headers: Annotated[dict[Text, Text], Field(max_length=20)] | None = Field(
        default=None, description="headers of the answer, and what each has in it"
    )
    redirects: Annotated[int, Field(ge=0, le=10)] = Field(default=5, description="how many are followed")
    value: Scalar = Field(default=None, description="what a query answers: its first value")
    above: float | None = Field(default=None, description="the value of a query has to be above this")
    below: float | None = None
    answers: Annotated[list[Text], Field(max_length=30)] | None = Field(
        default=None, description="DNS: records that have to be in the answer"
    )
    trusted: bool = Field(default=True, description="whether the certificate has to be trusted and to fit the name")
    days_left: Annotated[float, Field(ge=0, le=3650)] = Field(
        default=14, description="a certificate that runs out sooner is a warning; one that ran out is critical"
    )


class ProbePlace(BaseModel):
    """Where a probe goes, for kinds that are not told by a URL. `name` and `type` are what a DNS server is asked."""

    model_config = ConfigDict(extra="forbid")
    address: Annotated[str, Field(min_length=1, max_length=253)]
    port: Annotated[int, Field(ge=1, le=65_535)] | None = None
    database: Annotated[str, Field(max_length=100)] | None = None
    name: Annotated[str, Field(max_length=255)] | None = None
    type: Annotated[str, Field(pattern=r"^[A-Z0-9]{1,10}$")] | None = None
    base: Annotated[str, Field(max_length=500)] | None = Field(default=None, description="LDAP: where to search")
    tls: Literal["no", "from-the-start", "starttls"] = "no"


class ProbeBody(BaseModel):
    """A probe without its name."""

    model_config = ConfigDict(extra="forbid", populate_by_name=True)
    kind: ProbeKind
    target: Annotated[str, Field(min_length=1, max_length=2000)] | ProbePlace
    about: Annotated[str, Field(max_length=200)] = ""
    host: Annotated[str, Field(max_length=100)] | None = Field(
        default=None, description="the host it is about; without one, a host named as its target"
    )
    every: Duration = "60s"
    time_limit: Duration = "10s"
    slow: Duration | None = Field(
        default=None, description="slower than this is a warning; half the limit unless given"
    )
    attempts: Annotated[int, Field(ge=1, le=5)] = 1
    from_: Annotated[list[Name], Field(max_length=MOST_FROM, alias="from")] = []
    fail_from: Annotated[int, Field(ge=1, le=MOST_FROM)] | None = Field(
        default=None, description="critical when it fails from so many places; more than half of them unless given"
    )
    credential: Name | None = None
    query: Annotated[str, Field(min_length=1, max_length=4000)] | None = None
    expect: ProbeExpect = ProbeExpect()
    enabled: bool = True

    @model_validator(mode="after")
    def _sensible(self) -> ProbeBody:
        if not 5 <= seconds(self.every) <= 86_400:
            raise ValueError("every: between 5s and 1d")
        if not 0.1 <= seconds(self.time_limit) <= 60:
            raise ValueError("time_limit: between 1s and 60s")
        if self.attempts * seconds(self.time_limit) > seconds(self.every):
            raise ValueError("attempts: so many at this time_limit take longer than every")
        if self.kind == "http" and not isinstance(self.target, str):
            raise ValueError("target: an http probe wants a URL")
        if self.query is not None and self.kind not in QUERIES:
            raise ValueError("query: only probes of postgresql, mariadb and redis have one")
        if self.fail_from is not None and self.fail_from > max(1, len(self.from_)):
            raise ValueError("fail_from: more than there are places")
        return self


class Certificate(BaseModel):
    """A certificate as a server shows it."""

    subject: str
    issuer: str
    not_after: str
    days_left: float
    names: list[str] = []


class ProbeResult(BaseModel):
    """What one round of a probe gave at one place. `phases` are seconds; `slow` names what took longest when slow."""

    at: str
    good: bool
    warning: bool = False
    seconds: float
    phases: dict[str, float] = {}
    message: Annotated[str, Field(max_length=600)]
    attempts: int = 1
    certificates: list[Certificate] = []


class ProbeAt(BaseModel):
    """The last result at one place."""

    place: str
    state: State
    last: ProbeResult | None


class Probe(ProbeBody):
    name: str
    on_host: str = Field(description="the host whose lanes show it")
    state: State
    state_since: str
    last: ProbeResult | None = Field(description="the newest result of the worst place")
    places: list[ProbeAt]
    updated_at: str
    updated_by: str


class ProbeTarget(BaseModel):
    """One probe to be made, with all that it takes. Goes to relays; never to people."""

    name: str
    body: ProbeBody
    credential: CredentialBody | None = None

    def place(self) -> dict[str, Any]:
        """The target as fields, whatever way it was written."""
        held = self.body.target
        if isinstance(held, ProbePlace):
            return held.model_dump(exclude_none=True)
        if self.body.kind == "http":
            return {"url": held}
        address, _, port = held.rpartition(":") if held.count(":") == 1 or held.startswith("[") else (held, "", "")
        found: dict[str, Any] = {"address": (address or held).strip("[]")}
        if port.isdecimal():
            found["port"] = int(port)
        return found
