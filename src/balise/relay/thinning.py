"""Thinning out what is sent on: of each series one point in so long, as it came."""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import dataclass, field
from hashlib import blake2b
from typing import Any

from opentelemetry.proto.collector.metrics.v1.metrics_service_pb2 import ExportMetricsServiceRequest
from opentelemetry.proto.metrics.v1.metrics_pb2 import AggregationTemporality

from balise.core.moments import NS

MOST, MOST_SERIES = 500_000, 20_000
"""Series that are remembered, and those of one sender: the points of others are sent on as they come."""
DELTA = AggregationTemporality.AGGREGATION_TEMPORALITY_DELTA


@dataclass
class Thinned:
    """A body with fewer points; `content` is None when none of them is left. `news` is what `note` takes in once it is
    written."""

    content: bytes | None
    left_out: int = 0
    news: dict[bytes, int] = field(default_factory=dict)


class Thinner:
    """Remembers by sender in which stretch of time each of its series was last sent on.

    What is left are points as they came: the first of each stretch. Counters and cumulative histograms stay exact at
    those moments; of a gauge that is all that is known. Points that are amounts since the one before (delta) are all
    sent on, as leaving one out would lose it.
    """

    def __init__(self) -> None:
        self._sent: OrderedDict[str, dict[bytes, int]] = OrderedDict()
        self._size = 0
        self.left_out = 0

    def of(self, sender: str, body: bytes, every: float, at: int) -> Thinned:
        """What of a body that came `at` a moment, unix nanoseconds, is sent on: each series `every` so many seconds.

        Nothing is remembered until `note`.
        """
        request = ExportMetricsServiceRequest.FromString(body)
        sent, made, left = self._sent.get(sender, {}), Thinned(body), 0
        for group in request.resource_metrics:
            resource = group.resource.SerializeToString(deterministic=True)
            for metric in (metric for scope in group.scope_metrics for metric in scope.metrics):
                kind = metric.WhichOneof("data")
                if kind is None:
                    continue
                held = getattr(metric, kind)
                if getattr(held, "aggregation_temporality", None) != DELTA:
                    whose = blake2b(resource + b"|" + metric.name.encode(), digest_size=8)
                    self._thin(held.data_points, whose, round(every * NS), at, sent, made)
                left += len(held.data_points)
        if made.left_out:
            made.content = request.SerializeToString() if left else None
        return made

    def _thin(self, points: Any, metric: Any, every: int, at: int, sent: dict[bytes, int], made: Thinned) -> None:
        """Takes points out of a list of them, in place."""
        kept = []
        for point in points:
            whose = metric.copy()
            for attribute in sorted(a.SerializeToString(deterministic=True) for a in point.attributes):
                whose.update(attribute)
            key, stretch = whose.digest(), (point.time_unix_nano or at) // every
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
        sent = self._sent.setdefault(sender, {})
        self._size -= len(sent)
        sent.update(thinned.news)
        self._size += len(sent)
        self._sent.move_to_end(sender)
        while self._size > MOST and len(self._sent) > 1:
            self._size -= len(self._sent.popitem(last=False)[1])
