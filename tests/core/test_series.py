"""Series: the codec bit for bit, the wire against the public classes, summing up against plain arithmetic."""

from __future__ import annotations

import math
from itertools import pairwise

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from hypothesis.extra import numpy as hnp
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest
from opentelemetry.proto.metrics.v1.metrics_pb2 import Metric

from balise.core.moments import NS
from balise.core.series import codec, forms
from balise.core.series.codec import BlockEncoder, CodecError, decode_block, decode_times, encode_times
from balise.core.series.combine import combine
from balise.core.series.forms import few_groups, groups_of
from balise.core.series.growth import Before, add_growth, increases
from balise.core.series.percentiles import bucket_percentiles, point_percentiles
from balise.core.series.portions import distinct
from balise.core.series.shapes import digest_of
from balise.core.series.steps import Steps, steps_between
from balise.core.series.summary import Flat, coarser, summarise, summarise_flat
from balise.core.series.wire import ReadMetric, WireError, read_metric, read_resource, sections
from balise.server.receive.form_book import FormBook

bits = st.integers(0, 2**64 - 1)
extremes = st.sampled_from(
    [0.0, -0.0, math.inf, -math.inf, math.nan, 1e300, -1e300, 5e-324, 2.0**53, 0.1, 1 / 3, 1498 / 1501]
)
anything = st.one_of(
    extremes, st.floats(), st.integers(-(10**12), 10**12).map(float), st.integers(0, 1500).map(lambda n: n / 1500)
)


def same_bits(a: np.ndarray, b: np.ndarray) -> bool:
    return a.shape == b.shape and bool((a.view(np.int64) == b.view(np.int64)).all())


@given(hnp.arrays(np.float64, st.tuples(st.integers(1, 6), st.integers(1, 40)), elements=anything))
def test_every_value_comes_back_bit_for_bit(values: np.ndarray) -> None:
    assert same_bits(decode_block(BlockEncoder().encode(values)), values)


@given(hnp.arrays(np.uint64, st.tuples(st.integers(1, 4), st.integers(1, 20)), elements=bits))
def test_any_bits_at_all_come_back(raw: np.ndarray) -> None:
    """NaN payloads included."""
    values = raw.view(np.float64)
    assert same_bits(decode_block(BlockEncoder().encode(values)), values)


@given(st.integers(2, 30), st.data())
def test_rows_can_be_read_one_by_one(n: int, data: st.DataObject) -> None:
    rng = np.random.default_rng(data.draw(st.integers(0, 2**32)))
    ticks = rng.integers(0, 1500, (9, n)) / rng.integers(1498, 1503, (9, n))
    ticks[3] = 7.25
    ticks[4] = np.cumsum(rng.integers(0, 10**6, n))
    ticks[5] = rng.standard_normal(n)
    blob = BlockEncoder().encode(ticks, np.arange(9))
    rows = np.array(data.draw(st.lists(st.integers(0, 8), min_size=1, max_size=9, unique=True)))
    assert same_bits(decode_block(blob, rows), ticks[rows])


@given(st.data())
def test_many_blocks_at_once_are_the_bytes_of_each_alone(data: st.DataObject) -> None:
    """Blocks of any number of rows and lengths, and however few are worked through together."""
    shapes = st.tuples(st.integers(1, 5), st.sampled_from([0, 1, 3, 17]))
    blocks = [data.draw(hnp.arrays(np.float64, shape, elements=anything)) for shape in data.draw(st.lists(shapes))]
    ends = np.cumsum([0, *(len(block) for block in blocks)]).tolist()
    ids = [np.arange(a, b) for a, b in pairwise(ends)]
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(codec, "TOGETHER", data.draw(st.sampled_from([1, 40, 1000])))
        together = BlockEncoder().encode_many(blocks, ids)
    assert together == [BlockEncoder().encode(block, own) for block, own in zip(blocks, ids, strict=True)]
    for blob, block in zip(together, blocks, strict=True):
        assert same_bits(decode_block(blob), block)


