"""The client library: every method has an example, and every example is true of a real service."""

from __future__ import annotations

import doctest
import importlib
import inspect
import pkgutil
import socket
import time
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

import balise.client
from balise.api.access import NewEnrolmentKey, NewToken, NewUser
from balise.api.agents import EnrolRequest
from balise.api.applications import ApplicationBody
from balise.api.availability import AvailabilityTarget
from balise.api.callouts import CalloutBody, WhoAsked
from balise.api.channels import Preview, WebhookChannel
from balise.api.credentials import SshCredential
from balise.api.dashboards import DashboardBody
from balise.api.data import ExportBody
from balise.api.events import EventQuery, ExportQuery, FieldsQuery, HistogramQuery, PatternQuery
from balise.api.filters import FilterBody
from balise.api.foresight import BaselineQuery, ForecastQuery
from balise.api.forwards import ForwardBody, SyslogDestination
from balise.api.hosts import Facts, GroupBody, HostChange, HostsChange, ViewBody
from balise.api.incidents import Together
from balise.api.keeping import EventKeep, RetentionBody
from balise.api.kits import KitTrial
from balise.api.limits import Limits
from balise.api.maintenance import MaintenanceBody
from balise.api.metrics import MetricQuery
from balise.api.moved import MovedQuery
from balise.api.parsers import ParserQuestion
from balise.api.persons import PersonBody
from balise.api.probes import ProbeBody
from balise.api.receivers import ReceiverBody
from balise.api.relays import RelayEnrol
from balise.api.remote import EnrolmentEntry, NewEnrolment, RemoteBody
from balise.api.responses import ResponseBody
from balise.api.rotas import RotaBody
from balise.api.rules import Rehearse, Restore, RuleBody, RuleDocument, Suggest
from balise.api.secrets import Secret
from balise.api.services import ServiceBody
from balise.api.table import HostTableQuery
from balise.api.trail import TrailQuery
from balise.api.tuning import Tune
from balise.client import Balise
from balise.client.client import Balise as Whole
from balise.client.noun import Noun
from running import Service, free_port, until
from sending import log_request, post, send_gauge

NOUNS = [importlib.import_module(f"balise.client.{m.name}") for m in pkgutil.iter_modules(balise.client.__path__)]
FLAGS = doctest.ELLIPSIS | doctest.IGNORE_EXCEPTION_DETAIL


def classes() -> Iterator[type]:
    for module in NOUNS:
        for _, found in inspect.getmembers(module, inspect.isclass):
            if found.__module__ == module.__name__ and (issubclass(found, Noun) or found is Whole):
                yield found


@pytest.mark.parametrize("kind", list(classes()), ids=lambda kind: kind.__name__)
def test_every_method_has_an_example(kind: type) -> None:
    methods = {n: m for n, m in inspect.getmembers(kind, inspect.isfunction) if not n.startswith("_")}
    without = [name for name, method in methods.items() if name != "close" and ">>>" not in (method.__doc__ or "")]
    assert without == []


@pytest.fixture
def world(own_service: Service) -> Iterator[dict[str, Any]]:
    """A service with two hosts, one of them with an alert, a log line, two machines that wait, a relay and the like."""
    url, tokens = own_service.url, own_service.tokens
    for host, height in (("quay-a", 4.2), ("quay-b", 1.0)):
        send_gauge(url, tokens["ingest"], host, "tide", height)
    said = log_request("quay-a", [(time.time(), 17, "the rope parted")])
    post(url, tokens["ingest"], "logs", said.SerializeToString())
    listener = socket.create_server(("127.0.0.1", 0))
    with own_service.client() as admin:
        key = admin.keys.create(NewEnrolmentKey(label="by hand", uses=2, approval="manual"))
        for name in ("mole-1", "mole-2"):
            facts = Facts(host_name=name, machine_id=name)
            admin.call("POST", "/agents/enrol", EnrolRequest(key=Secret(key.key), facts=facts))
        other = admin.keys.create(NewEnrolmentKey(label="for a relay"))
        facts = Facts(host_name="relay-n", machine_id="relay-n")
        admin.call("POST", "/relays/enrol", RelayEnrol(key=Secret(other.key), name="relay-n", facts=facts))
        admin.credentials.set("quays", SshCredential(kind="ssh", user="balise", password=Secret("s")))
        admin.channels.set("duty", WebhookChannel(kind="webhook", url="http://127.0.0.1:9/"))
        admin.hosts.change_many(HostsChange(hosts=["quay-a"], set_labels={"site": "north"}, join=["Quays"]))
        admin.rules.apply("high-water", RuleBody.model_validate(HIGH_WATER))
        until(lambda: admin.hosts.show("quay-a").state == "critical")
        yield {
            "url": url,
            "token": tokens["administrator"],
            "balise": admin,
            "port": listener.getsockname()[1],
            **{kind.__name__: kind for kind in NAMED},
        }
    listener.close()


HIGH_WATER = {
    "about": "high water",
    "measure": {"metric": "tide", "take": "last"},
    "limits": {"critical": {"above": 4}},
}
NAMED = (
    BaselineQuery,
    ForecastQuery,
    Limits,
    MovedQuery,
    TrailQuery,
    HostTableQuery,
    DashboardBody,
    ExportBody,
    AvailabilityTarget,
    Restore,
    Suggest,
    Tune,
    Balise,
    NewEnrolmentKey,
    NewToken,
    NewUser,
    ApplicationBody,
    SshCredential,
    EventQuery,
    ExportQuery,
    FilterBody,
    FieldsQuery,
    HistogramQuery,
    PatternQuery,
    EventKeep,
    RetentionBody,
    ParserQuestion,
    ReceiverBody,
    ForwardBody,
    SyslogDestination,
    free_port,
    GroupBody,
    HostChange,
    HostsChange,
    ViewBody,
    KitTrial,
    MetricQuery,
    CalloutBody,
    MaintenanceBody,
    PersonBody,
    Preview,
    ResponseBody,
    RotaBody,
    Together,
    WhoAsked,
    WebhookChannel,
    ProbeBody,
    EnrolmentEntry,
    NewEnrolment,
    RemoteBody,
    Rehearse,
    RuleBody,
    RuleDocument,
    Secret,
    ServiceBody,
)


def test_every_example_is_true(world: dict[str, Any], tmp_path: Path) -> None:
    """Examples are run one after the other; those of one class share what they name."""
    finder, runner = doctest.DocTestFinder(), doctest.DocTestRunner(optionflags=FLAGS)
    report = tmp_path / "report"
    with report.open("w") as out:
        for kind in sorted(classes(), key=lambda kind: kind is not Whole):
            names = dict(world)
            tests = finder.find(kind, kind.__name__, module=importlib.import_module(kind.__module__))
            for test in sorted((t for t in tests if t.examples), key=lambda t: t.lineno or 0):
                test.globs = dict(world) if test.name == kind.__name__ else names
                runner.run(test, out=out.write, clear_globs=False)
    assert runner.summarize(verbose=False).failed == 0, report.read_text()
