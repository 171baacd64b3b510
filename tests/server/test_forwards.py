"""Events sent on: each at least once, in spite of kills and of an other side that comes and goes."""

from __future__ import annotations

import gzip
import socket
import socketserver
import threading
import time
from collections.abc import Callable
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

import pytest
from opentelemetry.proto.collector.logs.v1.logs_service_pb2 import ExportLogsServiceRequest

from balise.api.credentials import LoginCredential
from balise.api.events import EventQuery
from balise.api.forwards import ForwardBody, OtlpDestination, SyslogDestination
from balise.api.receivers import ReceiverBody
from balise.api.secrets import Secret
from balise.client import Balise, Refused
from running import Service, free_port, until
from sending import log_request, post


class Sink:
    """Another system that takes syslog over TCP, by lines; it may be closed, and come again at the same place."""

    def __init__(self, port: int) -> None:
        self.lines: list[str] = []
        self._links: list[socket.socket] = []
        lines, links = self.lines, self._links

        class Handler(socketserver.StreamRequestHandler):
            def handle(self) -> None:
                links.append(self.connection)
                for line in self.rfile:
                    lines.append(line.decode().rstrip("\n"))

        socketserver.ThreadingTCPServer.allow_reuse_address = True
        self._server = socketserver.ThreadingTCPServer(("127.0.0.1", port), Handler)
        self._server.daemon_threads = True
        threading.Thread(target=self._server.serve_forever, daemon=True).start()

    def close(self) -> None:
        self._server.shutdown()
        self._server.server_close()
        for link in self._links:
            link.shutdown(socket.SHUT_RDWR)


def say(service: Service, *bodies: str, host: str = "pier-1", at: float | None = None) -> None:
    lines = [((at or time.time()), 17, body) for body in bodies]
    assert (
        post(service.url, service.tokens["ingest"], "logs", log_request(host, lines).SerializeToString()).status_code
        == 200
    )


def to_tcp(port: int) -> SyslogDestination:
    return SyslogDestination(protocol="syslog", transport="tcp", address=f"127.0.0.1:{port}")


def bodies(lines: list[str]) -> set[str]:
    return {line.rpartition("] ")[2].rpartition(" - ")[2] for line in lines}


def test_everything_that_passes_arrives_whatever_happens_between(own_service: Service) -> None:
    port = free_port()
    with own_service.client() as admin:
        say(own_service, "before there was a forward")
        admin.forwards.set("office", ForwardBody(where='body co "wanted"', to=to_tcp(port)))
        say(own_service, *[f"wanted {n}" for n in range(600)], *[f"other {n}" for n in range(300)])
        until(lambda: admin.forwards.get("office").state == "failing")
        assert "127.0.0.1" in str(admin.forwards.get("office").problem)
        own_service.stop(9)
        own_service.start()
        sink = Sink(port)
        until(lambda: len(bodies(sink.lines)) >= 600, 40)
        # Late events and those of other days come too, and nothing that was there before.
        say(own_service, "wanted late", at=time.time() - 3600)
        say(own_service, "wanted of yesterday", at=time.time() - 86_400)
        until(lambda: {"wanted late", "wanted of yesterday"} <= bodies(sink.lines))
        sink.close()
        say(own_service, "wanted while it was away")
        again = Sink(port)
        until(lambda: "wanted while it was away" in bodies(again.lines), 40)
        everything = bodies(sink.lines) | bodies(again.lines)
        assert everything >= {f"wanted {n}" for n in range(600)}
        assert not [body for body in everything if "wanted" not in body]
        assert until(lambda: admin.forwards.get("office").waiting == 0)
        assert admin.forwards.get("office").problem is None
        again.close()


