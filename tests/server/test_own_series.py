"""What the console itself knows of hosts, as series that the shipped rules raise alerts of."""

from __future__ import annotations

import time
from types import SimpleNamespace

from balise.api.metrics import MetricQuery
from balise.core.events.new_event import NewEvent
from balise.core.moments import NS
from balise.server.hosts.signing_in import SignInFigures
from balise.server.parts import Parts
from balise.server.receivers.drops import Drops
from balise.store.events.store import Delivery


def values(console: Parts, metric: str, *names: str) -> dict[tuple[str, ...], float]:
    query = {"metric": metric, "by": list(names), "take": "last", "from": "-10m", "step": "10s"}
    found = {}
    for one in console.metrics.ask(MetricQuery.model_validate(query)).series:
        found[tuple(one.attributes[name] for name in names)] = [v for v in one.values if v is not None][-1]
    return found


def test_dropped_lines_are_told_of_the_host_or_of_the_console(console: Parts) -> None:
    console.directory.ensure("switch-n1")
    at = [time.time() - 120]
    loud = [SimpleNamespace(address=address, dropped=0) for address in ("127.0.0.2", "127.0.0.3", "127.0.0.4")]
    heard = [SimpleNamespace(receiver="devices", address="127.0.0.2", host="switch-n1")]
    drops = Drops(
        series=console.series,
        directory=console.directory,
        senders=SimpleNamespace(heard=lambda: heard),
        receivers=SimpleNamespace(running=lambda: [SimpleNamespace(name="devices", senders=loud)]),
        clock=lambda: at[0],
    )
    for step, dropped in enumerate(((0, 0, 0), (90, 30, 0), (90, 60, 0))):
        at[0] += 30
        for one, count in zip(loud, dropped, strict=True):
            one.dropped = count
        drops.note()
        if not step:
            assert "balise.receiver.dropped" not in console.series.catalogue.metrics
            continue
        got = values(console, "balise.receiver.dropped", "host", "sender")
        wanted = [
            {},
            {("switch-n1", "127.0.0.2"): 180.0, ("console", "127.0.0.3"): 60.0},
            {("switch-n1", "127.0.0.2"): 0.0, ("console", "127.0.0.3"): 60.0},
        ][step]
        assert got == wanted


def test_a_sweep_and_a_break_in_raise_alerts_and_go_by(console: Parts) -> None:
    console.rules.ship()
    console.watch.load(time.time())
    console.directory.ensure("bastion-h1")
    now = time.time()

    def said(second: float, body: str) -> NewEvent:
        return NewEvent(int((now - 60 + second) * NS), "bastion-h1", 6, "sshd", body, None)

    def failed(n: int, account: str, address: str) -> NewEvent:
        return said(n, f"Failed password for invalid user {account} from {address} port {4000 + n} ssh2")

    swept = [failed(n, f"user{n}", "192.0.2.7") for n in range(5)]
    tried = [failed(10 + n, "anker", "192.0.2.8") for n in range(5)]
    got_in = said(20, "Accepted password for anker from 192.0.2.8 port 4100 ssh2")
    at = [now]
    figures = SignInFigures(
        series=console.series, directory=console.directory, events=console.events, clock=lambda: at[0]
    )
    console.events.accept_now(Delivery([*swept[:4], *tried]))
    figures.note()
    assert "balise.sign_in.entries" not in console.series.catalogue.metrics
    console.events.accept_now(Delivery([swept[4], got_in]))
    figures.note()
    got = values(console, "balise.sign_in.entries", "host", "kind")
    assert got == {
        ("bastion-h1", "sweep"): 1.0, ("bastion-h1", "success-after-failures"): 1.0, ("bastion-h1", "first-seen"): 0.0
    }  # fmt: skip
    console.watch.tick(time.time())
    assert {row.rule for row in console.alerts.open_now()} >= {"sign-ins-swept", "signed-in-after-failures"}