@pytest.mark.parametrize("odd", [7.0, 0.25, 0.123, 1 / 3, math.pi, -0.0, math.nan, math.inf, 1e300, 2.0**53])
@pytest.mark.parametrize("at", [1, 59, 61, 479])
def test_what_a_few_values_of_a_row_say_is_not_taken_for_all_of_it(odd: float, at: int) -> None:
    """Rows of one form each but for one value, where the few that are looked at first do not stand."""
    steps = np.arange(480.0)
    rows = np.vstack([10 * steps, steps % 7 * 1500, (steps % 90) / 100, (steps % 11 + 1) / 1501, np.full(480, 20.0)])
    rows[:, at] = odd
    assert same_bits(decode_block(BlockEncoder().encode(rows, np.arange(5))), rows)


@given(st.lists(st.integers(-(2**62), 2**62), unique=True, max_size=50).map(sorted))
def test_times_come_back(times: list[int]) -> None:
    given_times = np.array(times, np.int64)
    if len(times) < 2 or max(np.diff(given_times.astype(object))) < 2**62:
        assert decode_times(encode_times(given_times)).tolist() == times


def test_regular_series_take_little_room() -> None:
    """A counter and a constant at 15 s: what monitoring mostly holds."""
    steady = np.vstack([np.cumsum(np.full(480, 1500.0)), np.full(480, 3.0), np.repeat([1.0, 2.0], 240)])
    assert len(BlockEncoder().encode(steady)) / steady.size < 0.3


def test_damaged_bytes_are_an_error_of_ours() -> None:
    blob = BlockEncoder().encode(np.array([[1.0, 2.5, 3.0]]))
    with pytest.raises(CodecError):
        decode_block(blob[:10])
    with pytest.raises(CodecError):
        decode_block(blob[:-3])


# --- the wire, judged by the public protobuf classes

texts = st.text(max_size=8)
values = st.one_of(st.booleans(), st.integers(-(2**40), 2**40), st.floats(allow_nan=False), texts)


@st.composite
def number_metrics(draw: st.DrawFn) -> Metric:
    metric = Metric(name=draw(st.text("abc.", min_size=1, max_size=8)), unit=draw(st.text("sB", max_size=2)))
    points = metric.gauge.data_points if draw(st.booleans()) else metric.sum.data_points
    for _ in range(draw(st.integers(1, 4))):
        point = points.add(time_unix_nano=draw(st.integers(1, 2**62)), start_time_unix_nano=draw(st.integers(0, 2**62)))
        if draw(st.booleans()):
            point.as_double = draw(st.floats(allow_nan=False))
        else:
            point.as_int = draw(st.integers(-(2**53), 2**53))
        for key, value in draw(st.dictionaries(st.text("kx", min_size=1, max_size=3), texts, max_size=3)).items():
            point.attributes.add(key=key).value.string_value = value
        if draw(st.booleans()):
            point.exemplars.add(as_double=1.0, time_unix_nano=draw(st.integers(1, 2**60)))
    return metric


@given(st.lists(number_metrics(), min_size=1, max_size=3))
def test_the_walk_finds_what_the_public_classes_find(metrics: list[Metric]) -> None:
    request = ExportMetricsServiceRequest()
    group = request.resource_metrics.add()
    group.resource.attributes.add(key="host.name").value.string_value = "pier"
    group.scope_metrics.add().metrics.extend(metrics)
    body = request.SerializeToString()
    found = sections(body)
    assert [read_resource(body, s.resource) for s in found] == [{"host.name": "pier"}] * len(metrics)
    view = np.frombuffer(body, np.uint8).tobytes()
    for metric, section in zip(metrics, found, strict=True):
        read = read_metric(body, section.metric)
        points = metric.gauge.data_points or metric.sum.data_points
        assert (read.name, read.unit, len(read.slots)) == (metric.name, metric.unit, len(points))
        for slot, point in zip(read.slots, points, strict=True):
            kind = "<i8" if slot.integer else "<f8"
            value = np.frombuffer(view, kind, 1, slot.value_at)[0]
            wanted = point.as_int if point.HasField("as_int") else point.as_double
            assert value == wanted
            assert np.frombuffer(view, "<i8", 1, slot.time_at)[0] == point.time_unix_nano
            assert dict(slot.attributes) == {a.key: a.value.string_value for a in point.attributes}


