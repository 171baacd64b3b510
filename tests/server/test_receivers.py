"""Syslog taken in by the real service, from rsyslog and logger; who is no host waits as a candidate."""

from __future__ import annotations

import contextlib
import socket
import ssl
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path

import pytest
import trustme

from balise.api.access import NewEnrolmentKey
from balise.api.events import Event, EventQuery
from balise.api.receivers import ReceiverBody
from balise.client import Balise, Refused
from real import Daemon
from relaying import RelayProcess
from running import Service, free_port, until


@pytest.fixture(scope="module")
def console(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Service]:
    made = Service(tmp_path_factory.mktemp("console"))
    yield made
    made.stop()
    assert "Traceback" not in made.log(), made.log()


@pytest.fixture(scope="module")
def admin(console: Service) -> Iterator[Balise]:
    with console.client() as client:
        yield client


def listening(admin: Balise, name: str, transport: str, **more: object) -> int:
    port = free_port()
    made = admin.receivers.set(
        name,
        ReceiverBody.model_validate({"transport": transport, "listen": f"127.0.0.1:{port}", **more}),
    )
    assert (made.state, made.listening) == ("listening", True)
    return port


def found(admin: Balise, where: str, count: int) -> list[Event]:
    query = EventQuery(where=where, from_="-1h", limit=1000)
    return until(lambda: (items := admin.events.search(query).items) and len(items) >= count and items)


def said(host: str, body: str, app: str = "ferry") -> bytes:
    moment = time.strftime("%Y-%m-%dT%H:%M:%SZ", time.gmtime())
    return f"<13>1 {moment} {host} {app} - - - {body}".encode()


def test_logger_is_heard_over_udp_and_tcp_in_both_forms(admin: Balise) -> None:
    udp, tcp = listening(admin, "udp", "udp"), listening(admin, "tcp", "tcp")
    plain = ("logger", "-n", "127.0.0.1", "-P")
    structured = ("--rfc5424=notq", "--msgid", "M1", "--sd-id", "kit@32473", "--sd-param", 'k="v"')
    for words in (
        (*plain, str(udp), "-d", *structured, "-p", "daemon.err", "-t", "lg", "over udp"),
        (*plain, str(udp), "-d", "--rfc3164", "-p", "user.info", "-t", "lg[7]", "old form"),
        (*plain, str(tcp), "-T", "--octet-count", *structured, "-p", "daemon.err", "-t", "lg", "counted"),
        (*plain, str(tcp), "-T", *structured, "-p", "local0.warning", "-t", "lg", "by lines"),
    ):
        subprocess.run(words, check=True)
    events = {event.body: event for event in found(admin, 'source eq "lg"', 4)}
    assert {body: event.severity for body, event in events.items()} == {
        "over udp": "error", "old form": "informational", "counted": "error", "by lines": "warning",
    }  # fmt: skip
    assert events["counted"].attributes["kit@32473.k"] == "v"
    assert events["old form"].attributes["balise.time.guessed"] == "year and zone"
    assert {event.attributes["network.peer.address"] for event in events.values()} == {"127.0.0.1"}


class Rsyslog(Daemon):
    """rsyslogd that sends what it is told on its socket to three places: UDP, TCP with counted octets, and TLS."""

    def __init__(self, ports: dict[str, int], authority: Path, certificate: trustme.LeafCert) -> None:
        super().__init__()
        certificate.private_key_pem.write_to_path(self.folder / "client.key")
        certificate.cert_chain_pems[0].write_to_path(self.folder / "client.pem")
        self.socket = self.folder / "log.sock"
        form = "<%PRI%>1 %TIMESTAMP:::date-rfc3339% %HOSTNAME% %APP-NAME% %PROCID% %MSGID% %STRUCTURED-DATA%"
        to = 'action(type="omfwd" target="127.0.0.1" template="kit5424" '
        counted = 'protocol="tcp" TCP_Framing="octet-counted" action.resumeRetryCount="-1" '
        tls = 'StreamDriver="gtls" StreamDriverMode="1" StreamDriverAuthMode="x509/name" StreamDriverPermittedPeers="localhost"'
        (self.folder / "rsyslog.conf").write_text(
            f'global(workDirectory="{self.folder}" defaultNetstreamDriverCAFile="{authority}" '
            f'defaultNetstreamDriverCertFile="{self.folder}/client.pem" '
            f'defaultNetstreamDriverKeyFile="{self.folder}/client.key")\n'
            f'template(name="kit5424" type="string" string="{form}%msg:::sp-if-no-1st-sp%%msg:::drop-last-lf%")\n'
            'module(load="imuxsock" SysSock.Use="off")\n'
            f'input(type="imuxsock" Socket="{self.socket}" UseSysTimeStamp="off" ParseHostname="off")\n'
            f'{to}port="{ports["udp"]}" protocol="udp")\n'
            f'{to}port="{ports["tcp"]}" {counted})\n'
            f'{to}port="{ports["tls"]}" {counted}{tls})\n'
        )
        self.start("rsyslogd", "-n", "-f", str(self.folder / "rsyslog.conf"), "-i", str(self.folder / "pid"))
        self.ready(self.socket.exists)