class Otlp:
    """Another system that takes OTLP over HTTP, and answers as it is told."""

    def __init__(self) -> None:
        self.answer: Callable[[], int] = lambda: 200
        self.bodies: list[str] = []
        self.authorization = ""
        me = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                content = self.rfile.read(int(self.headers["Content-Length"]))
                status = me.answer()
                if status == 200:
                    request = ExportLogsServiceRequest.FromString(gzip.decompress(content))
                    for resource in request.resource_logs:
                        host = next(a.value.string_value for a in resource.resource.attributes if a.key == "host.name")
                        for record in resource.scope_logs[0].log_records:
                            me.bodies.append(f"{host}: {record.body.string_value}")
                me.authorization = self.headers.get("Authorization", "")
                self.send_response(status)
                self.end_headers()

            def log_message(self, *_: object) -> None:
                pass

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.url = f"http://127.0.0.1:{self._server.server_port}/v1/logs"
        threading.Thread(target=self._server.serve_forever, daemon=True).start()

    def close(self) -> None:
        self._server.shutdown()
        self._server.server_close()


def test_otlp_is_sent_again_after_a_refusal_for_now_and_left_out_after_one_for_good(own_service: Service) -> None:
    other = Otlp()
    answers = iter([503, 429, 200])
    other.answer = lambda: next(answers, 200)
    with own_service.client() as admin:
        admin.forwards.set("otlp", ForwardBody(to=OtlpDestination(protocol="otlp", url=other.url)))
        say(own_service, "ramp stuck", host="pier-7")
        until(lambda: "pier-7: ramp stuck" in other.bodies, 30)
        other.answer = lambda: 400
        say(own_service, "nobody takes this")
        until(lambda: "refused and left out" in str(admin.forwards.get("otlp").problem))
        other.answer = lambda: 200
        say(own_service, "and this again")
        until(lambda: "pier-1: and this again" in other.bodies)
        assert "pier-1: nobody takes this" not in other.bodies
    other.close()


def test_a_secret_goes_over_https_alone_and_only_where_its_owner_may_send_it(admin: Balise) -> None:
    admin.credentials.set("office", LoginCredential(kind="login", user="u", password=Secret("p")))
    with pytest.raises(Refused, match="only sent over https"):
        to = {"protocol": "otlp", "url": "http://127.0.0.1:9/v1/logs", "credential": "office"}
        admin.call("PUT", "/forwards/x", {"to": to})
    admin.credentials.set("quays", LoginCredential(kind="login", user="u", password=Secret("p"), groups=["Quays"]))
    with pytest.raises(Refused, match="is for hosts of Quays"):
        to = {"protocol": "otlp", "url": "https://127.0.0.1:9/v1/logs", "credential": "quays"}
        admin.call("PUT", "/forwards/x", {"to": to})
    admin.forwards.set(
        "x", ForwardBody(to=OtlpDestination(protocol="otlp", url="https://127.0.0.1:9/v1/logs", credential="office"))
    )
    with pytest.raises(Refused, match="the forward x"):
        admin.credentials.delete("office")
    admin.forwards.delete("x")
    for name in ("office", "quays"):
        admin.credentials.delete(name)
    for to in (
        {"protocol": "syslog", "transport": "tcp", "address": "no port"},
        {"protocol": "otlp", "url": "file:///etc/passwd"},
    ):
        with pytest.raises(Refused) as error:
            admin.call("PUT", "/forwards/x", {"to": to})
        assert error.value.status == 422


def test_one_console_sends_on_to_another_over_tls(own_service: Service, service: Service, admin: Balise) -> None:
    port = free_port()
    admin.receivers.set("office", ReceiverBody(transport="tls", listen=f"127.0.0.1:{port}"))
    authority = (service.data / "tls" / "authority.pem").read_text()
    with own_service.client() as sending:
        to = SyslogDestination(protocol="syslog", transport="tls", address=f"127.0.0.1:{port}", ca=authority)
        sending.forwards.set("head", ForwardBody(to=to))
        say(own_service, "two\nlines of it", *[f"far {n}" for n in range(50)], host="far-pier")
        query = EventQuery(where='host eq "far-pier"', limit=200)
        items = until(lambda: (found := admin.events.search(query).items) and len(found) == 51 and found)
        assert {item.severity for item in items} == {"error"}
        assert "two#012lines of it" in {item.body for item in items}
        untrusted = SyslogDestination(protocol="syslog", transport="tls", address=f"127.0.0.1:{port}")
        sending.forwards.set("head", ForwardBody(to=untrusted))
        say(own_service, "for nobody", host="far-pier")
        until(lambda: "certificate" in str(sending.forwards.get("head").problem).lower())
    admin.receivers.delete("office")
