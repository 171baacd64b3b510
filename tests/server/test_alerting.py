"""From a data point to the person who is told: opened once, worsened, recovered; through restarts and failures."""

from __future__ import annotations

import ssl
import time
from collections.abc import Iterator
from email import message_from_bytes
from email.message import EmailMessage
from email.policy import default
from pathlib import Path
from typing import Any

import pytest
import trustme
from aiosmtpd.controller import Controller
from aiosmtpd.smtp import SMTP, AuthResult, LoginPassword

from balise.api.callouts import CalloutBody
from balise.api.channels import EmailChannel, WebhookChannel
from balise.api.rules import RuleBody
from balise.api.secrets import Secret
from balise.client import Balise, Refused
from balise.server.callouts.channels.channel import NotThrough, Outside
from balise.server.callouts.channels.email import Email
from balise.server.callouts.channels.mail import compose
from balise.server.callouts.channels.places import checked_address
from balise.server.callouts.courier import wait_before
from balise.store.state import tables
from running import Receiver, Service, free_port, until
from sending import log_request, post, send_gauge


def rule(metric: str, each: list[str] | None = None, **limits: Any) -> RuleBody:
    return RuleBody.model_validate(
        {
            "about": f"{metric} is off",
            "measure": {"metric": metric, "each": each or ["host"], "take": "last", "over": "60s"},
            "limits": limits or {"warning": {"above": 80, "clear": 70}, "critical": {"above": 95}},
            "advice": "pump",
        }
    )


class Watched:
    """A rule of its own metric with a webhook that hears of it."""

    def __init__(
        self, service: Service, admin: Balise, receiver: Receiver, name: str, body: RuleBody | None = None
    ) -> None:
        self.service, self.admin, self.receiver, self.name = service, admin, receiver, name
        admin.channels.set(name, WebhookChannel(kind="webhook", url=receiver.url, of="alerts"))
        admin.callouts.set(name, CalloutBody(when=f'rule eq "{name}"', tell=[name]))
        admin.rules.apply(name, body or rule(name))

    def send(self, value: float, host: str = "lock-1", **attributes: str) -> None:
        send_gauge(self.service.url, self.service.tokens["ingest"], host, self.name, value, **attributes)

    def told(self, kind: str) -> list[Any]:
        return self.receiver.events(kind, self.name)

    def end(self) -> None:
        self.admin.rules.delete(self.name)
        self.admin.callouts.delete(self.name)
        self.admin.channels.delete(self.name)


@pytest.fixture
def watched(service: Service, admin: Balise, receiver: Receiver, request: pytest.FixtureRequest) -> Iterator[Watched]:
    made = Watched(service, admin, receiver, request.node.name[5:45].replace("[", "-").strip("-]"))
    yield made
    made.end()


def test_opened_worsened_and_recovered_are_each_told_once(watched: Watched) -> None:
    watched.send(10)
    watched.send(85)
    opened = until(lambda: watched.told("opened"))[0]
    assert (opened["specversion"], opened["data"]["severity"], opened["data"]["host"]) == ("1.0", "warning", "lock-1")
    watched.send(86)
    watched.send(99)
    changed = until(lambda: watched.told("changed"))[0]
    assert changed["data"]["severity"] == "critical"
    watched.send(90)
    watched.send(75)
    time.sleep(1.5)
    assert not watched.told("recovered")
    watched.send(60)
    recovered = until(lambda: watched.told("recovered"))[0]
    assert recovered["data"]["state"] == "recovered"
    counts = [len(watched.told(kind)) for kind in ("opened", "changed", "recovered")]
    assert counts == [1, 1, 1]
    alert = next(watched.admin.alerts.list(f'rule eq "{watched.name}"'))
    story = [step["what"] for step in watched.admin.alerts.show(alert.id).story]
    assert story == ["opened", "worsened", "eased", "recovered"]


def test_each_thing_has_an_alert_of_its_own(watched: Watched) -> None:
    watched.admin.rules.apply(watched.name, rule(watched.name, ["host", "berth"]))
    for berth, value in (("1", 99.0), ("2", 10.0), ("3", 99.0)):
        watched.send(value, berth=berth)
    until(lambda: len(watched.told("opened")) == 2)
    assert sorted(e["data"]["attributes"]["berth"] for e in watched.told("opened")) == ["1", "3"]


