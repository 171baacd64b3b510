"""Channels against what is really there: mail and SNMP servers, an independent check of signatures, ends that fail, hang
and lie; and templates that want more than they may."""

from __future__ import annotations

import base64
import json
import socket
import subprocess
import threading
import time
from collections.abc import Iterator
from email import message_from_bytes
from email.message import EmailMessage
from email.policy import default
from glob import glob
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from importlib import resources
from pathlib import Path
from typing import Any

import pytest
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP
from standardwebhooks.webhooks import Webhook as Verifier

from balise.api.callouts import CalloutBody
from balise.api.channels import CommandChannel, EmailChannel, SmsChannel, SnmpChannel, SyslogChannel, WebhookChannel
from balise.api.secrets import Secret
from balise.client import Balise, Refused
from balise.server.callouts.channels.channel import NotThrough, Outside
from balise.server.callouts.channels.command import Command
from balise.server.callouts.channels.email import Email
from balise.server.callouts.channels.sms import Sms
from balise.server.callouts.channels.snmp import Snmp
from balise.server.callouts.channels.syslog import Syslog
from balise.server.callouts.channels.templates import BadTemplate, filled
from balise.server.callouts.channels.webhook import Webhook
from balise.store.state.tables import Delivery
from running import Receiver, Service, free_port, until
from sending import send_gauge

OUTSIDE = Outside("https://console.example", lambda delivery: f"https://console.example/act/{delivery.id}")
CONTENT: dict[str, Any] = {
    "id": 7,
    "title": "A service is down on db-1, touches Booking",
    "severity": "critical",
    "opened_at": "2026-11-23T08:46:00.000Z",
    "hurts": [{"application": "Booking", "how": "critical where its users meet it: web", "state": "critical"}],
    "hosts": ["db-1", "web-1"],
    "host_count": 2,
    "alert_count": 2,
    "open_count": 2,
    "taken_by": None,
    "why": "the callout booking is for it",
    "alerts": [],
    "advice": ["Start it."],
}


def delivery(kind: str = "opened", number: int = 1, **content: Any) -> Delivery:
    told = {**CONTENT, **content}
    return Delivery(
        id=number, incident=7, channel="c", kind=kind, content=told, state="waiting", created_at=time.time(), attempts=0
    )


class End:
    """An HTTP end that answers as it is told, and keeps what it got."""

    def __init__(self) -> None:
        self.got: list[tuple[dict[str, str], bytes]] = []
        self.status = 204
        self.answer = b""
        outer = self

        class Handler(BaseHTTPRequestHandler):
            def do_POST(self) -> None:
                body = self.rfile.read(int(self.headers.get("Content-Length", 0)))
                outer.got.append((dict(self.headers), body))
                self.send_response(outer.status)
                self.send_header("Content-Length", str(len(outer.answer)))
                self.end_headers()
                self.wfile.write(outer.answer)

            def log_message(self, *_words: object) -> None:
                pass

        self._server = ThreadingHTTPServer(("127.0.0.1", 0), Handler)
        self.url = f"http://127.0.0.1:{self._server.server_port}/hook"
        threading.Thread(target=self._server.serve_forever, daemon=True).start()

    def close(self) -> None:
        self._server.shutdown()
        self._server.server_close()


@pytest.fixture
def end() -> Iterator[End]:
    made = End()
    yield made
    made.close()


def secret(fill: str) -> str:
    return "whsec_" + base64.b64encode(fill.encode() * 32).decode()


def hook(url: str, secrets: dict[str, Any] | None = None, **settings: Any) -> Webhook:
    body = WebhookChannel(kind="webhook", url=url, **settings)
    return Webhook(body.model_dump(exclude={"kind", *Webhook.secret_names}), secrets or {}, OUTSIDE)


def test_a_webhook_is_signed_as_an_independent_reader_checks_it(end: End) -> None:
    old, new = secret("a"), secret("b")
    secrets = Webhook.kept({"signing_secret": old}, {"signing_secret": new}, time.time())
    hook(end.url, {**secrets, "headers": {"X-Ship": "skerry"}, "bearer": "b1"}).send(delivery(), None)
    headers, body = end.got[0]
    # For a day both secrets sign, so that whoever checks can change theirs in between.
    for one in (old, new):
        assert Verifier(one).verify(body, headers)["type"] == "balise.incident.opened"
    assert (headers["X-Ship"], headers["Authorization"], headers["webhook-id"]) == ("skerry", "Bearer b1", "delivery-1")
    later = Webhook.kept(secrets, {}, time.time())
    later["signed_before"] = [old, time.time() - 1]
    hook(end.url, later).send(delivery(), None)
    headers, body = end.got[1]
    with pytest.raises(Exception, match="No matching signature"):
        Verifier(old).verify(body, headers)
    assert Verifier(new).verify(body, headers)["data"]["link"] == "https://console.example/act/1"
    with pytest.raises(Exception, match="No matching signature"):
        Verifier(new).verify(body.replace(b"db-1", b"db-2"), headers)


