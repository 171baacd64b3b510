"""What bytes of metrics say, learnt once for all who send the same.

The bodies of a fleet differ in little but their resource.

A body has groups: a resource and its metrics.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from itertools import accumulate, islice
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from balise.core.series.shapes import Shape
from balise.core.series.wire import MOST_NUMBERS, ReadMetric, Span, TooLarge, Trait, fields, read_metric

I64 = NDArray[np.int64]
FEW = 32


@dataclass(frozen=True)
class Group:
    """A resource and its metrics: where its attributes stand in a body, and where the rest of it does."""

    resource: Span
    start: int
    end: int


@dataclass(eq=False)
class MetricForm:
    """One metric: what it is called, and of each of its numbers what that is."""

    shape: Shape
    digest: bytes
    read: ReadMetric

    @property
    def size(self) -> int:
        """About how many bytes of memory it takes."""
        return self.shape.size + 500 + 150 * len(self.read.slots)


class Likeness(NamedTuple):
    """That of a form with another: the same metrics, of whose numbers those at `places` [n] have `traits[which]`."""

    form: GroupForm
    traits: Sequence[Trait]
    places: I64
    which: I64


@dataclass(eq=False)
class GroupForm:
    """The metrics of a group, read when asked for. `fixed` says that nothing but their numbers ever differs.

    What its bytes say beside their numbers is told by `digest`, or by `mark`, Python's keyed hash of that, where no
    digest was taken.
    """

    shape: Shape
    digest: bytes
    read: Callable[[], Sequence[MetricForm]]
    skipped: int
    fixed: bool
    notes: dict[Hashable, Any] = field(default_factory=dict)
    """What others know of it."""
    like: Likeness | None = None
    mark: int | None = None

    @cached_property
    def metrics(self) -> Sequence[MetricForm]:
        return self.read()

    @cached_property
    def starts(self) -> list[int]:
        """Of each metric the place of its first number among all, and how many there are."""
        return list(accumulate((len(metric.shape) for metric in self.metrics), initial=0))

    @property
    def size(self) -> int:
        """About how many bytes of memory it takes."""
        return self.shape.size + 500 + 16 * len(self.shape)


def groups_of(body: bytes) -> list[Group]:
    """The groups of an ExportMetricsServiceRequest, in order.

    Raises:
        WireError: the bytes are no such request.
    """
    found: list[Group] = []
    for number, kind, start, end in fields(body, 0, len(body)):
        if number != 1 or kind != 2:
            continue
        first = next(fields(body, start, end), None)
        if first is not None and first[:2] == (1, 2):
            found.append(Group(first[2:], first[3], end))
        else:
            resource = next(((at, to) for n, k, at, to in fields(body, start, end) if (n, k) == (1, 2)), (start, start))
            found.append(Group(resource, start, end))
        if len(found) > MOST_NUMBERS:
            raise TooLarge(MOST_NUMBERS, "resources")
    return found


def few_groups(body: bytes) -> list[Group] | None:
    """The groups of a body that has a few of them and nothing else, each with its resource first, as senders write
    them; None for any other, which takes longer to look at. Raises WireError as `groups_of` does."""
    found: list[Group] = []
    for number, kind, start, end in fields(body, 0, len(body)):
        first = next(fields(body, start, end), None) if (number, kind) == (1, 2) else None
        if first is None or first[:2] != (1, 2) or len(found) == FEW:
            return None
        found.append(Group(first[2:], first[3], end))
    return found


def form_of(rest: bytes, metric_of: Callable[[bytes], MetricForm]) -> GroupForm:
    """The form of the bytes of a group after its resource, put together from those of its metrics.

    Raises:
        WireError: the bytes are no metrics.
        TooLarge: there are more metrics or numbers than `MOST_NUMBERS`.
    """
    held: list[tuple[int, MetricForm]] = []
    numbers = 0
    for start, end in metrics_in(rest):
        made = metric_of(rest[start:end])
        numbers += len(made.shape)
        if numbers > MOST_NUMBERS:
            raise TooLarge(MOST_NUMBERS, "numbers")
        held.append((start, made))
    shape = Shape.joined((start, made.shape) for start, made in held)
    metrics = [made for _, made in held]
    fixed = not any(made.read.variable for made in metrics)
    skipped = sum(made.read.skipped for made in metrics)
    return GroupForm(shape, shape.digest(rest) if fixed else b"", lambda: metrics, skipped, fixed)


def metric_form_of(chunk: bytes) -> MetricForm:
    """The form of one metric's bytes. Raises WireError for what is none."""
    read = read_metric(chunk, (0, len(chunk)))
    shape = Shape.of(read.slots, read.loose, read.ignored)
    return MetricForm(shape, b"" if read.variable else shape.digest(chunk), read)


def metrics_in(rest: bytes) -> list[Span]:
    """Where the metrics stand in the bytes of a group after its resource. Raises as `form_of`."""
    found: list[Span] = []
    for number, kind, start, end in fields(rest, 0, len(rest)):
        if number == 2 and kind == 2:
            metrics = (f[2:] for f in fields(rest, start, end) if f[:2] == (2, 2))
            found.extend(islice(metrics, MOST_NUMBERS + 1 - len(found)))
            if len(found) > MOST_NUMBERS:
                raise TooLarge(MOST_NUMBERS, "metrics")
    return found
