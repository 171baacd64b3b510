"""A console, by its nouns: the same words as the command line and the API."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, Self

from pydantic import BaseModel

from balise.api.access import Me, SignIn
from balise.api.secrets import Secret
from balise.api.status import Status
from balise.client.alerts import Alerts
from balise.client.applications import Applications
from balise.client.availability import Availabilities
from balise.client.callouts import Callouts, Deliveries, Drills, Persons, Responses, Rotas
from balise.client.channels import Channels
from balise.client.connection import Connection
from balise.client.credentials import Credentials
from balise.client.dashboards import Dashboards
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
from balise.client.trust import Trust
from balise.client.views import Views


class Balise:
    """A console, as somebody with a token sees it.

    Every method raises `Refused` when the service says no and `Unreachable` when it does not answer.

    >>> with Balise(url, token) as balise:
    ...     [host.name for host in balise.hosts.list()]
    ['quay-a', 'quay-b']
    """

    def __init__(
        self, url: str, token: str | None = None, *, timeout: float = 30.0, trust: Trust | None = None
    ) -> None:
        self._connection = Connection(url, token, timeout=timeout, trust=trust)
        self.hosts = Hosts(self._connection)
        self.groups = Groups(self._connection)
        self.filters = Filters(self._connection)
        self.views = Views(self._connection)
        self.metrics = Metrics(self._connection)
        self.events = Events(self._connection)
        self.days = EventDays(self._connection)
        self.sign_ins = SignIns(self._connection)
        self.receivers = Receivers(self._connection)
        self.forwards = Forwards(self._connection)
        self.sources = Sources(self._connection)
        self.rules = Rules(self._connection)
        self.alerts = Alerts(self._connection)
        self.channels = Channels(self._connection)
        self.callouts = Callouts(self._connection)
        self.deliveries = Deliveries(self._connection)
        self.incidents = Incidents(self._connection)
        self.trails = Trails(self._connection)
        self.drills = Drills(self._connection)
        self.responses = Responses(self._connection)
        self.persons = Persons(self._connection)
        self.rotas = Rotas(self._connection)
        self.maintenance = Maintenances(self._connection)
        self.users = Users(self._connection)
        self.tokens = Tokens(self._connection)
        self.keys = Keys(self._connection)
        self.enrolments = Enrolments(self._connection)
        self.candidates = Candidates(self._connection)
        self.credentials = Credentials(self._connection)
        self.relays = Relays(self._connection)
        self.services = Services(self._connection)
        self.kits = Kits(self._connection)
        self.probes = Probes(self._connection)
        self.inventory = Inventories(self._connection)
        self.applications = Applications(self._connection)
        self.plans = Plans(self._connection)
        self.keeping = Keepings(self._connection)
        self.dashboards = Dashboards(self._connection)
        self.availability = Availabilities(self._connection)

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