def test_rsyslog_is_heard_over_udp_tcp_and_tls_with_a_certificate_of_its_own(console: Service, admin: Balise) -> None:
    clients = trustme.CA()
    trusted = clients.cert_pem.bytes().decode()
    ports = {"udp": listening(admin, "r-udp", "udp"), "tcp": listening(admin, "r-tcp", "tcp")}
    ports["tls"] = listening(admin, "r-tls", "tls", client_ca=trusted)
    authority = console.data / "tls" / "authority.pem"
    daemon = Rsyslog(ports, authority, clients.issue_cert("quay-relay"))
    try:
        for number in range(100):
            subprocess.run(
                ("logger", "-u", daemon.socket, "-p", "local0.warning", "-t", "myapp", f"hello ünï {number}"),
                check=True,
            )
        events = found(admin, 'source eq "myapp"', 300)
        assert sorted(e.body for e in events) == sorted(f"hello ünï {n}" for n in range(100) for _ in range(3))
        assert {e.severity for e in events} == {"warning"}
    finally:
        daemon.stop()
    # Whoever has no certificate of these is not listened to.
    context = ssl.create_default_context(cafile=str(authority))
    for chain in (None, trustme.CA().issue_cert("stranger")):
        if chain is not None:
            chain.configure_cert(context)
        with (
            contextlib.suppress(OSError),
            socket.create_connection(("127.0.0.1", ports["tls"])) as raw,
            context.wrap_socket(raw, server_hostname="localhost") as link,
        ):
            link.sendall(said("stranger", "let me in") + b"\n")
            while link.recv(1):
                pass
    assert not admin.events.search(EventQuery(text="let me in")).items


def test_who_is_no_host_waits_and_becomes_one_or_is_refused(admin: Balise) -> None:
    port = listening(admin, "pier", "udp")
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as sender:
        for host in ("pier-1", "pier-2", "-"):
            for number in range(3):
                sender.sendto(said(host, f"ramp {number}", "pier"), ("127.0.0.1", port))
        found(admin, 'source eq "pier"', 9)
        waiting = {c.name: c for c in admin.candidates.list() if c.kind == "sender"}
        assert (waiting["pier-1"].events, waiting["pier-1"].named_by) == (3, "name")
        assert waiting["127.0.0.1"].named_by == "address"
        assert admin.candidates.approve(waiting["pier-1"].id, kind="sender") == "pier-1 is let in"
        assert admin.hosts.show("pier-1").collection.mode == "received"
        assert len(found(admin, 'host eq "pier-1"', 3)) == 3
        assert "is refused" in admin.candidates.refuse(waiting["pier-2"].id, kind="sender")
        for host in ("pier-1", "pier-2", "pier-1.skerry.example"):
            sender.sendto(said(host, "after", "pier"), ("127.0.0.1", port))
        # A name with its domain is the host of the name.
        assert len(found(admin, 'host eq "pier-1" and body eq "after"', 2)) == 2
        assert not admin.events.search(EventQuery(where='host eq "pier-2" and body eq "after"')).items
        assert [c.refused for c in admin.candidates.list() if c.name == "pier-2"] == [True]
    sources = {s.name: s for s in admin.sources.list(host="pier-1")}
    assert (sources["pier"].kind, sources["pier"].state, sources["pier"].lines) == ("receiver", "following", 5)
    assert [s.dropped for s in admin.sources.list(host="pier-2")] == [1]


def test_a_port_in_use_is_said_and_what_was_there_goes_on(admin: Balise) -> None:
    port = listening(admin, "berth", "tcp")
    with socket.create_server(("127.0.0.1", 0)) as other:
        taken = other.getsockname()[1]
        with pytest.raises(Refused, match=f"Port {taken} .TCP. of 127.0.0.1 is in use"):
            admin.receivers.set("berth", ReceiverBody(transport="tcp", listen=f"127.0.0.1:{taken}"))
    assert admin.receivers.get("berth").listen == f"127.0.0.1:{port}"
    with socket.create_connection(("127.0.0.1", port)) as link:
        link.sendall(said("berth-1", "still here", "berth") + b"\n")
    found(admin, 'source eq "berth"', 1)
    for body in ({"listen": "192.0.2.77:5514"}, {"listen": "127.0.0.1:99999"}, {"zone": "Nowhere/At_all"}):
        with pytest.raises(Refused) as error:
            admin.call("PUT", "/receivers/x", {"transport": "udp", "listen": f"127.0.0.1:{free_port()}", **body})
        assert error.value.status == 422
    assert admin.receivers.delete("berth") == "receiver berth deleted; what it took in stays"
    with pytest.raises(OSError):
        socket.create_connection(("127.0.0.1", port)).close()