def test_an_end_that_fails_lies_or_breaks_off_says_why(end: End) -> None:
    end.status, end.answer = 500, b"out of \x1b[31mropes\n"
    with pytest.raises(NotThrough, match="the receiver answered 500") as failed:
        hook(end.url).send(delivery(), None)
    assert failed.value.answer == "500 out of  [31mropes" and not failed.value.alone
    end.status = 422
    with pytest.raises(NotThrough) as refused:
        hook(end.url).send(delivery(), None)
    assert refused.value.alone
    end.status, end.answer = 200, b"x" * 2_000_000
    assert hook(end.url).send(delivery(), None).answer == "200 " + "x" * 500
    end.status, end.answer = 302, b""
    with pytest.raises(NotThrough, match="answered 302"):
        hook(end.url).send(delivery(), None)
    lying = socket.create_server(("127.0.0.1", 0))

    def lie() -> None:
        link, _ = lying.accept()
        link.recv(65536)
        link.sendall(b"HTTP/1.1 200 OK\r\nContent-Length: 999\r\n\r\nhalf")
        link.close()

    threading.Thread(target=lie, daemon=True).start()
    # It took it: what it says of its answer is another matter.
    assert hook(f"http://127.0.0.1:{lying.getsockname()[1]}/").send(delivery(), None).answer == "200 half"
    lying.close()


def test_a_body_of_ones_own_is_made_of_what_is_told(end: End) -> None:
    template = '{"text": {{ (severity ~ ": " ~ title) | tojson }}, "hosts": {{ hosts | length }}, "at": "{{ link }}"}'
    hook(end.url, template=template, content_type="application/x-chat").send(delivery(), None)
    headers, body = end.got[0]
    assert headers["Content-Type"] == "application/x-chat; charset=utf-8"
    assert json.loads(body) == {
        "text": "critical: A service is down on db-1, touches Booking",
        "hosts": 2,
        "at": "https://console.example/act/1",
    }
    # A test of the channel has less to tell, and makes a body all the same.
    test = Delivery(id=2, channel="c", kind="test", content={"detail": "x"}, created_at=time.time())
    hook(end.url, template=template).send(test, None)
    assert json.loads(end.got[1][1]) == {
        "text": "warning: Balise: a test of this channel",
        "hosts": 0,
        "at": "https://console.example",
    }
    with pytest.raises(NotThrough, match="the channel's template") as bad:
        hook(end.url, template="{{ hosts[9].x.y }}").send(delivery(), None)
    assert bad.value.alone


@pytest.mark.parametrize(
    ("template", "said"),
    [
        ("{{ ''.__class__.__mro__[1].__subclasses__() }}", "calls"),
        ("{{ title.__class__ }}{{ title.__class__.x }}", "unsafe|undefined"),
        ("{% for a in hosts %}{% for b in hosts %}{% for c in hosts %}{% for d in hosts %}{% endfor %}{% endfor %}{% endfor %}{% endfor %}", "3 loops"),
        ("{% set x = title ~ title %}{{ x }}", "set cannot be used"),
        ("{{ 'a' * 1000000000 }}", "numbers alone"),
        ("{{ 10 ** 10 ** 10 }}", "numbers alone"),
        ("{{ '%1000000000d' % 1 }}", "numbers alone"),
        ("{% macro m() %}{{ m() }}{% endmacro %}{{ m() }}", "cannot be used"),
        ("{% include '/etc/passwd' %}", "include cannot be used"),
        ("{{ " + "(" * 300 + "1" + ")" * 300 + " }}", "nested|^"),
        ("{{ title" + "|tojson" * 40 + " }}", "6 filters"),
        ("{{ (title ~ title ~ title ~ title)" + " | replace('e', title ~ title)" * 5 + " }}", "too much"),
        ("{{ title | center(100000000) }}", "No filter"),
        ("{{ range(10) }}", "calls|undefined"),
        ("{% for a in hosts %}", "line 1"),
        ("{{ config.x.y }}", "undefined"),
    ],
)  # fmt: skip
def test_a_template_gets_at_nothing_and_makes_little_of_little(template: str, said: str) -> None:
    began = time.monotonic()
    with pytest.raises(BadTemplate, match=said):
        made = filled(template, CONTENT)
        raise BadTemplate(f"^ made {len(made)} characters")
    assert time.monotonic() - began < 5


