"""A console, by its nouns: the same words as the command line and the API."""

from __future__ import annotations

from collections.abc import Iterator
from importlib import import_module
from typing import TYPE_CHECKING, Any, Self

from pydantic import BaseModel

from balise.api.access import Me, SignIn
from balise.api.secrets import Secret
from balise.api.status import Status
from balise.client.connection import Connection
from balise.client.noun import Noun
from balise.client.trust import Trust

if TYPE_CHECKING:
    from balise.client.alerts import Alerts
    from balise.client.applications import Applications
    from balise.client.availability import Availabilities
    from balise.client.callouts import Callouts, Deliveries, Drills, Persons, Responses, Rotas
    from balise.client.channels import Channels
    from balise.client.credentials import Credentials
    from balise.client.dashboards import Dashboards
    from balise.client.data import Data
    from balise.client.enrolments import Candidates, Enrolments
    from balise.client.event_days import EventDays
    from balise.client.events import Events
    from balise.client.filters import Filters
    from balise.client.forwards import Forwards
    from balise.client.groups import Groups
    from balise.client.hosts import Hosts
    from balise.client.incidents import Incidents
    from balise.client.inventory import Inventories
    from balise.client.keeping import Keepings
    from balise.client.maintenance import Maintenances
    from balise.client.metrics import Metrics
    from balise.client.people import Keys, Tokens, Users
    from balise.client.plans import Plans
    from balise.client.probes import Probes
    from balise.client.receivers import Receivers
    from balise.client.relays import Relays
    from balise.client.rules import Rules
    from balise.client.services import Kits, Services
    from balise.client.sign_ins import SignIns
    from balise.client.sources import Sources
    from balise.client.trails import Trails
    from balise.client.views import Views

_ELSEWHERE = {
    "days": "event_days",
    "deliveries": "callouts",
    "drills": "callouts",
    "responses": "callouts",
    "persons": "callouts",
    "rotas": "callouts",
    "users": "people",
    "tokens": "people",
    "keys": "people",
    "candidates": "enrolments",
    "kits": "services",
}
"""Where the classes of nouns are that have no module of their own name."""


class Balise:
    """A console, as somebody with a token sees it.

    Every method raises `Refused` when the service says no and `Unreachable` when it does not answer.

    >>> with Balise(url, token) as balise:
    ...     [host.name for host in balise.hosts.list()]
    ['quay-a', 'quay-b']
    """

    hosts: Hosts
    groups: Groups
    filters: Filters
    views: Views
    metrics: Metrics
    events: Events
    data: Data
    days: EventDays
    sign_ins: SignIns
    receivers: Receivers
    forwards: Forwards
    sources: Sources
    rules: Rules
    alerts: Alerts
    channels: Channels
    callouts: Callouts
    deliveries: Deliveries
    incidents: Incidents
    trails: Trails
    drills: Drills
    responses: Responses
    persons: Persons
    rotas: Rotas
    maintenance: Maintenances
    users: Users
    tokens: Tokens
    keys: Keys
    enrolments: Enrolments
    candidates: Candidates
    credentials: Credentials
    relays: Relays
    services: Services
    kits: Kits
    probes: Probes
    inventory: Inventories
    applications: Applications
    plans: Plans
    keeping: Keepings
    dashboards: Dashboards
    availability: Availabilities

    def __init__(
        self, url: str, token: str | None = None, *, timeout: float = 30.0, trust: Trust | None = None
    ) -> None:
        self._connection = Connection(url, token, timeout=timeout, trust=trust)

    def __getattr__(self, name: str) -> Noun:
        """A noun, which is read when it is asked for, and with it the models it answers in."""
        kind = type(self).__annotations__.get(name)
        if kind is None:
            raise AttributeError(f"a console has no {name!r}")
        made: Noun = getattr(import_module(f"balise.client.{_ELSEWHERE.get(name, name)}"), kind)(self._connection)
        setattr(self, name, made)
        return made

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *_error: object) -> None:
        self.close()

    def close(self) -> None:
        self._connection.close()

    def status(self) -> Status:
        """What the service says of itself.

        >>> balise.status().state
        'ready'
        """
        return self._connection.get(Status, "/status")

    def me(self) -> Me:
        """Whom the token stands for.

        >>> balise.me().role
        'administrator'
        """
        return self._connection.get(Me, "/session")

    def sign_in(self, name: str, password: str) -> Me:
        """Signs in with a cookie that this client keeps.

        >>> balise.sign_in("nobody", "a guess")
        Traceback (most recent call last):
        balise.client.errors.Refused: Name or password is wrong.
        """
        return self._connection.send(Me, "POST", "/session", SignIn(name=name, password=Secret(password)))

    def sign_out(self) -> None:
        """Ends the session of the cookie.

        >>> balise.sign_out()
        """
        self._connection.call("DELETE", "/session")

    def follow(self) -> Iterator[tuple[str, Any]]:
        """State changes (`state`) and alerts (`alert`) as they happen, with the stream's heartbeats.

        >>> next(balise.follow())
        ('hello', {})
        """
        return self._connection.stream("/live")

    def call(self, method: str, path: str, body: BaseModel | dict[str, Any] | None = None, **query: Any) -> Any:
        """The JSON that any call of the API answers, as it is.

        >>> balise.call("GET", "/hosts", where='name eq "quay-a"')["items"][0]["state"]
        'critical'
        """
        return self._connection.call(method, path, body, **query)
