"""Windows-like hosts: the same collectors, looking at a stand-in whose workings are known."""

from __future__ import annotations

import pytest

from balise.collect.readings import Sorted
from balise.collect.windows.collectors import Channels, unit_of, windows_collectors
from balise.collect.windows.office import EVERY, FAILS_EVERY, FAILS_FOR, Busyness, TicketOffice
from balise.collect.windows.system import ServiceLook

GIB = 1 << 30
STARTED = 1_800_000_000.0


class Clock:
    def __init__(self) -> None:
        self.now = STARTED + 10 * EVERY

    def __call__(self) -> float:
        return self.now


@pytest.fixture
def clock() -> Clock:
    return Clock()


@pytest.fixture
def office(clock: Clock) -> TicketOffice:
    busy = Busyness(
        processors=0.25, memory=0.5, received=7000, sent=900, read=9000, written=18_000, disk=0.03, volume=0.4
    )
    return TicketOffice(
        "tick-t1", cores=4, memory=8 * GIB, volume=100 * GIB, started=STARTED, busy=lambda _at: busy, clock=clock
    )


def test_a_windows_like_host_tells_what_any_host_does(office: TicketOffice, clock: Clock) -> None:
    """Rates and shares worked out by hand from how busy the stand-in was told to be."""
    collectors = windows_collectors(office, monotonic=clock)
    for collector in collectors:
        list(collector.read(clock.now))
    clock.now += 10
    found = Sorted()
    for collector in collectors:
        found.add(list(collector.read(clock.now)))
    told = {(r.metric, *r.attributes.values()): r.value for r in found.readings}
    assert told["balise.cpu.busy",] == pytest.approx(0.25, abs=1e-4)
    assert told["system.cpu.utilization", "user"] == pytest.approx(0.18, abs=1e-4)
    assert told["system.cpu.logical.count",] == 4
    assert "system.cpu.load_average.1m" not in {r.metric for r in found.readings}
    assert told["system.memory.utilization", "used"] == 0.5
    assert told["system.memory.limit",] == 8 * GIB
    assert told["system.filesystem.utilization", "C:", "C:", "NTFS", "rw"] == 0.4
    assert told["system.network.io", "Ethernet", "receive"] == pytest.approx(70_000, abs=1)
    # A third of 30 ms a second for one read of 9,000 bytes, two thirds for two such writes.
    assert told["balise.disk.latency", "0 C:", "read"] == pytest.approx(0.01)
    assert told["balise.disk.latency", "0 C:", "write"] == pytest.approx(0.01)
    assert told["balise.disk.queue", "0 C:"] == pytest.approx(0.03)
    assert told["system.uptime",] == 10 * EVERY + 10
    assert told["balise.unit.running", "TicketPrint"] == 1
    assert ("balise.unit.running", "RemoteRegistry") not in told
    # Four cores a quarter busy are one; 72 of 100 of it in programs, and 8 of 10 of that at the two desks.
    assert told["balise.program.cpu", "TicketDesk", ""] == pytest.approx(0.72 * 0.8, rel=0.01)
    assert {k.name for k in found.kept} == {"balise.evidence.processes"}


def test_a_service_that_ended_by_itself_is_failed_and_restarted(office: TicketOffice, clock: Clock) -> None:
    units = next(c for c in windows_collectors(office) if c.name == "units")
    lines = []
    for moment in (10 * EVERY, FAILS_EVERY + 1, FAILS_EVERY + FAILS_FOR + 1):
        clock.now = STARTED + moment
        found = Sorted()
        found.add(list(units.read(clock.now)))
        lines += [(line.body, line.severity) for line in found.lines]
    assert lines == [("TicketPrint failed: exit code 1067", "error"), ("TicketPrint runs again", "notice")]
    assert unit_of(ServiceLook("Backup", "stopped", "manual")).state == "inactive"


def test_event_channels_are_followed_from_where_one_left_off(office: TicketOffice, clock: Clock) -> None:
    channels = Channels(office, ["System", "Security"])
    first = Sorted()
    first.add(list(channels.read(clock.now)))
    assert first.lines == []
    clock.now += 3 * EVERY
    found = Sorted()
    found.add(list(channels.read(clock.now)))
    records = [(line.attributes["log.record.uid"], line.time) for line in found.lines]
    assert records == [(f"{c} {n}", STARTED + n * EVERY) for c in ("System", "Security") for n in (11, 12, 13)]
    again = Sorted()
    again.add(list(Channels(office, ["System", "Security"], channels.positions).read(clock.now)))
    assert again.lines == []
    whole = Channels(office, ["Security"], {"Security": 0})
    refused = [line for line in whole.read(clock.now + 1e6) if getattr(line, "severity", "") == "warning"]
    assert all(getattr(line, "attributes", {}).get("windows.event_id") == "4625" for line in refused)


def test_a_channel_says_how_it_is_as_a_source(
    office: TicketOffice, clock: Clock, monkeypatch: pytest.MonkeyPatch
) -> None:
    channels = Channels(office)
    list(channels.read(clock.now))
    clock.now += 5 * EVERY
    list(channels.read(clock.now))
    told = {one["path"]: one for one in channels.sources()}
    assert {one["kind"] for one in told.values()} == {"channel"}
    assert (told["Security"]["status"], told["Security"]["lines"]) == ("following", 5)
    assert told["Security"]["last_at"] <= clock.now

    whole = office.events

    def events(channel: str, after: int, most: int) -> object:
        if channel == "Security":
            raise PermissionError(13, "reading it needs the right of event log readers")
        return whole(channel, after, most)

    monkeypatch.setattr(office, "events", events)
    clock.now += EVERY
    found = Sorted()
    found.add(list(channels.read(clock.now)))
    told = {one["path"]: one for one in channels.sources()}
    assert (told["Security"]["status"], told["System"]["status"]) == ("unreadable", "following")
    assert "event log readers" in told["Security"]["detail"]
    assert {line.attributes["windows.channel"] for line in found.lines} == {"System", "Application"}