@given(st.binary(max_size=60))
def test_any_bytes_are_read_or_refused(body: bytes) -> None:
    try:
        for section in sections(body):
            read_resource(body, section.resource)
            read_metric(body, section.metric)
    except WireError:
        pass


def requests(values: list[float], *, extra: str = "") -> bytes:
    request = ExportMetricsServiceRequest()
    scope = request.resource_metrics.add().scope_metrics.add()
    for i, value in enumerate(values):
        metric = scope.metrics.add(name=f"m{i}{extra}")
        metric.gauge.data_points.add(time_unix_nano=1000 + i, as_double=value)
    return request.SerializeToString()


def rest_of(body: bytes) -> bytes:
    [group] = groups_of(body)
    return body[group.start : group.end]


@pytest.fixture
def walked(monkeypatch: pytest.MonkeyPatch) -> list[bytes]:
    """The metrics that were walked."""
    found: list[bytes] = []

    def walk(chunk: bytes, span: tuple[int, int]) -> ReadMetric:
        found.append(chunk)
        return read_metric(chunk, span)

    monkeypatch.setattr(forms, "read_metric", walk)
    return found


def test_a_form_is_learnt_once_for_all_who_send_it(walked: list[bytes]) -> None:
    book = FormBook(capacity=1 << 20)
    first, second = rest_of(requests([1.0, 2.0, 3.0])), rest_of(requests([4.0, -5.5, 1e300]))
    assert book.known(first) is None
    book.of("a", first)
    form = book.known(second)
    assert form is not None and len(walked) == 3
    times, values = form.shape.gather(second)
    assert (times.tolist(), values.tolist()) == ([1000, 1001, 1002], [4.0, -5.5, 1e300])


def test_a_body_that_differs_elsewhere_is_not_taken_for_a_known_form(walked: list[bytes]) -> None:
    book = FormBook(capacity=1 << 20)
    first = rest_of(requests([1.0, 2.0]))
    other = first.replace(b"m1", b"m9")
    book.of("a", first)
    assert book.known(other) is None
    form = book.of("b", other)
    assert len(walked) == 3, "the metric that is the same is known from before"
    assert [metric.read.name for metric in form.metrics] == ["m0", "m9"]


@given(st.lists(number_metrics(), min_size=1, max_size=3), st.integers(0, 2**60))
def test_what_a_known_form_gives_is_what_a_walk_gives(metrics: list[Metric], moment: int) -> None:
    """The same metrics with other numbers, by the form and by the public classes."""
    book = FormBook(capacity=1 << 20)
    request = ExportMetricsServiceRequest()
    request.resource_metrics.add().scope_metrics.add().metrics.extend(metrics)
    book.of("a", rest_of(request.SerializeToString()))
    points = []
    for metric in request.resource_metrics[0].scope_metrics[0].metrics:
        for point in metric.gauge.data_points or metric.sum.data_points:
            points.append(point)
            if point.time_unix_nano:
                point.time_unix_nano = moment + 1
            if point.HasField("as_int"):
                point.as_int = moment % 997
            else:
                point.as_double = moment / 7
    rest = rest_of(request.SerializeToString())
    times, values = book.of("a", rest).shape.gather(rest)
    assert times.tolist() == [point.time_unix_nano for point in points]
    assert values.tolist() == [point.as_int if point.HasField("as_int") else point.as_double for point in points]


