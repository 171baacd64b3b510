"""Relays: what they take arrives once and in order, through outages, crashes, full buffers and takeovers."""

from __future__ import annotations

import asyncio
import time
from pathlib import Path

import httpx
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from balise.api.access import NewEnrolmentKey, NewToken
from balise.api.agents import EnrolRequest
from balise.api.events import EventQuery
from balise.api.hosts import Facts
from balise.api.relays import BundleError, Frame, RelayEnrol, pack, unpack
from balise.client import Balise, BaliseError, Refused
from balise.relay.buffer import SEGMENT, Buffer
from balise.server.life import close
from balise.server.parts import Parts, build
from balise.server.remote.owners import hand_over, owner_at
from balise.server.remote.relays import GONE_AFTER
from balise.server.settings import Settings
from balise.store.state.tables import Host, Remote
from distant import Sshd
from relaying import RelayProcess, counted
from running import Service, free_port, often, until
from sending import gauge_request, log_request, post

# --- the buffer


def buffered(folder: Path, frames: list[bytes], limit: int = 1 << 40) -> Buffer:
    async def work() -> Buffer:
        buffer = Buffer(folder, limit)
        await asyncio.gather(*(buffer.put(f) for f in frames))
        return buffer

    return asyncio.run(work())


def test_frames_come_out_in_order_and_stay_until_they_are_done(tmp_path: Path) -> None:
    frames = [b"%d" % n for n in range(50)]
    buffer = buffered(tmp_path, frames)
    taken, places = buffer.take(1 << 20, 20)
    assert taken == frames[:20] == buffer.take(1 << 20, 20)[0]
    buffer.done(places[9])
    assert buffer.take(1 << 20, 3)[0] == frames[10:13]
    again = buffered(tmp_path, [b"new"])
    assert len(again) == 41 and again.take(1 << 20, 100)[0] == [*frames[10:], b"new"]


