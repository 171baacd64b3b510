"""Bodies of many hosts: whichever way they are looked at, their points are the same."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Callable
from pathlib import Path

import pytest
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest
from sqlalchemy.orm import Session

from balise.api.access import Scope
from balise.core.moments import NS
from balise.core.series.forms import FEW, form_of, groups_of, metric_form_of
from balise.core.series.shapes import Shape
from balise.front.frames import METRICS, Sent
from balise.server.life import close
from balise.server.parts import Parts, build
from balise.server.people.access import Principal
from balise.server.receive.known import KnownBody
from balise.server.settings import Settings
from balise.store.exports.view import SeriesView
from balise.store.series.catalogue import Catalogue
from balise.store.series.head import Batch
from balise.store.writer import Busy
from sending import log_request

SENDER = Principal("a collector", "administrator")


def body(hosts: int, at: int, first: float) -> bytes:
    request = ExportMetricsServiceRequest()
    for number in range(hosts):
        group = request.resource_metrics.add()
        group.resource.attributes.add(key="host.name").value.string_value = f"pier-{number}"
        metric = group.scope_metrics.add().metrics.add(name="tide", unit="m")
        for berth in ("a", "b"):
            point = metric.gauge.data_points.add(time_unix_nano=at, as_double=first + number + (berth == "b") / 2)
            point.attributes.add(key="berth").value.string_value = berth
    return request.SerializeToString()


@pytest.mark.parametrize("hosts", [1, 3, FEW + 8])
def test_each_point_is_of_its_host_when_it_comes_first_and_again(console: Parts, hosts: int) -> None:
    now = time.time_ns()
    moments = [now - 30 * NS, now - 15 * NS, now]

    async def send() -> None:
        for turn, at in enumerate(moments):
            outcome = await console.metric_intake.take(SENDER, body(hosts, at, 100.0 * turn), as_json=False)
            assert outcome.rejected == 0

    asyncio.run(send())
    catalogue: Catalogue = console.series.catalogue
    assert len(catalogue.metrics["tide"].series) == 2 * hosts
    for number in range(hosts):
        known = console.directory.find(f"pier-{number}")
        assert known is not None
        for one in map(catalogue.series.__getitem__, catalogue.of_host(known.id)):
            [(times, values)] = console.series.reader.raw([one.id], 0, now + 1)
            berth = (dict(one.attributes)["berth"] == "b") / 2
            assert times.tolist() == moments
            assert values.tolist() == [100.0 * turn + number + berth for turn in range(3)]
    assert console.metric_intake.shape_hits == (2 if hosts <= FEW else 0)


def test_what_is_known_of_a_body_is_begun_at_once_and_nothing_else(
    console: Parts, monkeypatch: pytest.MonkeyPatch
) -> None:
    """As it comes over the line: what was learnt before needs no task of its own; all else is left to `take`."""
    paths, now = console.taking, time.time_ns()
    token, shown = (console.tokens.make(name, role, by="test")[1] for name, role in (("s", "ingest"), ("w", "viewer")))
    bodies = [body(1, now - age * NS, float(age)) for age in (30, 20, 10)]

    async def send() -> None:
        first = Sent(METRICS, token, bodies[0])
        assert paths.begin(first) is None  # nobody has looked whose token it is
        assert (await paths.take(first)).status == 200
        for again in bodies[1:]:
            durable = paths.begin(Sent(METRICS, token, again))
            assert durable is not None
            await durable
        assert (await paths.take(Sent(METRICS, shown, bodies[0]))).status == 403
        ahead = body(1, now + 3600 * NS, 0.0)
        for other in (
            Sent(METRICS, shown, bodies[2]),
            Sent(METRICS, token, bodies[2], as_json=True),
            Sent(METRICS, token, ahead),
            Sent(METRICS, token, body(2, now, 0.0)),
            Sent(METRICS, token, b"not protobuf"),
        ):
            assert paths.begin(other) is None
        monkeypatch.setattr(console.series, "accept", refuse)
        assert paths.begin(Sent(METRICS, token, bodies[2])) is None
        assert (await paths.take(Sent(METRICS, token, bodies[2]))).status == 503

    asyncio.run(send())
    [one, _] = console.series.catalogue.metrics["tide"].series
    [(times, values)] = console.series.reader.raw([one], 0, now + 1)
    assert values.tolist() == [30.0, 20.0, 10.0] and times.tolist() == [now - age * NS for age in (30, 20, 10)]
    known = console.directory.find("pier-0")
    assert known is not None and known.last_seen is not None


def refuse(_batch: Batch) -> None:
    raise Busy


def test_what_bytes_say_is_told_as_their_digest_tells_it() -> None:
    """Bytes that change in their numbers and beside them, whether or not they came before."""
    known = {hosts: body(hosts, 1, 0.5) for hosts in (1, 7, 300)}
    held = {hosts: KnownBody(shape_of(one), shape_of(one).digest(one), None) for hosts, one in known.items()}
    for turn in range(3):
        for hosts, one in held.items():
            for name in (b"tide", b"wind", b"tide"):
                content = body(hosts, 1_800_000_000 * NS + turn, turn + 0.5).replace(b"tide", name)
                assert one.is_said_by(content) is (one.shape.digest(content) == one.digest) is (name == b"tide")


def shape_of(content: bytes) -> Shape:
    [*groups] = groups_of(content)
    return Shape.joined(
        (group.start, form_of(content[group.start : group.end], metric_form_of).shape) for group in groups
    )


def sent_by(host: str) -> bytes:
    request = ExportMetricsServiceRequest()
    group = request.resource_metrics.add()
    group.resource.attributes.add(key="host.name").value.string_value = host
    point = group.scope_metrics.add().metrics.add(name="tide", unit="m").gauge.data_points.add()
    point.time_unix_nano, point.as_double = time.time_ns(), 4.0
    return request.SerializeToString()


def said_by(host: str) -> bytes:
    return log_request(host, [(time.time(), 9, "the ramp is down")]).SerializeToString()


def written_with(console: Parts, monkeypatch: pytest.MonkeyPatch) -> list[int]:
    """How many transactions of state.db there were."""
    written = [0]
    write = console.state.write

    def counted(change: Callable[[Session], object]) -> object:
        written[0] += 1
        time.sleep(0.01)
        return write(change)

    monkeypatch.setattr(console.state, "write", counted)
    return written


@pytest.mark.parametrize("kind", ["metrics", "logs"])
def test_hosts_that_come_together_are_written_together(
    kind: str, console: Parts, monkeypatch: pytest.MonkeyPatch
) -> None:
    written = written_with(console, monkeypatch)

    async def send() -> None:
        if kind == "metrics":
            one = (console.metric_intake.take(SENDER, sent_by(f"pier-{n % 200}"), as_json=False) for n in range(400))
        else:
            one = (console.log_intake.take(SENDER, said_by(f"pier-{n % 200}"), as_json=False) for n in range(400))
        assert {outcome.rejected for outcome in await asyncio.gather(*one)} == {0}

    asyncio.run(send())
    assert len([known for known in console.directory.all() if known.name.startswith("pier-")]) == 200
    assert written[0] < 10


def test_a_token_makes_as_many_hosts_as_it_may_and_no_more(console: Parts) -> None:
    made, _ = console.tokens.make("gateway", "ingest", by="a test", scope=Scope(new_hosts=30))
    sender = Principal("gateway", "ingest", token=made.id, scope=Scope(new_hosts=30))

    async def send(count: int) -> int:
        bodies = (console.metric_intake.take(sender, sent_by(f"pier-{n}"), as_json=False) for n in range(count))
        return sum(outcome.rejected for outcome in await asyncio.gather(*bodies))

    assert asyncio.run(send(50)) == 20
    assert asyncio.run(send(50)) == 20
    with_one_body = ExportMetricsServiceRequest()
    for number in range(50):
        with_one_body.MergeFromString(sent_by(f"quay-{number}"))
    outcome = asyncio.run(console.metric_intake.take(sender, with_one_body.SerializeToString(), as_json=False))
    assert outcome.rejected == 50
    assert len([known for known in console.directory.all() if known.name.startswith(("pier", "quay"))]) == 30


def test_hosts_that_are_like_others_have_the_series_that_their_bodies_name(console: Parts) -> None:
    """The second is like the first, the third too after its series were forgotten, and all agree with what they sent."""

    def told(name: str, disk: str = "disk") -> ExportMetricsServiceRequest:
        request = ExportMetricsServiceRequest.FromString(sent_by(name))
        scope = request.resource_metrics[0].scope_metrics[0]
        for number in range(6):
            points = scope.metrics.add(name=f"metric.{number}").sum.data_points
            for mode in ("in", "out"):
                point = points.add(time_unix_nano=time.time_ns(), as_double=number)
                point.attributes.add(key="mode").value.string_value = mode
                point.attributes.add(key="device").value.string_value = f"{name}-{disk}" if number % 3 == 1 else "fixed"
        return request

    def expected(request: ExportMetricsServiceRequest) -> set[tuple[str, tuple[tuple[str, str], ...]]]:
        return {
            (metric.name, tuple(sorted((a.key, a.value.string_value) for a in point.attributes)))
            for metric in request.resource_metrics[0].scope_metrics[0].metrics
            for point in metric.gauge.data_points or metric.sum.data_points
        }

    def held(name: str) -> set[tuple[str, tuple[tuple[str, str], ...]]]:
        catalogue, host = console.series.catalogue, console.directory.find(name)
        assert host is not None
        series = [catalogue.series[number] for number in catalogue.of_host(host.id)]
        return {(catalogue.metric_by_id[one.metric].name, one.attributes) for one in series}

    def take(name: str) -> None:
        request = told(name)
        outcome = asyncio.run(console.metric_intake.take(SENDER, request.SerializeToString(), as_json=False))
        assert not outcome.rejected
        assert held(name) == expected(request)
        # In the order in which the numbers stand in the body.
        newest = console.directory.find(name)
        assert newest is not None
        for metric in request.resource_metrics[0].scope_metrics[0].metrics[1:]:
            found = console.series.catalogue.metrics[metric.name]
            own = console.series.catalogue.series_of(found.id, newest.id)
            [values] = {tuple(v.tolist()) for _, v in console.series.reader.raw(own, 0, 1 << 62)}
            assert values == (float(metric.name[-1]),)

    for name in ("pier-1", "pier-2"):
        take(name)
    # A host that has some of its series already; all of it is there after a start.
    sent = told("pier-2", "bell")
    assert not asyncio.run(console.metric_intake.take(SENDER, sent.SerializeToString(), as_json=False)).rejected
    assert held("pier-2") == expected(told("pier-2")) | expected(sent)
    before = {
        number: console.series.reader.raw([number], 0, 1 << 62)[0][1].tolist()
        for number in console.series.catalogue.series
    }
    again = SeriesView(console.settings.data)
    assert {number: again.reader.raw([number], 0, 1 << 62)[0][1].tolist() for number in before} == before
    again.close()
    gone = console.directory.find("pier-1")
    assert gone is not None
    console.series.seal(time.time_ns() + 10**12)
    console.series._writer.run(lambda: console.series._forget_series(console.series.catalogue.of_host(gone.id)))
    take("pier-3")


def test_who_sends_other_words_each_time_is_told(console: Parts) -> None:
    def told(name: str, berth: str) -> bytes:
        request = ExportMetricsServiceRequest.FromString(sent_by(name))
        point = request.resource_metrics[0].scope_metrics[0].metrics[0].gauge.data_points[0]
        point.attributes.add(key="berth").value.string_value = berth
        return request.SerializeToString()

    async def send(sender: str, berths: list[str]) -> None:
        for berth in berths:
            await console.metric_intake.take(Principal(sender, "administrator"), told(sender, berth), as_json=False)

    asyncio.run(send("steady", ["a"] * 150))
    asyncio.run(send("wild", [f"berth-{n}" for n in range(101)]))
    [warning] = console.metric_intake.restless.warnings(time.time())
    assert warning.startswith("wild sends metrics that differ") and "(101 times" in warning
    assert warning in console.figures.warnings()
    assert console.metric_intake.restless.warnings(time.time() + 3601) == []


def test_a_write_that_fails_is_told_to_all_who_wait_and_the_next_goes_on(
    console: Parts, monkeypatch: pytest.MonkeyPatch
) -> None:
    write = console.state.write
    full = [True]

    def failing(change: Callable[[Session], object]) -> object:
        if full.pop() if full else False:
            raise OSError(28, "no space left on device")
        return write(change)

    monkeypatch.setattr(console.state, "write", failing)

    async def send() -> list[object]:
        bodies = (console.metric_intake.take(SENDER, sent_by(f"pier-{n}"), as_json=False) for n in range(8))
        return list(await asyncio.gather(*bodies, return_exceptions=True))

    assert {type(one) for one in asyncio.run(send())} == {OSError}
    assert console.directory.find("pier-0") is None
    assert {one.rejected for one in asyncio.run(send())} == {0}  # type: ignore[attr-defined]


def take(console: Parts, *bodies: bytes) -> int:
    """Sends bodies; answers how many of them had to be learnt."""
    before = console.metric_intake.shape_misses
    for one in bodies:
        asyncio.run(console.metric_intake.take(SENDER, one, as_json=False))
    return console.metric_intake.shape_misses - before


def values_of(console: Parts, host: str) -> list[list[float]]:
    known = console.directory.find(host)
    assert known is not None
    return [console.series.reader.raw([n], 0, 2**62)[0][1].tolist() for n in console.series.catalogue.of_host(known.id)]


def test_what_is_known_of_bodies_is_known_after_a_start(tmp_path: Path) -> None:
    console = build(Settings(data=tmp_path))
    now = time.time_ns()
    assert take(console, body(FEW, now - 30 * NS, 0.0)) == 1
    close(console)
    again = build(Settings(data=tmp_path))
    assert take(again, body(FEW, now - 15 * NS, 7.0), body(FEW, now, 9.0)) == 0
    assert values_of(again, "pier-3") == [[3.0, 10.0, 12.0], [3.5, 10.5, 12.5]]
    close(again)


def test_words_of_a_hosts_own_are_known_after_a_start_once_they_were_said_again(tmp_path: Path) -> None:
    """Whatever was written of them before."""
    console = build(Settings(data=tmp_path))
    now = time.time_ns()

    def said(pier: str, at: int, value: float) -> bytes:
        return body(1, at, value).replace(b"pier-0", pier.encode()).replace(b"\n\x01b", b"\n\x01" + pier[-1:].encode())

    piers = ("pier-4", "pier-5", "pier-6", "pier-7")
    assert take(console, *(said(pier, now - 45 * NS, 1.0) for pier in piers)) == 4
    console.metric_intake.keep_known()
    assert take(console, *(said(pier, now - 30 * NS, 2.0) for pier in piers[:2])) == 0
    close(console)
    again = build(Settings(data=tmp_path))
    assert take(again, *(said(pier, now - 15 * NS, 3.0) for pier in piers[:2])) == 0
    assert take(again, *(said(pier, now - 15 * NS, 3.0) for pier in piers)) == 2
    assert values_of(again, "pier-5") == [[1.0, 2.0, 3.0], [1.5, 2.5, 3.5]]
    assert values_of(again, "pier-7") == [[1.0, 3.0], [1.5, 3.5]]
    close(again)


def test_what_was_known_of_a_host_that_has_left_is_not_believed(tmp_path: Path) -> None:
    """As after a kill between the leaving and the file being written anew."""
    console = build(Settings(data=tmp_path))
    now = time.time_ns()
    take(console, body(3, now - 30 * NS, 0.0))
    console.metric_intake.keep_known()
    kept = (tmp_path / "known-bodies").read_bytes()
    console.hosts.retire("pier-1", "a test")
    close(console)
    (tmp_path / "known-bodies").write_bytes(kept)
    again = build(Settings(data=tmp_path))
    assert take(again, body(3, now, 5.0)) == 1
    assert values_of(again, "pier-2") == [[2.0, 7.0], [2.5, 7.5]]
    close(again)


@pytest.mark.parametrize("harm", [b"", b"nonsense", b"balise known bodies 1 00\n{}", b"balise known bodies 1 \xff\n"])
def test_a_damaged_file_of_what_was_known_says_nothing(harm: bytes, tmp_path: Path) -> None:
    (tmp_path / "known-bodies").write_bytes(harm)
    console = build(Settings(data=tmp_path))
    assert take(console, body(1, time.time_ns(), 5.0)) == 1
    close(console)


def test_a_full_disk_keeps_nothing_from_ending_well(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch, caplog: pytest.LogCaptureFixture
) -> None:
    def full(*_: object) -> None:
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("balise.server.receive.known_file.write_durably", full)
    console = build(Settings(data=tmp_path))
    take(console, body(1, time.time_ns(), 5.0))
    close(console)
    assert "what is known of bodies is not kept" in caplog.text
