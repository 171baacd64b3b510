"""Histograms as they are sent, held to the values that they were made of."""

from __future__ import annotations

import asyncio
import math
import time
from bisect import bisect_left
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import UTC, datetime
from itertools import count

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest

from balise.api.metrics import MetricQuery
from balise.core.moments import NS
from balise.server.life import close
from balise.server.parts import Parts, build
from balise.server.people.access import Principal
from balise.server.settings import Settings
from running import often

EXPLICIT = [0.1, 1.0, 5.0, 20.0, 100.0]
HOUR = 3600
numbers = count()


@pytest.fixture(scope="module")
def console(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Parts]:
    made = build(Settings(data=tmp_path_factory.mktemp("data")))
    yield made
    close(made)


@dataclass
class Sender:
    """Records values, and tells of them as OpenTelemetry's data model says."""

    name: str
    exponential: bool
    scale: int
    cumulative: bool
    signed: bool
    """Whether values may be below 0: the data model has no sum then."""
    told: list[float] = field(default_factory=list)
    """What a delivery tells of: everything so far, or what is new."""

    def deliver(self, values: list[float], at: int) -> bytes:
        self.told = [*self.told, *values] if self.cumulative else values
        request = ExportMetricsServiceRequest()
        group = request.resource_metrics.add()
        group.resource.attributes.add(key="host.name").value.string_value = "gate"
        metric = group.scope_metrics.add().metrics.add(name=self.name, unit="s")
        held = metric.exponential_histogram if self.exponential else metric.histogram
        held.aggregation_temporality = 2 if self.cumulative else 1
        point = held.data_points.add(time_unix_nano=at * NS, count=len(self.told))
        if not self.signed:
            point.sum = sum(self.told)
        if not self.exponential:
            point.explicit_bounds.extend(EXPLICIT)
            found = Counter(bisect_left(EXPLICIT, value) for value in self.told)
            point.bucket_counts.extend(found[n] for n in range(len(EXPLICIT) + 1))
            return request.SerializeToString()
        point.scale = self.scale
        point.zero_count = self.told.count(0.0)
        for buckets, sign in ((point.positive, 1), (point.negative, -1)):
            places = Counter(self._place(sign * value, self.scale) for value in self.told if sign * value > 0)
            if places:
                buckets.offset = min(places)
                buckets.bucket_counts.extend(places[n] for n in range(min(places), max(places) + 1))
        return request.SerializeToString()

    def _place(self, value: float, scale: int) -> int:
        """The n for which `(base ** n, base ** (n + 1)]` holds the value, with base 2 ** (2 ** -scale)."""
        return math.ceil(math.log2(value) * 2**scale) - 1

    def bucket(self, value: float) -> tuple[float, float]:
        """The bounds between which only the value is known to lie."""
        if not self.exponential:
            n = bisect_left(EXPLICIT, value)
            return ([0.0, *EXPLICIT][n], EXPLICIT[n] if n < len(EXPLICIT) else EXPLICIT[-1])
        if value == 0:
            return 0.0, 0.0
        # Finer buckets are kept as those of scale 2.
        scale = min(self.scale, 2)
        low, high = (2.0 ** ((self._place(abs(value), scale) + end) / 2**scale) for end in (0, 1))
        return (low, high) if value > 0 else (-high, -low)


PLAIN = [0.05, 0.3, 0.7, 1.5, 3.0, 7.0, 13.0, 60.0, 150.0, 700.0]
SIGNED = [-90.0, -1.3, -0.3, 0.0, 0.3, 1.3, 3.0, 11.0, 13.0, 600.0]


@settings(max_examples=often(60), deadline=None)
@given(
    exponential=st.booleans(),
    scale=st.integers(-1, 3),
    cumulative=st.booleans(),
    signed=st.booleans(),
    turns=st.lists(st.lists(st.integers(0, 9), max_size=8), min_size=2, max_size=6),
    sealed_after=st.integers(0, 6),
)
def test_what_a_histogram_answers_is_true_of_its_values(
    console: Parts,
    exponential: bool,
    scale: int,
    cumulative: bool,
    signed: bool,
    turns: list[list[int]],
    sealed_after: int,
) -> None:
    """Count and sum are exact, and a percentile lies in the bucket of the value that has its rank; buckets may come
    and be new at any turn, and some of it may be sealed."""
    signed = signed and exponential
    sender = Sender(f"took.{next(numbers)}", exponential, scale, cumulative, signed)
    recorded = [[(SIGNED if signed else PLAIN)[place] for place in turn] for turn in turns]
    start = (int(time.time()) // HOUR - 1) * HOUR
    for turn, values in enumerate(recorded):
        body = sender.deliver(values, start + 600 + 30 * turn)
        taking = console.metric_intake.take(Principal("token", "ingest", None), body, as_json=False)

        async def taken(taking: object = taking) -> None:
            await taking  # type: ignore[misc]

        asyncio.run(taken())
        if turn + 1 == sealed_after:
            console.series.seal((start + HOUR) * NS)
    # What a cumulative one had counted when it was first heard may be of any time before.
    fresh = [value for values in recorded[cumulative:] for value in values]

    def ask(take: str) -> float | None:
        first, last = (datetime.fromtimestamp(at, UTC).isoformat() for at in (start, start + HOUR))
        span = {"from": first, "to": last, "step": "1h"}
        query = MetricQuery.model_validate({"metric": sender.name, "take": take, "by": [], **span})
        return console.metrics.ask(query).series[0].values[-1]

    assert (ask("count") or 0.0) == len(fresh)
    if not fresh:
        assert ask("p50") is None
        return
    assert ask("sum") == (None if signed else pytest.approx(sum(fresh)))
    assert ask("avg") == (None if signed else pytest.approx(sum(fresh) / len(fresh)))
    for take, quantile in (("p50", 0.5), ("p90", 0.9), ("p99", 0.99)):
        ranked = sorted(fresh)[math.ceil(quantile * len(fresh) - 1e-9) - 1]
        low, high = sender.bucket(ranked)
        answer = ask(take)
        assert answer is not None
        assert low - 1e-9 <= answer <= high + 1e-9, (take, ranked, fresh)