def test_short_messages_go_to_each_number_and_again_to_those_that_did_not_take_it(end: End) -> None:
    body = SmsChannel(kind="sms", url=end.url, to=["+4790000001", "+4790000002"])
    sms = Sms(body.model_dump(exclude={"kind", "bearer"}), {"bearer": "t"}, OUTSIDE)
    assert sms.send(delivery(), None).left == []
    told = [json.loads(body) for _, body in end.got]
    assert [one["to"] for one in told] == ["+4790000001", "+4790000002"]
    text = "critical: A service is down on db-1, touches Booking (incident 7) https://console.example/act/1"
    assert told[0]["text"] == text
    end.got.clear()
    assert sms.send(delivery(), ["+4790000002"]).left == [] and len(end.got) == 1
    end.status = 503
    with pytest.raises(NotThrough, match="503"):
        sms.send(delivery(), None)


def test_a_line_of_syslog_is_of_rfc_5424_and_nobody_can_act_by_it() -> None:
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as listener:
        listener.bind(("127.0.0.1", 0))
        listener.settimeout(5)
        body = SyslogChannel(kind="syslog", server="127.0.0.1", port=listener.getsockname()[1])
        Syslog(body.model_dump(exclude={"kind"}), {}, OUTSIDE).send(delivery(), None)
        line = listener.recv(65536).decode()
    assert line.startswith("<130>1 20") and " balise balise - opened [" in line
    assert 'incident="7"' in line and 'link="https://console.example/incidents/7"' in line and "/act/" not in line
    closed = SyslogChannel(kind="syslog", server="127.0.0.1", port=free_port(), transport="tcp")
    with pytest.raises(NotThrough, match="Connection refused"):
        Syslog(closed.model_dump(exclude={"kind"}), {}, OUTSIDE).send(delivery(), None)


def test_a_command_runs_only_where_it_may_and_by_no_shell(tmp_path: Path) -> None:
    kept = tmp_path / "kept"
    program = tmp_path / "page me"
    program.write_text(f'#!/bin/sh\ncat > "{kept}"\necho "paged $1 $HOME"\n')
    program.chmod(0o755)
    arguments = {"arguments": [str(program), "$(touch /tmp/never); anna"]}
    may = Outside("https://c", OUTSIDE.link, may_run=True)
    sent = Command(arguments, {}, may).send(delivery(), None)
    assert sent.answer == "paged $(touch /tmp/never); anna"
    assert json.loads(kept.read_text())["title"] == CONTENT["title"] and not Path("/tmp/never").exists()
    with pytest.raises(NotThrough, match="commands are off"):
        Command(arguments, {}, OUTSIDE).send(delivery(), None)
    with pytest.raises(NotThrough, match="No such file"):
        Command({"arguments": ["/nowhere"]}, {}, may).send(delivery(), None)
    with pytest.raises(NotThrough, match="ended with 1"):
        Command({"arguments": ["/bin/false"]}, {}, may).send(delivery(), None)


def test_commands_are_refused_where_the_service_does_not_allow_them(service: Service, admin: Balise) -> None:
    with pytest.raises(Refused, match="commands are off"):
        admin.channels.set("run", CommandChannel(kind="command", arguments=["/bin/true"]))


# --- mail


class Post:
    """A mail server that may put things off."""

    def __init__(self) -> None:
        self.got: list[EmailMessage] = []
        self.put_off = 0
        box = self

        class Keep:
            async def handle_RCPT(self, _s: SMTP, _session: Any, envelope: Any, address: str, _options: Any) -> str:
                if box.put_off:
                    box.put_off -= 1
                    return "451 4.7.1 greylisted, come again"
                envelope.rcpt_tos.append(address)
                return "250 fine"

            async def handle_DATA(self, _server: SMTP, _session: Any, envelope: Any) -> str:
                box.got.append(message_from_bytes(envelope.content, policy=default))  # type: ignore[arg-type]
                return "250 kept"

        self.port = free_port()
        self._controller = Controller(Keep(), hostname="127.0.0.1", port=self.port)
        self._controller.start()

    def close(self) -> None:
        self._controller.stop()


@pytest.fixture
def post() -> Iterator[Post]:
    made = Post()
    yield made
    made.close()


