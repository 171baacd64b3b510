"""Thinning out what is sent on: of each series one point in so long, as it came."""

from __future__ import annotations

from collections import OrderedDict
from collections.abc import Iterator
from dataclasses import dataclass, field
from hashlib import blake2b
from typing import Any

from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest
from opentelemetry.proto.metrics.v1.metrics_pb2 import AggregationTemporality, Metric

from balise.core.moments import NS

MOST_SENDERS, MOST_SERIES = 5_000, 20_000
"""Senders whose series are remembered, and series of one of them: beyond that points are sent on as they come."""
DELTA = AggregationTemporality.AGGREGATION_TEMPORALITY_DELTA


@dataclass
class Thinned:
    """A body with fewer points; `content` is None when none of them is left. `news` is what `note` takes in once it is
    written."""

    content: bytes | None
    left_out: int
    news: dict[bytes, int] = field(default_factory=dict)


class Thinner:
    """Remembers by sender in which stretch of time each of its series was last sent on.

    What is left are points as they came: the first of each stretch. Counters and cumulative histograms stay exact at
    those moments; of a gauge that is all that is known. Points that are amounts since the one before (delta) are all
    sent on, as leaving one out would lose it.
    """

    def __init__(self) -> None:
        self._sent: OrderedDict[str, dict[bytes, int]] = OrderedDict()
        self.left_out = 0

    def of(self, sender: str, body: bytes, every: float) -> Thinned:
        """What of a body is sent on, `every` so many seconds. Nothing is remembered until `note`."""
        request = ExportMetricsServiceRequest.FromString(body)
        sent, made = self._sent.get(sender, {}), Thinned(None, 0)
        for group in request.resource_metrics:
            of_group = blake2b(group.resource.SerializeToString(deterministic=True), digest_size=8)
            for scope in group.scope_metrics:
                for metric in scope.metrics:
                    for points in _points(metric):
                        self._thin(points, of_group.copy(), metric.name, round(every * NS), sent, made)
        if made.left_out == 0:
            made.content = body
        elif any(points for points in _all_points(request)):
            made.content = request.SerializeToString()
        return made

    def _thin(self, points: Any, told: Any, name: str, every: int, sent: dict[bytes, int], made: Thinned) -> None:
        """Takes points out of a list of them, in place."""
        told.update(name.encode())
        kept = []
        for point in points:
            whose = told.copy()
            for attribute in sorted(a.SerializeToString(deterministic=True) for a in point.attributes):
                whose.update(attribute)
            key, stretch = whose.digest(), point.time_unix_nano // every
            if made.news.get(key, sent.get(key)) == stretch:
                made.left_out += 1
                continue
            if key in sent or len(sent) + len(made.news) < MOST_SERIES:
                made.news[key] = stretch
            kept.append(point)
        if len(kept) < len(points):
            copies = [type(point).FromString(point.SerializeToString()) for point in kept]
            del points[:]
            points.extend(copies)

    def note(self, sender: str, thinned: Thinned) -> None:
        """What was sent on is written."""
        self.left_out += thinned.left_out
        self._sent.setdefault(sender, {}).update(thinned.news)
        self._sent.move_to_end(sender)
        while len(self._sent) > MOST_SENDERS:
            self._sent.popitem(last=False)


def _points(metric: Metric) -> Iterator[Any]:
    """The lists of points of a metric that can be thinned out."""
    kind = metric.WhichOneof("data")
    if kind is None:
        return
    held = getattr(metric, kind)
    if getattr(held, "aggregation_temporality", None) != DELTA:
        yield held.data_points


def _all_points(request: ExportMetricsServiceRequest) -> Iterator[Any]:
    for group in request.resource_metrics:
        for scope in group.scope_metrics:
            for metric in scope.metrics:
                kind = metric.WhichOneof("data")
                if kind is not None:
                    yield getattr(metric, kind).data_points