def test_only_the_callouts_that_match_are_told(watched: Watched) -> None:
    watched.admin.callouts.set(
        watched.name, CalloutBody(when=f'rule eq "{watched.name}" and severity ge "critical"', tell=[watched.name])
    )
    watched.send(85)
    until(lambda: list(watched.admin.alerts.list(f'rule eq "{watched.name}"', state="open")))
    time.sleep(1.2)
    assert not watched.receiver.got
    watched.send(99)
    # Worse now, but it is the first this channel hears of it.
    assert until(lambda: watched.told("opened"))[0]["data"]["severity"] == "critical"


def test_an_alert_keeps_evidence_and_can_be_acknowledged(watched: Watched) -> None:
    now = time.time()
    lines = [(now - i, 17, f"valve {i} does not close") for i in range(12)]
    post(
        watched.service.url, watched.service.tokens["ingest"], "logs", log_request("lock-1", lines).SerializeToString()
    )
    change = log_request("lock-1", [(now - 60, 9, "firmware of valve 2 changed")], {"balise.source": "change"})
    post(watched.service.url, watched.service.tokens["ingest"], "logs", change.SerializeToString())
    watched.send(99)
    alert = until(lambda: list(watched.admin.alerts.list(f'rule eq "{watched.name}"', state="open")))[0]
    detail = watched.admin.alerts.show(alert.id)
    assert detail.evidence["lines"][0]["count"] == 12
    assert detail.evidence["changes"][0]["body"] == "firmware of valve 2 changed"
    assert detail.clue == "changed before: firmware of valve 2 changed"
    assert detail.advice == "pump"
    with watched.service.client("operator") as operator:
        assert operator.alerts.acknowledge(alert.id, "on my way").acknowledged_by == "the operator"
    watched.send(1)
    until(lambda: watched.admin.alerts.show(alert.id).state == "recovered")
    with pytest.raises(Refused, match="nothing left"):
        watched.admin.alerts.acknowledge(alert.id)


def test_a_hold_keeps_a_short_breach_quiet(watched: Watched) -> None:
    watched.admin.rules.apply(watched.name, rule(watched.name, warning={"above": 80, "hold": "6s"}))
    watched.send(99)
    time.sleep(1.2)
    watched.send(1)
    time.sleep(6.5)
    assert not watched.told("opened")
    watched.send(99)
    began = time.monotonic()
    until(lambda: watched.told("opened"))
    assert time.monotonic() - began > 4


def test_below_and_rate_and_windows_work_end_to_end(watched: Watched) -> None:
    body = RuleBody.model_validate(
        {
            "about": "flow stops",
            "measure": {"metric": watched.name, "take": "avg", "over": "10s"},
            "limits": {"critical": {"below": 5, "clear": 6}},
        }
    )
    watched.admin.rules.apply(watched.name, body)
    watched.send(1)
    until(lambda: watched.told("opened"))
    for _ in range(3):
        watched.send(20)
        time.sleep(0.05)
    until(lambda: watched.told("recovered"))


def test_data_that_stops_leaves_the_alert_open_and_says_so(watched: Watched) -> None:
    for _ in range(4):
        watched.send(99)
        time.sleep(0.3)
    alert = until(lambda: list(watched.admin.alerts.list(f'rule eq "{watched.name}"', state="open")))[0]
    assert not alert.silent
    # Three missed intervals, of at least five seconds each.
    silent = until(lambda: (a := watched.admin.alerts.show(alert.id)).silent and a, 30)
    assert silent.state == "open"
    watched.send(99)
    until(lambda: not watched.admin.alerts.show(alert.id).silent)


def test_a_deleted_rule_ends_its_alerts_and_tells(watched: Watched) -> None:
    watched.send(99)
    until(lambda: watched.told("opened"))
    watched.admin.rules.delete(watched.name)
    told = until(lambda: watched.told("recovered"))[0]
    assert told["data"]["recovery"] == "rule deleted"
    watched.admin.rules.apply(watched.name, rule(watched.name))


def test_a_receiver_that_fails_is_tried_again(watched: Watched) -> None:
    watched.receiver.answers = [500, 302]
    watched.send(99)
    until(lambda: any(d.problem == "the receiver answered 500" for d in watched.admin.deliveries.list(state="waiting")))
    until(lambda: watched.told("opened"), 40)
    # The receiver has it a moment before the console has written down that it took it.
    sent = until(lambda: [d for d in watched.admin.deliveries.list(state="sent") if d.channel == watched.name])
    assert [(d.attempts, d.kind) for d in sent] == [(3, "opened")]