def test_a_greylisted_mail_waits_and_goes_out_once(post: Post) -> None:
    body = EmailChannel(kind="email", to=["duty@skerry.example"], server="127.0.0.1", port=post.port, security="none")
    mail = Email(body.model_dump(exclude={"kind", "password"}), {}, OUTSIDE)
    post.put_off = 1
    with pytest.raises(NotThrough, match="451"):
        mail.send(delivery(), None)
    assert mail.send(delivery(), None).left == [] and len(post.got) == 1


def test_mails_of_an_incident_are_a_thread_with_a_picture_and_a_link_that_acts(
    own_service: Service, post: Post
) -> None:
    """From a point to the mail, through the real service; whoever follows the link acts without signing in."""
    service = own_service
    with service.client() as admin:
        body = EmailChannel(kind="email", to=["d@skerry.example"], server="127.0.0.1", port=post.port, security="none")
        admin.channels.set("post", body)
        admin.callouts.set("all", CalloutBody(tell=["post"], gather="1s"))
        rule = {
            "about": "The <b>tide</b> is high",
            "measure": {"metric": "tide", "take": "last", "over": "1m"},
            "limits": {"warning": {"above": 3}, "critical": {"above": 4}},
            "advice": "Close the gate.",
        }
        admin.call("PUT", "/rules/tide", rule)
        for value in (1.0, 3.5, 5.0, 1.0):
            send_gauge(service.url, service.tokens["ingest"], "pier-1", "tide", value)
            if value > 1:
                wanted = 1 if value < 4 else 2
                until(lambda wanted=wanted: len(post.got) >= wanted)  # type: ignore[misc]
        until(lambda: len(post.got) == 3)
    first, second, third = post.got
    assert [m["Subject"].split(":")[0] for m in post.got] == ["warning", "again, critical", "over"]
    assert first["References"] is None and second["In-Reply-To"] == first["Message-ID"]
    assert third["References"].split() == [first["Message-ID"], second["Message-ID"]]
    html = first.get_body(("html",)).get_content()  # type: ignore[union-attr]
    assert "&lt;b&gt;tide" in html and "<b>tide" not in html and 'src="cid:chart@balise.invalid"' in html
    pictures = [part for part in first.walk() if part.get_content_type() == "image/png"]
    assert pictures[0]["Content-ID"] == "<chart@balise.invalid>"
    assert pictures[0].get_payload(decode=True)[:8] == b"\x89PNG\r\n\x1a\n"  # type: ignore[index]
    text = first.get_body(("plain",)).get_content()  # type: ignore[union-attr]
    assert "Close the gate." in text and "a reply goes nowhere" in text
    link = next(word for word in text.split() if "/act/" in word)
    token = link.rsplit("/", 1)[1]
    with Balise(service.url) as nobody:
        for _ in range(3):
            assert nobody.call("GET", f"/links/{token}")["taken_by"] is None
        with pytest.raises(Refused, match="say who you are"):
            nobody.call("POST", f"/links/{token}", {"act": "take"})
        with pytest.raises(Refused, match="not good any more"):
            nobody.call("POST", f"/links/{token[:-1]}x", {"act": "take", "name": "anna"})
        assert "anna has it" in nobody.call("POST", f"/links/{token}", {"act": "take", "name": "anna"})["detail"]
    with service.client("viewer") as viewer:
        assert viewer.incidents.show(1).taken_by == "anna"
        sent = viewer.deliveries.list(incident=1)
        assert "/act/" not in json.dumps([d.model_dump() for d in sent])


def test_a_channel_that_hangs_delays_no_other_and_its_circuit_says_so(own_service: Service, receiver: Receiver) -> None:
    hanging = socket.create_server(("127.0.0.1", 0), backlog=50)
    service = own_service
    with service.client() as admin:
        port = hanging.getsockname()[1]
        admin.channels.set("hangs", WebhookChannel(kind="webhook", url=f"http://127.0.0.1:{port}/"))
        admin.channels.set("works", WebhookChannel(kind="webhook", url=receiver.url))
        admin.callouts.set("all", CalloutBody(tell=["hangs", "works"], gather="0s"))
        rule = {"about": "high", "measure": {"metric": "tide", "take": "last"}, "limits": {"critical": {"above": 4}}}
        admin.call("PUT", "/rules/tide", rule)
        send_gauge(service.url, service.tokens["ingest"], "pier-1", "tide", 5.0)
        until(lambda: receiver.got)
        # The receiver has it a moment before the console has written down that it took it.
        until(lambda: {c.name: c.waiting for c in admin.channels.list()} == {"hangs": 1, "works": 0})
        again = admin.deliveries.resend(until(lambda: admin.deliveries.list(channel="works", state="sent"))[0].id)
        until(lambda: len(receiver.got) == 2)
        assert receiver.got[0][1]["data"]["title"] == receiver.got[1][1]["data"]["title"] and again.incident == 1
    hanging.close()