@given(st.lists(number_metrics(), min_size=1, max_size=3), st.data())
def test_bytes_that_differ_in_one_place_from_known_ones_are_read_as_if_nothing_was_known(
    metrics: list[Metric], data: st.DataObject
) -> None:
    request = ExportMetricsServiceRequest()
    request.resource_metrics.add().scope_metrics.add().metrics.extend(metrics)
    rest = bytearray(rest_of(request.SerializeToString()))
    book = FormBook(capacity=1 << 20)
    book.of("a", bytes(rest))
    rest[data.draw(st.integers(0, len(rest) - 1))] ^= 1 << data.draw(st.integers(0, 7))
    assert told_by(book, bytes(rest)) == told_by(FormBook(capacity=1 << 20), bytes(rest))


def test_any_bit_that_differs_is_seen() -> None:
    known = rest_of(requests([1.0, 2.0, 3.0]))
    for bit in range(8 * len(known)):
        rest = bytearray(known)
        rest[bit // 8] ^= 1 << bit % 8
        book = FormBook(capacity=1 << 20)
        book.of("a", known)
        assert told_by(book, bytes(rest)) == told_by(FormBook(capacity=1 << 20), bytes(rest))


def told_by(book: FormBook, rest: bytes) -> object:
    try:
        form = book.of("b", rest)
    except WireError as error:
        return str(error)
    said = bytes(form.shape.blanked(rest))
    if form.mark is not None:
        assert (form.mark, form.digest) == (hash(said), b"")
    elif form.fixed:
        assert form.digest == digest_of(said)
    return form.shape.key(), form.skipped, form.fixed, [metric.read for metric in form.metrics]


def test_of_a_body_with_words_of_its_own_only_their_metrics_are_walked(walked: list[bytes]) -> None:
    book = FormBook(capacity=1 << 20)
    fleets = rest_of(requests([1.0, 2.0, 3.0]))
    first = book.of("a", fleets)
    for turn, own in enumerate((b"n1", b"n2", b"n3")):
        form = book.of("b", fleets.replace(b"m2", own))
        assert form.shape is first.shape and len(walked) == 4 + turn
        assert [metric.read.name for metric in form.metrics] == ["m0", "m1", own.decode()]


def disks(serial: str, other: str) -> bytes:
    """Metrics as an agent of a fleet sends them: numbers and a histogram, with words of the host in their attributes."""
    request = ExportMetricsServiceRequest()
    scope = request.resource_metrics.add().scope_metrics.add()
    scope.metrics.add(name="load").gauge.data_points.add(time_unix_nano=1000, as_double=0.5)
    used, took = scope.metrics.add(name="used").gauge, scope.metrics.add(name="took").histogram
    took.aggregation_temporality = 2
    for named in (serial, other):
        points = (
            used.data_points.add(time_unix_nano=1000, as_int=7),
            took.data_points.add(time_unix_nano=1000, count=3, sum=1.5, bucket_counts=[1, 2], explicit_bounds=[0.5]),
        )
        for point in points:
            point.attributes.add(key="device").value.string_value = named
            point.attributes.add(key="at").value.int_value = 3
            point.attributes.add(key="also").value.string_value = "the same"
    return rest_of(request.SerializeToString())


@pytest.mark.parametrize("names", [("disk-a2", "disk-b2"), ("disk-a1", "disk-b2"), ("disk-ä", "disk-b1")])
def test_what_a_fleets_hosts_call_their_own_is_taken_from_its_place(
    names: tuple[str, str], walked: list[bytes]
) -> None:
    book = FormBook(capacity=1 << 20)
    book.of("a", disks("disk-a1", "disk-b1"))
    own = disks(*names)
    found = told_by(book, own)
    assert len(walked) == 3, "nothing is walked again"
    assert found == told_by(FormBook(capacity=1 << 20), own)
    form = book.of("b", own)
    assert form.like is not None


def volumes(names: list[str]) -> bytes:
    """Two metrics of two points each, of which each has a word of its own."""
    request = ExportMetricsServiceRequest()
    scope = request.resource_metrics.add().scope_metrics.add()
    for place, name in enumerate(names):
        if place % 2 == 0:
            metric = scope.metrics.add(name=f"m{place}")
        point = metric.gauge.data_points.add(time_unix_nano=1000, as_double=0.5)
        point.attributes.add(key="volume").value.string_value = name
    return rest_of(request.SerializeToString())


@given(st.lists(st.lists(st.sampled_from(["aa", "ab", "bb"]), min_size=4, max_size=4), min_size=2, max_size=6))
def test_words_that_were_the_same_in_others_may_differ_in_the_next(fleet: list[list[str]]) -> None:
    book = FormBook(capacity=1 << 20)
    for names in fleet:
        own = volumes(names)
        assert told_by(book, own) == told_by(FormBook(capacity=1 << 20), own)
    like = book.of("a", own).like
    if like is not None:
        traits = {place: like.traits[one] for place, one in zip(like.places.tolist(), like.which.tolist(), strict=True)}
        for place, name in enumerate(names):
            before = ((("volume", fleet[0][place]),), "", "gauge")
            assert traits.get(place, before) == ((("volume", name),), "", "gauge")


def test_an_attribute_that_is_named_twice_is_read_as_by_a_walk() -> None:
    def twice(first: str, last: str) -> bytes:
        request = ExportMetricsServiceRequest()
        point = request.resource_metrics.add().scope_metrics.add().metrics.add(name="m").gauge.data_points.add()
        point.time_unix_nano, point.as_double = 1000, 2.0
        for value in (first, last):
            point.attributes.add(key="disk").value.string_value = value
        return rest_of(request.SerializeToString())

    book = FormBook(capacity=1 << 20)
    book.of("a", twice("a1", "b1"))
    for names in (("a2", "b1"), ("a1", "b2"), ("a2", "b2")):
        assert told_by(book, twice(*names)) == told_by(FormBook(capacity=1 << 20), twice(*names))


def test_forms_keep_to_their_room_and_one_sender_to_its_share() -> None:
    book = FormBook(capacity=40_000)
    common = rest_of(requests([1.0] * 3))
    book.of("a fleet", common)
    for i in range(1, 80):
        book.of("ever new", rest_of(requests([1.0] * 3, extra="x" * i)))
    assert 0 < book.groups.size <= 40_000 and 0 < book.metrics.size <= 40_000
    assert book.known(common) is not None, "who sends something new each time pushes out its own"
    for sender in range(80):
        book.of(sender, rest_of(requests([1.0] * 3, extra="y" * (sender + 100))))
    assert book.groups.size <= 40_000 and book.metrics.size <= 40_000


def test_groups_are_found_wherever_their_resource_stands() -> None:
    request = ExportMetricsServiceRequest()
    for name in ("pier", "quay"):
        group = request.resource_metrics.add()
        group.resource.attributes.add(key="host.name").value.string_value = name
        group.scope_metrics.add().metrics.add(name="m").gauge.data_points.add(time_unix_nano=1, as_double=2.0)
    body = request.SerializeToString()
    turned = b"".join(
        b"\x0a" + bytes([group.end - group.resource[0] + 2]) + body[group.start : group.end]
        + body[group.resource[0] - 2 : group.start]
        for group in groups_of(body)
    )  # fmt: skip
    assert few_groups(body) == groups_of(body)
    assert few_groups(turned) is few_groups(body * forms.FEW) is few_groups(body + b"\x10\x01") is None
    for told in (body, turned):
        found = groups_of(told)
        assert [read_resource(told, group.resource)["host.name"] for group in found] == ["pier", "quay"]
        for group in found:
            rest = told[group.start : group.end]
            assert FormBook(capacity=1 << 20).of("a", rest).shape.gather(rest)[1].tolist() == [2.0]


def test_a_histogram_becomes_its_parts() -> None:
    metric = Metric(name="h")
    metric.histogram.aggregation_temporality = 2
    metric.histogram.data_points.add(
        time_unix_nano=5, count=7, sum=3.5, bucket_counts=[4, 2, 1], explicit_bounds=[0.1, 1.0], min=0.01, max=2.0
    )
    body = metric.SerializeToString()
    read = read_metric(body, (0, len(body)))
    parts = {s.part: np.frombuffer(body, "<i8" if s.integer else "<f8", 1, s.value_at)[0] for s in read.slots}
    assert parts == {"count": 7, "sum": 3.5, "min": 0.01, "max": 2.0, "le:0.1": 4, "le:1.0": 2, "le:inf": 1}
    assert {s.kind for s in read.slots if s.part.startswith("le:")} == {"counter"}


def test_exponential_buckets_have_the_bounds_of_the_data_model() -> None:
    """OTLP data model: at scale 0 bucket i holds (2**i, 2**(i+1)]."""
    metric = Metric(name="e")
    point = metric.exponential_histogram.data_points.add(time_unix_nano=9, count=6, sum=12.0, scale=0, zero_count=1)
    point.positive.offset = 1
    point.positive.bucket_counts.extend([2, 0, 3])
    body = metric.SerializeToString()
    parts = {s.part: s.value for s in read_metric(body, (0, len(body))).slots}
    assert parts == {"count": 6.0, "sum": 12.0, "in:0.0:0.0": 1.0, "in:2.0:4.0": 2.0, "in:8.0:16.0": 3.0}


# --- summing up

T0 = 1_800_000_000 * NS


def test_steps_cover_the_span_and_stay_aligned() -> None:
    steps = steps_between(1000.0, 4600.0, step=None, points=60)
    assert (steps.width, steps.start % steps.width) == (60 * NS, 0)
    assert steps.start <= 1000 * NS and steps.end >= 4600 * NS


@given(st.lists(st.tuples(st.integers(0, 99), st.integers(-50, 50)), max_size=40))
def test_summing_up_agrees_with_plain_arithmetic(points: list[tuple[int, int]]) -> None:
    unique = sorted({at: float(value) for at, value in points}.items())
    times = np.array([T0 + at * NS for at, _ in unique], np.int64)
    numbers = np.array([value for _, value in unique])
    steps = Steps(T0, 10 * NS, 8)
    shared = summarise(times, numbers[None, :], steps)
    flat = summarise_flat(Flat.of([(times, numbers)]), 1, steps)
    for step in range(8):
        inside = [value for at, value in unique if step * 10 <= at < step * 10 + 10]
        for summary in (shared, flat):
            assert summary.count[0, step] == len(inside)
            if inside:
                assert summary.low[0, step] == min(inside)
                assert summary.high[0, step] == max(inside)
                assert summary.total[0, step] == pytest.approx(sum(inside))
                assert summary.last[0, step] == inside[-1]
            else:
                assert math.isnan(summary.last[0, step])


def test_a_counter_that_starts_anew_grows_by_what_it_shows() -> None:
    times = T0 + np.arange(5) * 10 * NS
    counter = np.array([100.0, 160.0, 20.0, 50.0, 50.0])
    grown, seen = increases(Flat.of([(times, counter)]), ["counter"], Steps(T0, 50 * NS, 1))
    assert grown[0, 0] == 60 + 20 + 30
    assert seen[0, 0] == 40


def test_deltas_are_added_up() -> None:
    times = T0 + np.arange(3) * 10 * NS
    grown, seen = increases(Flat.of([(times, np.array([5.0, 0.0, 7.0]))]), ["delta"], Steps(T0, 30 * NS, 1))
    assert (grown[0, 0], seen[0, 0]) == (12, 30)


def test_groups_add_the_level_of_each_series_not_its_points() -> None:
    """Two volumes of 10 and 30 read at different paces are 40 together."""
    steps = Steps(T0, 60 * NS, 1)
    quick = (T0 + np.arange(6) * 10 * NS, np.full(6, 10.0))
    slow = (np.array([T0]), np.array([30.0]))
    summary = summarise_flat(Flat.of([quick, slow]), 2, steps)
    assert combine(summary, np.zeros(2, bool), np.array([0, 0]), "sum")[0, 0] == 40
    assert combine(summary, np.zeros(2, bool), np.array([0, 0]), "count")[0, 0] == 7


def test_percentiles_agree_with_numpy() -> None:
    rng = np.random.default_rng(3)
    numbers = rng.standard_normal(101)
    times = T0 + np.arange(101) * NS
    out = point_percentiles([(times, numbers)], np.array([0]), 1, Steps(T0, 200 * NS, 1), 0.95)
    assert out[0, 0] == pytest.approx(np.quantile(numbers, 0.95))


def test_bucket_percentiles_interpolate_within_the_bucket() -> None:
    """100 between 0 and 1, 100 between 1 and 2: the median is 1, the 75th percentile 1.5."""
    counts = np.array([[100.0], [100.0], [0.0]])
    bounds = np.array([[0.0, 1.0], [1.0, 2.0], [2.0, math.inf]])
    assert bucket_percentiles(bounds, counts, 0.5)[0] == pytest.approx(1.0)
    assert bucket_percentiles(bounds, counts, 0.75)[0] == pytest.approx(1.5)


def test_sparse_buckets_keep_to_their_own_bounds() -> None:
    """Ten values of exactly 3 between 2 and 4 and one beyond 512: the median lies in (2, 4], not in all below 4."""
    bounds = np.array([[2.0, 4.0], [512.0, 1024.0]])
    counts = np.array([[10.0], [1.0]])
    assert bucket_percentiles(bounds, counts, 0.5)[0] == pytest.approx(2 + 2 * 0.55)
    assert bucket_percentiles(bounds, counts, 0.99)[0] > 512


def test_growth_across_a_long_gap_is_not_known_and_the_same_from_wherever_one_looks() -> None:
    times = T0 + np.array([0, 600, 600 + 3600, 600 + 3601 + 3600]) * NS
    values = np.array([10.0, 20.0, 50.0, 90.0])
    steps = Steps(T0 + 600 * NS, 3600 * NS, 3)
    flat = increases(Flat.of([(times, values)]), ["counter"], steps)
    assert flat[0].tolist() == [[10.0, 30.0, 0.0]]
    for cut in (0, 1):
        summary = summarise(times[cut:], values[None, cut:], steps)
        before = Before.nothing(1) if cut == 0 else Before(times[:1], values[:1])
        add_growth(summary, times[cut:], values[None, cut:], steps, ["counter"], before)
        np.testing.assert_allclose((summary.grown, summary.seen), flat)


def test_coarser_steps_keep_what_happened() -> None:
    times = T0 + np.arange(12) * 300 * NS
    fine = summarise(times, np.arange(12.0)[None, :], Steps(T0, 300 * NS, 12))
    hour = coarser(fine, 12)
    assert (hour.low[0, 0], hour.high[0, 0], hour.total[0, 0], hour.count[0, 0], hour.last[0, 0]) == (0, 11, 66, 12, 11)


@given(st.lists(st.integers(0, 40) | st.integers(0, 3000), max_size=60))
def test_which_groups_there_are_is_told_as_by_sorting(groups: list[int]) -> None:
    present, places = distinct(np.array(groups, np.int64))
    told = sorted(set(groups))
    assert (present.tolist(), places.tolist()) == (told, [told.index(group) for group in groups])