def test_secrets_are_sent_but_never_shown(watched: Watched) -> None:
    body = WebhookChannel(kind="webhook", url=watched.receiver.url, bearer="s3cret-of-the-hook", of="alerts")
    shown = watched.admin.channels.set(watched.name, body)
    assert shown.has_secret and "s3cret" not in shown.model_dump_json()
    watched.admin.channels.test(watched.name)
    headers, event = watched.receiver.got[-1]
    assert (headers["authorization"], event["type"]) == ("Bearer s3cret-of-the-hook", "balise.test")
    assert b"s3cret" not in b"".join(p.read_bytes() for p in watched.service.data.glob("state.db*"))
    # Sent to another place, the old secret does not go along.
    moved = watched.admin.channels.set(watched.name, WebhookChannel(kind="webhook", url=watched.receiver.url + "/else"))
    assert not moved.has_secret


def test_a_channel_in_use_is_not_deleted_and_a_callout_needs_its_channels(watched: Watched) -> None:
    with pytest.raises(Refused, match="still tells"):
        watched.admin.channels.delete(watched.name)
    with pytest.raises(Refused, match="there is no channel nobody"):
        watched.admin.callouts.set("x", CalloutBody(tell=["nobody"]))


def test_alerts_holds_and_deliveries_survive_a_restart(own_service: Service, receiver: Receiver) -> None:
    service = own_service
    with service.client() as admin:
        one = Watched(service, admin, receiver, "restart")
        receiver.answers = [503]
        one.send(99)
        alert = until(lambda: list(admin.alerts.list(state="open")))[0]
        until(lambda: admin.deliveries.list()[0].attempts == 1)
    service.stop(9)
    service.start()
    with service.client() as admin:
        one.admin = admin
        until(lambda: one.told("opened"), 40)
        open_now = list(admin.alerts.list(state="open"))
        assert [a.id for a in open_now] == [alert.id]
        one.send(10)
        until(lambda: one.told("recovered"))
        assert len(one.told("opened")) == 1


@pytest.mark.parametrize(
    "address", ["169.254.169.254", "224.0.0.1", "0.0.0.0", "[fe80::1]".strip("[]"), "::ffff:169.254.169.254"]
)
def test_webhooks_do_not_reach_where_credentials_lie(address: str) -> None:
    with pytest.raises(NotThrough, match="nothing is sent to"):
        checked_address(address, 80)


def test_waiting_grows_up_to_a_quarter_of_an_hour() -> None:
    assert [wait_before(n) for n in (1, 2, 3, 10)] == [5, 15, 45, 900]


# --- mail


class Mailbox:
    """A real SMTP server with STARTTLS and sign-in."""

    def __init__(self, folder: Path) -> None:
        self.authority = trustme.CA()
        certificate = self.authority.issue_cert("localhost", "127.0.0.1")
        context = ssl.create_default_context(ssl.Purpose.CLIENT_AUTH)
        certificate.configure_cert(context)
        self.trust = folder / "ca.pem"
        self.authority.cert_pem.write_to_path(self.trust)
        self.got: list[EmailMessage] = []
        box = self

        class Keep:
            async def handle_DATA(self, _server: SMTP, _session: Any, envelope: Any) -> str:
                box.got.append(message_from_bytes(envelope.content, policy=default))
                return "250 kept"

        def check(_server: Any, _session: Any, _envelope: Any, _mechanism: str, data: Any) -> AuthResult:
            good = isinstance(data, LoginPassword) and (data.login, data.password) == (b"balise", b"pier-pass")
            return AuthResult(success=good, handled=False)

        self.port = free_port()
        self._controller = Controller(
            Keep(),
            hostname="127.0.0.1",
            port=self.port,
            tls_context=context,
            require_starttls=True,
            authenticator=check,
            auth_required=True,
        )
        self._controller.start()

    def close(self) -> None:
        self._controller.stop()