@settings(max_examples=often(100), deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(st.lists(st.tuples(st.sampled_from(["put", "put", "take", "done"]), st.integers(1, 9)), max_size=40))
def test_every_frame_is_forwarded_dropped_or_waits(
    tmp_path_factory: pytest.TempPathFactory, story: list[tuple[str, int]]
) -> None:
    """Overflow whenever it likes, also of what is on the way: nothing is counted twice, lost, or sent out of order."""
    with pytest.MonkeyPatch.context() as small:
        small.setattr("balise.relay.buffer.SEGMENT", 100)

        async def work() -> None:
            buffer = Buffer(tmp_path_factory.mktemp("buffer"), 300)
            put, forwarded = 0, 0
            arrived: list[int] = []
            flying: list[tuple[int, object]] = []
            for what, count in story:
                if what == "put":
                    await asyncio.gather(*(buffer.put(b"%020d" % n) for n in range(put, put + count)))
                    put += count
                elif what == "take":
                    frames, places = buffer.take(1 << 20, count)
                    flying = list(zip((int(f) for f in frames), places, strict=True))
                elif flying:
                    done, flying = flying[:count], flying[count:]
                    buffer.done(done[-1][1])  # type: ignore[arg-type]
                    forwarded += len(done)
                    arrived += [number for number, _ in done]
                assert put == forwarded + buffer.dropped + len(buffer)
            assert arrived == sorted(set(arrived))
            left = [int(f) for f in buffer.take(1 << 20, 1000)[0]]
            assert len(left) == len(buffer)
            await buffer.close()

        asyncio.run(work())


def test_a_segment_that_somebody_removed_is_left_and_counted(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr("balise.relay.buffer.SEGMENT", 100)
    buffer = buffered(tmp_path, [])

    async def fill() -> None:
        for number in range(9):
            await buffer.put(b"%020d" % number)

    asyncio.run(fill())
    min(tmp_path.glob("*.seg")).unlink()
    assert buffer.take(1 << 20, 100)[0] == []
    left = [int(f) for f in buffer.take(1 << 20, 100)[0]]
    assert left == list(range(9 - len(left), 9))
    assert buffer.dropped == 9 - len(left) == 9 - len(buffer)


def test_a_torn_end_is_cut_off_and_what_was_whole_stays(tmp_path: Path) -> None:
    for number, (cut, more) in enumerate(((1, b""), (7, b""), (0, b"\x00\x00\x00\xff\x12\x34"))):
        folder = tmp_path / str(number)
        buffered(folder, [b"first", b"second"])
        segment = max(folder.glob("*.seg"), key=lambda p: p.stat().st_size)
        segment.write_bytes(segment.read_bytes()[: -cut or None] + more)
        expected = [b"first"] if cut else [b"first", b"second"]
        assert buffered(folder, [b"third"]).take(1 << 20, 10)[0] == [*expected, b"third"]


def test_a_full_buffer_drops_the_oldest_and_counts_it(tmp_path: Path) -> None:
    big = [bytes([n]) * (SEGMENT // 4) for n in range(24)]
    buffer = buffered(tmp_path, big[:0], limit=2 * SEGMENT)

    async def work() -> None:
        held = Buffer(tmp_path / "b", 2 * SEGMENT)
        for one in big:
            await held.put(one)
        assert held.size <= 3 * SEGMENT
        assert held.dropped + len(held) == len(big) and held.dropped > 0
        left, _ = held.take(1 << 40, 100)
        assert left == big[held.dropped :]

    asyncio.run(work())
    assert len(buffer) == 0


def test_bundles_are_read_and_broken_ones_refused() -> None:
    frame = Frame(sender="host:1", kind="logs", delivery="d", at=5)
    whole = pack(frame, b"body") + pack(frame, b"")
    assert list(unpack(whole)) == [(frame, b"body"), (frame, b"")]
    for broken in (whole[:-1], whole[:10], b"\xff\xff\xff\xff", b"\x00\x00\x00\x02{}\x00\x00\x00\x00"):
        with pytest.raises(BundleError):
            list(unpack(broken))


# --- a relay at work


def test_what_a_relay_took_arrives_once_through_outage_and_crash(own_service: Service, tmp_path: Path) -> None:
    """The console is killed, then the relay too, with both an agent and an ingest token sending all the while."""
    service = own_service
    with service.client() as admin:
        key = admin.keys.create(NewEnrolmentKey(label="relays", uses=9)).key
        relay = RelayProcess(service, tmp_path, key)
        with Balise(relay.url) as through:
            facts = Facts(host_name="pier-9", machine_id="m-9")
            agent = through.call("POST", "/agents/enrol", EnrolRequest(key=key, facts=facts))["token"]
        start, kept = time.time() - 60, {"metrics": 0, "logs": 0}

        def send(number: int) -> None:
            gauge = gauge_request("pier-7", "relay.depth", [(start + number / 100, 1.0)]).SerializeToString()
            kept["metrics"] += post(relay.url, service.tokens["ingest"], "metrics", gauge).status_code == 200
            line = log_request("x", [(start + number / 100, 9, f"buoy {number}")]).SerializeToString()
            name = {"X-Balise-Delivery": f"d-{number}"}
            kept["logs"] += post(relay.url, agent, "logs", line, **name).status_code == 200
            if number % 10 == 0:
                # The same delivery once more, as an agent sends it that never heard the answer.
                post(relay.url, agent, "logs", line, **name)

        for number in range(40):
            send(number)
        until(lambda: counted(admin, "relay.depth", "pier-7") == 40)
        service.stop(9)
        for number in range(40, 80):
            send(number)
        unknown = post(relay.url, "bal_tok_never_seen", "metrics", b"")
        assert unknown.status_code == 503 and "retry-after" in unknown.headers
        relay.kill()
        relay.start()
        for number in range(80, 100):
            send(number)
        assert kept == {"metrics": 100, "logs": 100}
        service.start()
        until(lambda: counted(admin, "relay.depth", "pier-7") >= 100, 60)
        assert counted(admin, "relay.depth", "pier-7") == 100
        until(lambda: len(admin.events.search(EventQuery(text="buoy", limit=300)).items) >= 100, 30)
        events = admin.events.search(EventQuery(text="buoy", limit=300)).items
        assert sorted(int(e.body.split()[1]) for e in events) == list(range(100))
        assert {e.host for e in events} == {"pier-9"}
        until(lambda: admin.call("GET", "/relays")["items"][0]["report"], 30)
        [told] = admin.call("GET", "/relays")["items"]
        assert (told["state"], told["behind"], told["report"]["dropped"]) == ("ok", 1, 0)
        _refusals(service, admin, relay)
        relay.stop()


def _refusals(service: Service, admin: Balise, relay: RelayProcess) -> None:
    assert post(relay.url, None, "metrics", b"").status_code == 401
    assert post(relay.url, "bal_tok_never_seen", "metrics", b"").status_code == 401
    assert post(relay.url, service.tokens["viewer"], "metrics", b"").status_code == 403
    assert post(relay.url, service.tokens["ingest"], "metrics", b"\xff\xff").status_code == 400
    assert httpx.get(f"{relay.url}/api/v1/hosts").status_code == 404
    assert httpx.get(f"{relay.url}/api/v1/agents/self").status_code == 401
    # A relay speaks for those alone whose tokens it has shown, and is nobody to the rest of the API.
    token = (relay.folder / "relay.json").read_text().split('"token": "')[1].split('"')[0]
    other = admin.tokens.create(NewToken(name="somebody else", role="ingest"))
    body = pack(Frame(sender=f"token:{other.name}", kind="logs", delivery="x", at=1), b"")
    body += pack(Frame(sender="host:999", kind="logs", delivery="x", at=1), b"")
    answer = httpx.post(f"{service.url}/v1/relayed", content=body, headers={"Authorization": f"Bearer {token}"})
    assert [f["status"] for f in answer.json()["frames"]] == [403, 403]
    with Balise(service.url, token) as as_relay, pytest.raises(Refused):
        list(as_relay.hosts.list())
    assert (
        httpx.post(f"{service.url}/v1/relayed", headers={"Authorization": f"Bearer {other.token}"}).status_code == 403
    )
    admin.call("DELETE", "/relays/relay-1")
    until(
        lambda: httpx.post(f"{service.url}/v1/relayed", headers={"Authorization": f"Bearer {token}"}).status_code == 401
    )


def test_a_relay_tries_and_reads_the_hosts_of_its_site(own_service: Service, tmp_path: Path) -> None:
    service, sshd = own_service, Sshd(tmp_path / "ssh")
    with service.client() as admin:
        admin.call("PUT", "/settings/collection", {"every": "5s", "time_limit": "5s", "side_by_side": 20})
        admin.call("PUT", "/credentials/good", sshd.credential())
        body = {"name": "near-1", "address": "127.0.0.1", "port": sshd.port, "credential": "good", "site": "northquay"}
        number = admin.call("POST", "/enrolments", {"entries": [body]})["id"]
        answer = until(lambda: (a := admin.call("GET", f"/enrolments/{number}"))["state"] == "done" and a)
        assert "no relay of 'northquay' is alive" in answer["entries"][0]["message"]
        key = admin.keys.create(NewEnrolmentKey(label="relays", uses=9, site="northquay")).key
        relay = RelayProcess(service, tmp_path, key, "--site", "northquay")
        until(lambda: admin.call("GET", "/relays")["items"][0]["report"])
        admin.call("POST", f"/enrolments/{number}/retry", {"entries": []})
        answer = until(lambda: (a := admin.call("GET", f"/enrolments/{number}"))["state"] == "done" and a)
        assert answer["entries"][0]["result"] == "added", answer
        until(lambda: counted(admin, "system.uptime", "near-1") >= 2, 40)
        host = admin.hosts.show("near-1")
        assert host.collection.by == "the relay relay-1 over SSH" and host.collection.problem is None
        assert admin.call("GET", "/groups/northquay")["kind"] == "site"
        assert admin.call("GET", "/hosts/near-1/remote")["owner"] == "the relay relay-1"
        held = (relay.folder / "relay.json").read_text() + "".join(p.read_text() for p in relay.folder.glob("*.json"))
        assert "PRIVATE KEY" not in held
        relay.stop()
    sshd.stop()


# --- who has what


def relays(console: Parts, *names: str) -> list[int]:
    key = console.enrolling.make_key(NewEnrolmentKey(label="k", uses=50, site="quay"), "test", "http://c").key
    request = [RelayEnrol(key=key, name=n, site="quay", facts=Facts(host_name=n, machine_id=n)) for n in names]
    return [console.relays.enrol(r).relay_id for r in request]


def test_when_a_relay_is_gone_for_a_minute_the_other_takes_over_and_gives_back(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    console = build(Settings(data=tmp_path))
    console.credentials.put("c", any_credential(), "test")
    hosts = []
    for n in range(12):
        known = console.directory.ensure(f"near-{n}")

        def add(session: object, number: int = known.id) -> None:
            row = session.get_one(Host, number)  # type: ignore[attr-defined]
            row.mode = "remote"
            remote = Remote(host=number, protocol="ssh", address="a", port=22, credential="c", site="quay")
            session.add(remote)  # type: ignore[attr-defined]

        console.state.write(add)
        hosts.append(known.id)
    first, second = relays(console, "one", "two")
    mine = [sorted(t.host_id for t in console.remote.targets(r)) for r in (first, second)]
    assert sorted(mine[0] + mine[1]) == hosts and mine[0] and mine[1]
    gone = time.time() + GONE_AFTER + 1
    monkeypatch.setattr("balise.server.remote.relays.time.time", lambda: gone)
    console.relays.by_number(second).heard()
    console.desk.look()
    assert [len(console.remote.targets(r)) for r in (first, second)] == [0, 12]
    # What the lost one read before it was taken over counts, what it read after that does not.
    mover = mine[0][0]
    row = console.state.read(lambda s: s.get_one(Remote, mover))
    before, after = (
        Frame(sender=f"remote:{mover}", kind="metrics", delivery="d", at=int(t * 1e9)) for t in (gone - 5, gone + 5)
    )
    assert console.speakers.speaker(first, before).host == mover
    with pytest.raises(Exception, match="was read by the relay two at that time"):
        console.speakers.speaker(first, after)
    assert owner_at(row, gone + 5) == second
    console.relays.by_number(first).heard()
    console.desk.look()
    assert sorted(t.host_id for t in console.remote.targets(first)) == mine[0]
    console.relays.remove("one", "test")
    console.relays.remove("two", "test")
    assert len(console.remote.targets(0)) == 12
    close(console)


def any_credential() -> object:
    from balise.api.credentials import SshCredential

    return SshCredential(kind="ssh", user="u", password="p")


def test_who_had_a_host_when_is_known_for_the_last_hand_overs() -> None:
    row = Remote(host=1, owner=0, owners=[])
    for at, owner in ((100.0, 1), (200.0, 2), (300.0, 1)):
        hand_over(row, owner, at)
    assert [owner_at(row, t) for t in (50.0, 150.0, 200.0, 299.0, 300.0)] == [1, 1, 2, 2, 1]


def test_an_unreachable_console_is_said_plainly(tmp_path: Path) -> None:
    from balise.relay.identity import enrol

    with pytest.raises(BaliseError, match="cannot be reached"):
        enrol(tmp_path, f"http://127.0.0.1:{free_port()}", "bal_key_x")