# --- SNMP


class Trapd:
    """net-snmp's own receiver of notifications, with our MIB loaded."""

    def __init__(self, folder: Path) -> None:
        self.port = free_port()
        mib = folder / "mibs"
        mib.mkdir()
        source = resources.files("balise.server.callouts.channels") / "BALISE-MIB.txt"
        (mib / "BALISE-MIB.txt").write_text(source.read_text("utf-8"))
        base = glob("/usr/lib/erlang/lib/snmp-*/mibs")
        assert base, "the base MIBs come with erlang-snmp: make test installs it"
        (folder / "snmptrapd.conf").write_text(
            "authCommunity log harbour\n"
            "createUser balise SHA-256 signing-pass AES encrypt-pass\n"
            "authUser log balise priv\n"
        )
        self._log = folder / "traps.log"
        words = ["snmptrapd", "-f", "-n", "-C", "-c", str(folder / "snmptrapd.conf"), "-m", "+BALISE-MIB"]
        words += ["-M", f"{mib}:{base[0]}:/usr/share/snmp/mibs", "-Lf", str(self._log), "-F", "%v\\n"]
        words += ["--persistentDir=" + str(folder / "kept"), f"udp:127.0.0.1:{self.port}"]
        self._process = subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
        until(lambda: self._log.exists() and "NET-SNMP" in self._log.read_text("utf-8", "replace"))

    def log(self) -> str:
        return self._log.read_text("utf-8", "replace")

    def stop(self) -> None:
        self._process.terminate()
        self._process.wait(10)


@pytest.fixture(scope="module")
def trapd(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Trapd]:
    made = Trapd(tmp_path_factory.mktemp("trapd"))
    yield made
    made.stop()


def snmp(body: SnmpChannel, secrets: dict[str, str]) -> Snmp:
    return Snmp(body.model_dump(exclude={"kind", *Snmp.secret_names}), secrets, OUTSIDE)


@pytest.mark.parametrize("version", ["v2c", "v3"])
def test_notifications_are_read_by_name_by_another_system(trapd: Trapd, version: str) -> None:
    body = SnmpChannel(
        kind="snmp", server="127.0.0.1", port=trapd.port, version=version, user="balise" if version == "v3" else None
    )
    secrets = {"community": "harbour", "authentication": "signing-pass", "privacy": "encrypt-pass"}
    title = f"by {version} on dør-1"
    assert snmp(body, secrets).send(delivery(title=title), None).answer == "confirmed"
    until(lambda: title.split()[1] in trapd.log() and "baliseIncidentOpened" in trapd.log())
    log = trapd.log()
    assert "baliseIncidentSeverity.0 = INTEGER: critical(2)" in log and "baliseIncidentNumber.0" in log
    assert "/act/" not in log and "/incidents/7" in log
    trap = snmp(body.model_copy(update={"confirmed": False}), secrets)
    if version == "v2c":
        assert trap.send(delivery("recovered", title="a trap"), None).answer == ""
        until(lambda: "baliseIncidentRecovered" in trapd.log())
    wrong = {**secrets, "community": "wrong", "authentication": "wrong-pass-phrase"}
    with pytest.raises(NotThrough, match="SNMP"):
        snmp(body, wrong).send(delivery(title="never read"), None)
    assert "never read" not in trapd.log()


def test_secrets_of_channels_are_kept_when_left_out_and_never_shown(service: Service, admin: Balise) -> None:
    body = WebhookChannel(
        kind="webhook",
        url="http://127.0.0.1:9/x",
        signing_secret=Secret(secret("k")),
        headers={"X-Key": Secret("very hidden")},
    )
    shown = admin.channels.set("signed", body)
    again = admin.channels.set("signed", WebhookChannel(kind="webhook", url="http://127.0.0.1:9/x"))
    assert again.has_secret
    assert "hidden" not in shown.model_dump_json() and "whsec" not in shown.model_dump_json()
    moved = admin.channels.set("signed", WebhookChannel(kind="webhook", url="http://127.0.0.1:9/y"))
    assert not moved.has_secret
    for wrong in ({"headers": {"Host": "x"}}, {"signing_secret": "whsec_short"}, {"template": "{% if %}"}):
        with pytest.raises((Refused, ValueError)):
            admin.call("PUT", "/channels/signed", {"kind": "webhook", "url": "http://127.0.0.1:9/y", **wrong})
    admin.channels.delete("signed")