def test_mail_goes_out_with_starttls_and_sign_in(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    box = Mailbox(tmp_path)
    monkeypatch.setenv("SSL_CERT_FILE", str(box.trust))
    service = Service(tmp_path)
    try:
        with service.client() as admin:
            settings = EmailChannel(
                kind="email",
                to=["duty@skerry.example"],
                server="127.0.0.1",
                port=box.port,
                user="balise",
                password="wrong",
            )
            admin.channels.set("mail", settings)
            with pytest.raises(Refused, match="refuses the user or the password"):
                admin.channels.test("mail")
            admin.channels.set("mail", settings.model_copy(update={"password": Secret("pier-pass")}))
            assert "got through" in admin.channels.test("mail")
            admin.callouts.set("all", CalloutBody(tell=["mail"]))
            admin.rules.apply("tide", rule("tide"))
            send_gauge(service.url, service.tokens["ingest"], "<b>pier</b>-1", "tide", 99.0)
            mail = until(lambda: len(box.got) > 1 and box.got[1])
    finally:
        service.stop()
        box.close()
    text, html = (mail.get_body((kind,)).get_content() for kind in ("plain", "html"))
    assert mail["Subject"] == "critical: tide is off on bpierb-1 (incident 1)"
    assert "What to do" in text and "pump" in text
    assert "<b>pier" not in html and "bpierb-1" in html


def test_a_mail_that_some_took_goes_on_to_the_others_alone() -> None:
    """One of three addresses is put off once, one is refused for good: the good one gets a single mail."""
    got: list[list[str]] = []
    put_off = ["busy@skerry.example"]

    class Keep:
        async def handle_RCPT(self, _s: SMTP, _session: Any, envelope: Any, address: str, _options: Any) -> str:
            if address in put_off:
                put_off.remove(address)
                return "451 try again"
            if address.startswith("gone"):
                return "550 no such user"
            envelope.rcpt_tos.append(address)
            return "250 fine"

        async def handle_DATA(self, _server: SMTP, _session: Any, envelope: Any) -> str:
            got.append(list(envelope.rcpt_tos))
            return "250 kept"

    server = Controller(Keep(), hostname="127.0.0.1", port=free_port())
    server.start()
    to = ["duty@skerry.example", "busy@skerry.example", "gone@skerry.example"]
    place = {"server": "127.0.0.1", "port": server.port, "security": "none", "sender": "b@skerry.example", "to": to}
    delivery = tables.Delivery(id=1, channel="mail", kind="test", content={}, state="waiting", created_at=0.0)
    mail = Email(place, {}, Outside("http://c", lambda _delivery: ""))
    try:
        left = mail.send(delivery, None).left
        assert left == ["busy@skerry.example"]
        assert mail.send(delivery, left).left == []
        with pytest.raises(NotThrough, match=r"gone@skerry\.example: 550") as refused:
            mail.send(delivery, ["gone@skerry.example"])
        assert refused.value.final
    finally:
        server.stop()
    assert got == [["duty@skerry.example"], ["busy@skerry.example"]]


def test_mail_to_a_server_without_tls_is_not_sent_in_the_clear(service: Service, admin: Balise) -> None:
    plain = Controller(object(), hostname="127.0.0.1", port=free_port())
    plain.start()
    try:
        admin.channels.set(
            "plain",
            EmailChannel(
                kind="email", to=["a@skerry.example"], server="127.0.0.1", port=plain.port, security="starttls"
            ),
        )
        with pytest.raises(Refused, match="check the channel's security"):
            admin.channels.test("plain")
    finally:
        plain.stop()
        admin.channels.delete("plain")


def test_a_subject_is_one_line_and_a_recovery_says_so() -> None:
    content = {
        "id": 3,
        "title": "line\nbreak on x",
        "severity": "critical",
        "opened_at": "2026-11-23T08:46:00.000Z",
        "hurts": [{"application": "Booking", "how": "critical where its users meet it: web"}],
        "hosts": ["x"],
        "host_count": 1,
        "thread": [7, 9],
    }
    settings = {"sender": "a@b.example", "to": ["c@d.example"]}
    outside = Outside("http://c", lambda delivery: f"http://c/incidents/{delivery.incident}/act/t")
    made = {"id": 12, "incident": 3, "channel": "mail", "content": content, "created_at": 0.0}
    message = compose(settings, tables.Delivery(kind="opened", **made), outside)
    assert message["Subject"] == "critical: line break on x (incident 3)"
    text = message.get_body(("plain",)).get_content()  # type: ignore[union-attr]
    assert "Booking: critical where its users meet it: web" in text and "Since: 2026-11-23 08:46:00 UTC" in text
    assert "http://c/incidents/3/act/t" in text and "a reply goes nowhere" in text
    assert message["References"] == "<delivery-7@balise.invalid> <delivery-9@balise.invalid>"
    over = compose(settings, tables.Delivery(kind="recovered", **made), outside)
    assert over["Subject"] == "over: line break on x (incident 3)"
