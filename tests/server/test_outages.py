"""Relays cut off for minutes, in real time: what they took arrives once, and a site's other relay takes its hosts over."""

from __future__ import annotations

import time
from pathlib import Path

from balise.api.access import NewEnrolmentKey
from balise.api.agents import EnrolRequest
from balise.api.events import EventQuery
from balise.api.hosts import Facts
from balise.api.metrics import MetricQuery
from balise.api.spans import rfc3339
from balise.client import Balise
from distant import Sshd
from relaying import RelayProcess, counted
from running import Service, until
from sending import gauge_request, log_request, post

CUT_OFF = 150.0


def readings_since(admin: Balise, start: float, end: float) -> list[float | None]:
    """How often a host behind the relay was read in each whole 10 s of a span."""
    read = MetricQuery(
        metric="system.uptime", from_=rfc3339(start), to=rfc3339(end), step="10s", take="count", by=["host"]
    )
    return admin.metrics.read(read).series[0].values[1:-1]


def test_a_relay_cut_off_for_minutes_loses_nothing_and_a_site_of_two_goes_on_reading(
    own_service: Service, tmp_path: Path
) -> None:
    """One relay loses the console for two and a half minutes; before that one of two is gone for more than a minute."""
    service, sshd = own_service, Sshd(tmp_path / "ssh")
    with service.client() as admin:
        admin.call("PUT", "/settings/collection", {"every": "5s", "time_limit": "5s", "side_by_side": 20})
        key = admin.keys.create(NewEnrolmentKey(label="relays", uses=9, site="northquay")).key
        first = RelayProcess(service, tmp_path, key, "--site", "northquay", name="relay-1")
        second = RelayProcess(service, tmp_path, key, "--site", "northquay", name="relay-2")
        admin.call("PUT", "/credentials/good", sshd.credential())
        entry = {"name": "near-1", "address": "127.0.0.1", "port": sshd.port, "credential": "good", "site": "northquay"}
        until(lambda: all(r["report"] for r in admin.call("GET", "/relays")["items"]))
        admin.call("POST", "/enrolments", {"entries": [entry]})
        owner = until(
            lambda: (
                "near-1" in [h.name for h in admin.hosts.list()] and admin.call("GET", "/hosts/near-1/remote")["owner"]
            ),
            30,
        )
        gone, stays = (first, second) if owner == "the relay relay-1" else (second, first)
        until(lambda: counted(admin, "system.uptime", "near-1") >= 2, 40)
        gone.kill()
        killed = time.time()
        name = stays.folder.name
        until(lambda: admin.call("GET", "/hosts/near-1/remote")["owner"] == f"the relay {name}", 120)
        assert time.time() - killed >= 45, "a relay that is gone for seconds keeps its hosts"
        had = counted(admin, "system.uptime", "near-1")
        until(lambda: counted(admin, "system.uptime", "near-1") >= had + 3, 60)

        with Balise(stays.url) as through:
            facts = Facts(host_name="pier-9", machine_id="m-9")
            agent = through.call("POST", "/agents/enrol", EnrolRequest(key=key, facts=facts))["token"]
        sent, start = 0, time.time()

        def send() -> None:
            nonlocal sent
            at = start + sent / 100
            gauge = gauge_request("pier-9", "relay.depth", [(at, float(sent))]).SerializeToString()
            assert post(stays.url, agent, "metrics", gauge).status_code == 200
            line = log_request("x", [(at, 9, f"buoy {sent}")]).SerializeToString()
            assert post(stays.url, agent, "logs", line).status_code == 200
            sent += 1

        send()
        until(lambda: counted(admin, "relay.depth", "pier-9") == 1)
        service.stop(9)
        begun = time.time()
        while time.time() - begun < CUT_OFF:
            send()
            time.sleep(0.5)  # how often this sender sends
        service.start()
        until(lambda: counted(admin, "relay.depth", "pier-9") >= sent, 90)
        assert counted(admin, "relay.depth", "pier-9") == sent > 40
        until(lambda: len(admin.events.search(EventQuery(text="buoy", limit=1000)).items) >= sent, 30)
        events = admin.events.search(EventQuery(text="buoy", limit=1000)).items
        assert sorted(int(e.body.split()[1]) for e in events) == list(range(sent))
        back = time.time()
        # A busy machine may make a reading late; a loss would leave the whole time without the console empty.
        until(lambda: (r := readings_since(admin, begun, back)) and sum(c is None for c in r) <= len(r) // 4, 60)
        report = next(r for r in admin.call("GET", "/relays")["items"] if r["name"] == name)["report"]
        assert report["dropped"] == 0
        stays.stop()
    sshd.stop()