def test_what_was_acknowledged_by_a_kill_is_there_and_it_listens_again(own_service: Service) -> None:
    with own_service.client() as admin:
        port = listening(admin, "quay", "tcp")
        with socket.create_connection(("127.0.0.1", port)) as link:
            link.sendall(b"".join(said("quay-1", f"n {n}") + b"\n" for n in range(2000)))
        until(lambda: admin.receivers.get("quay").received == 2000)
        own_service.stop(9)
        own_service.start()
        until(lambda: admin.receivers.get("quay").listening)
        query = EventQuery(where='host eq "quay-1"', from_="-1h", limit=1000)
        first = admin.events.search(query)
        second = admin.events.search(query.model_copy(update={"cursor": first.next}))
        assert {e.body for e in [*first.items, *second.items]} == {f"n {n}" for n in range(2000)}
        assert [c.name for c in admin.candidates.list()] == ["quay-1"]
        with socket.create_connection(("127.0.0.1", port)) as link:
            link.sendall(said("quay-1", "again") + b"\n")
        found(admin, 'body eq "again"', 1)


def test_a_relay_takes_syslog_in_and_keeps_it_while_the_console_is_away(own_service: Service, tmp_path: Path) -> None:
    with own_service.client() as admin:
        key = admin.keys.create(NewEnrolmentKey(label="r", site="northquay")).key
        relay = RelayProcess(own_service, tmp_path / "relay", key)
        try:
            port = free_port()
            body = ReceiverBody(transport="tcp", listen=f"127.0.0.1:{port}", at="relay-1")
            assert admin.receivers.set("quay", body).state == "waiting"
            until(lambda: admin.receivers.get("quay").listening, 30)
            with socket.create_connection(("127.0.0.1", port)) as link:
                link.sendall(said("pier-7", "through the relay", "pier") + b"\n")
                event = found(admin, 'host eq "pier-7"', 1)[0]
                assert event.attributes["network.peer.address"] == "127.0.0.1"
                own_service.stop(9)
                link.sendall(b"".join(said("pier-7", f"while it is away {n}", "pier") + b"\n" for n in range(50)))
                time.sleep(1)
            relay.kill()
            relay.start()
            own_service.start()
            bodies = [e.body for e in found(admin, 'body co "while it is away"', 50)]
            assert sorted(bodies) == sorted(f"while it is away {n}" for n in range(50))
            assert [c.name for c in admin.candidates.list()] == ["pier-7"]
            admin.receivers.delete("quay")
            until(lambda: not _answers(port), 20)
            with pytest.raises(Refused, match="there is no relay"):
                admin.receivers.set("x", body.model_copy(update={"at": "nowhere"}))
        finally:
            relay.stop()


def test_a_relay_takes_syslog_in_over_tls_with_its_own_certificate(own_service: Service, tmp_path: Path) -> None:
    authority, clients = trustme.CA(), trustme.CA()
    own, pen = authority.issue_cert("127.0.0.1"), tmp_path / "own.pem"
    own.private_key_and_cert_chain_pem.write_to_path(pen)
    with own_service.client() as admin:
        key = admin.keys.create(NewEnrolmentKey(label="r", site="northquay", uses=2)).key
        plain = RelayProcess(own_service, tmp_path, key, name="relay-1")
        relay = RelayProcess(own_service, tmp_path, key, name="relay-2", tls=("--certificate", str(pen)))
        try:
            trusted = clients.cert_pem.bytes().decode()
            port = free_port()
            body = ReceiverBody(transport="tls", listen=f"127.0.0.1:{port}", at="relay-2", client_ca=trusted)
            admin.receivers.set("quay", body)
            admin.receivers.set("bare", body.model_copy(update={"at": "relay-1", "listen": f"127.0.0.1:{free_port()}"}))
            until(lambda: admin.receivers.get("quay").listening, 30)
            until(lambda: "has no certificate" in admin.receivers.get("bare").message, 30)
            context = ssl.create_default_context()
            authority.configure_trust(context)
            clients.issue_cert("quay-switch").configure_cert(context)
            with (
                socket.create_connection(("127.0.0.1", port)) as raw,
                context.wrap_socket(raw, server_hostname="127.0.0.1") as link,
            ):
                line = said("pier-8", "in private", "pier")
                link.sendall(f"{len(line)} ".encode() + line)
                assert found(admin, 'host eq "pier-8"', 1)[0].body == "in private"
            with pytest.raises(Refused, match="no certificate that can be read"):
                admin.receivers.set("quay", body.model_copy(update={"client_ca": "none"}))
        finally:
            relay.stop()
            plain.stop()


def _answers(port: int) -> bool:
    try:
        socket.create_connection(("127.0.0.1", port)).close()
    except OSError:
        return False
    return True
