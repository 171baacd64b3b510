"""Where nothing is sent, whatever sends it: decided in one place, on the address that is connected to."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import Callable
from typing import Any

import pytest

from balise.api.credentials import Snmp2Credential, SshCredential
from balise.api.places import is_nobodys
from balise.api.probes import ProbeBody, ProbeTarget
from balise.api.remote import RemoteTarget
from balise.client import BaliseError
from balise.collect.kits.sources.source import SourceProblem, safe_address
from balise.collect.probes.run import make
from balise.collect.remote.trial import attempt
from balise.server.callouts.channels.channel import NotThrough, Outside
from balise.server.callouts.channels.email import Email
from balise.server.callouts.channels.places import checked_address
from balise.server.callouts.channels.sms import Sms
from balise.server.callouts.channels.snmp import Snmp
from balise.server.callouts.channels.syslog import Syslog
from balise.server.callouts.channels.webhook import Webhook
from balise.store.state.tables import Delivery
from running import Service

NOBODYS = [
    "169.254.169.254", "169.254.0.1", "0.0.0.0", "224.0.0.1", "240.0.0.1", "255.255.255.255", "100.100.100.200",
    "168.63.129.16", "192.0.0.192", "::", "fe80::1", "fe80::1%eth0", "ff02::1", "fd00:ec2::254", "fd20:ce::254",
    "::ffff:169.254.169.254", "::ffff:a9fe:a9fe", "64:ff9b::a9fe:a9fe", "2002:a9fe:a9fe::1", "::ffff:0.0.0.0",
]  # fmt: skip
SERVERS = ["127.0.0.1", "::1", "::ffff:127.0.0.1", "10.0.0.1", "192.168.1.7", "192.0.2.1", "fd12:3456::1", "2001:db8::1",
           "::ffff:192.0.2.1", "64:ff9b::c000:201", "100.64.0.1"]  # fmt: skip


@pytest.mark.parametrize("address", NOBODYS)
def test_addresses_that_nothing_is_sent_to(address: str) -> None:
    assert is_nobodys(address)


@pytest.mark.parametrize("address", SERVERS)
def test_addresses_of_servers(address: str) -> None:
    assert not is_nobodys(address)


def _remote(protocol: str, name: str) -> str:
    held: Any = SshCredential(kind="ssh", user="x", password="x")
    if protocol == "snmp":
        held = Snmp2Credential(kind="snmp", version="2c", community="public")
    target = RemoteTarget(
        host_id=1, host="h", protocol=protocol, address=name, port=161, credential=held, every=60, time_limit=2  # type: ignore[arg-type]
    )  # fmt: skip

    async def once() -> str:
        gate = asyncio.Semaphore(1)
        return (await attempt(target, gate)).message

    return asyncio.run(once())


def _said(what: Callable[[], object]) -> str:
    try:
        return str(what())
    except (NotThrough, SourceProblem) as problem:
        return str(problem)


def _channel(name: str) -> dict[str, Any]:
    return {"to": ["a@example.org"], "sender": "b@example.org", "server": name, "port": 25, "security": "none"}


OUTSIDE = Outside("http://c", lambda _delivery: "")
DELIVERY = Delivery(
    id=1, channel="c", kind="test", content={"detail": "x"}, created_at=1.8e9, state="waiting", attempts=0
)
WAYS: dict[str, Callable[[str], str]] = {
    "a kit": lambda name: _said(lambda: safe_address(name, 80)),
    "a webhook": lambda name: _said(lambda: Webhook({"url": f"http://{name}/"}, {}, OUTSIDE).send(DELIVERY, None)),
    "a channel": lambda name: _said(lambda: checked_address(name, 25)),
    "mail": lambda name: _said(lambda: Email(_channel(name), {}, OUTSIDE).send(DELIVERY, None)),
    "SMS": lambda name: _said(
        lambda: Sms(
            {"url": f"http://{name}/", "to": ["+4790000001"], "template": "x", "content_type": "text/plain"},
            {},
            OUTSIDE,
        ).send(DELIVERY, None)
    ),
    "syslog": lambda name: _said(
        lambda: Syslog({"server": name, "port": 514, "transport": "udp", "facility": 16}, {}, OUTSIDE).send(
            DELIVERY, None
        )
    ),
    "notifications": lambda name: _said(lambda: Snmp({"server": name, "port": 162}, {}, OUTSIDE).send(DELIVERY, None)),
    "mail over TLS": lambda name: _said(
        lambda: Email({**_channel(name), "security": "tls"}, {}, OUTSIDE).send(DELIVERY, None)
    ),
    "a probe": lambda name: (
        make(ProbeTarget(name="p", body=ProbeBody(kind="tcp", target=f"{name}:80", every="60s"))).message
    ),
    "SSH": lambda name: _remote("ssh", name),
    "SNMP": lambda name: _remote("snmp", name),
}


@pytest.mark.parametrize("way", WAYS)
@pytest.mark.parametrize("address", ["169.254.169.254", "100.100.100.200"])
def test_a_name_that_leads_there_is_not_followed(way: str, address: str, monkeypatch: pytest.MonkeyPatch) -> None:
    """The name is as good as any; what it resolves to is looked at."""

    def resolve(_host: object, port: object, *_more: object, **_named: object) -> list[Any]:
        return [(socket.AF_INET, socket.SOCK_STREAM, 6, "", (address, port))]

    def no_connection(*_words: object, **_named: object) -> object:
        raise AssertionError(f"{way} connected")

    monkeypatch.setattr(socket, "getaddrinfo", resolve)
    monkeypatch.setattr(socket, "create_connection", no_connection)
    said = WAYS[way]("quay.example")
    assert "leads to" in said, said


def test_addresses_are_refused_when_they_are_given(service: Service) -> None:
    with service.client() as admin:
        admin.call("PUT", "/credentials/c", {"kind": "ssh", "user": "x", "password": "x"})
        for address in ("169.254.169.254", "::ffff:169.254.169.254", "100.100.100.200"):
            with pytest.raises(BaliseError, match="link-local") as error:
                entry = {"name": "h", "address": address, "credential": "c"}
                admin.call("POST", "/enrolments", {"entries": [entry], "time_limit": "2s"})
            assert error.value.status == 422


def test_an_operator_has_no_socket_of_the_machine_asked(service: Service) -> None:
    with service.client("operator") as caller, pytest.raises(BaliseError, match="only an administrator"):
        caller.call("POST", "/kits/haproxy/try", {"target": {"socket": "/run/other.sock"}})
