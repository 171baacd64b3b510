"""Limits: what is a breach, from when on it counts, and where it ends."""

from __future__ import annotations

from typing import Annotated, Literal, get_args

from pydantic import BaseModel, ConfigDict, Field, model_validator

from balise.api.spans import Duration, seconds

LimitKind = Literal["above", "below", "outside", "unusual", "runs_out_within", "missing_for", "first_seen"]
Side = Literal["above", "below", "both"]
Number = Annotated[float, Field(allow_inf_nan=False)]
Span = Annotated[list[Number], Field(min_length=2, max_length=2, description="lowest and highest")]
KINDS: tuple[LimitKind, ...] = get_args(LimitKind)
_ONLY_FOR: dict[str, tuple[LimitKind, ...]] = {
    "side": ("unusual",),
    "by": ("unusual",),
    "at": ("runs_out_within",),
    "memory": ("first_seen",),
    "clear": ("above", "below", "outside", "unusual", "runs_out_within"),
}


class Limit(BaseModel):
    """One of `above`, `below`, `outside`, `unusual`, `runs_out_within`, `missing_for` and `first_seen`.

    Numbers are in the unit of what is measured. `hold` is how long a breach has to last, `clear` where it ends: a
    number; for `outside` the two of a narrower range; for `runs_out_within` a longer time.
    """

    model_config = ConfigDict(extra="forbid")

    above: Number | None = None
    below: Number | None = None
    outside: Span | None = None
    unusual: Annotated[float, Field(ge=0.5, le=100)] | None = Field(
        default=None, description="so many robust deviations from what is usual at this hour of the week"
    )
    side: Side | None = Field(default=None, description="both, unless given")
    by: Annotated[float, Field(ge=0, allow_inf_nan=False)] | None = Field(
        default=None, description="at least so far from what is usual, in the unit of what is measured"
    )
    runs_out_within: Duration | None = None
    at: Number | None = Field(default=None, description="the value at which it has run out; of shares 1, unless given")
    missing_for: Duration | None = None
    first_seen: Literal[True] | None = None
    memory: Duration | None = Field(default=None, description="what was not seen for so long is new again; 30d")
    hold: Duration = "0s"
    clear: Number | Span | Duration | None = None

    @property
    def kind(self) -> LimitKind:
        return next(kind for kind in KINDS if getattr(self, kind) is not None)

    @model_validator(mode="after")
    def _makes_sense(self) -> Limit:
        said = [kind for kind in KINDS if getattr(self, kind) is not None]
        if len(said) != 1:
            raise ValueError(f"a limit says one thing: write exactly one of {', '.join(KINDS)}")
        for key, kinds in _ONLY_FOR.items():
            if getattr(self, key) is not None and said[0] not in kinds:
                raise ValueError(f"{key} goes with {' and '.join(kinds)}, not with {said[0]}")
        getattr(self, f"_check_{said[0]}", lambda: None)()
        return self

    def _check_above(self) -> None:
        if _number(self.clear) > _number(self.above):
            raise ValueError("clear must not be higher than above, or the alert would clear while it is breached")

    def _check_below(self) -> None:
        if _number(self.clear, self.below) < _number(self.below):
            raise ValueError("clear must not be lower than below, or the alert would clear while it is breached")

    def _check_outside(self) -> None:
        low, high = self.outside or [0.0, 0.0]
        if low >= high:
            raise ValueError("outside is two numbers, the lower one first: outside: [10, 90]")
        if self.clear is not None:
            if not isinstance(self.clear, list):
                raise ValueError("clear of outside is two numbers: clear: [20, 80]")
            if not low <= self.clear[0] <= self.clear[1] <= high:
                raise ValueError("clear must lie within outside, or the alert would clear while it is breached")

    def _check_unusual(self) -> None:
        if not 0 < _number(self.clear, self.unusual) <= _number(self.unusual):
            raise ValueError("clear is a number of deviations, above 0 and not higher than unusual")

    def _check_runs_out_within(self) -> None:
        if not 60 <= seconds(self.runs_out_within or "0s") <= 90 * 86_400:
            raise ValueError("runs_out_within is between 1m and 90d")
        if self.clear is not None:
            if not isinstance(self.clear, str):
                raise ValueError("clear of runs_out_within is a time: clear: 4d")
            if seconds(self.clear) < seconds(self.runs_out_within or "0s"):
                raise ValueError("clear must not be shorter than runs_out_within")

    def _check_missing_for(self) -> None:
        if not 1 <= seconds(self.missing_for or "0s") <= 7 * 86_400:
            raise ValueError("missing_for is between 1s and 7d: what was not heard for a week is no longer expected")

    def _check_first_seen(self) -> None:
        if not 60 <= seconds(self.memory or "30d") <= 400 * 86_400:
            raise ValueError("memory is between 1m and 400d")


def _number(value: object, otherwise: object = float("-inf")) -> float:
    """A number that was given; ValueError for a time or a range where a number belongs."""
    if value is None:
        value = otherwise
    if isinstance(value, int | float):
        return float(value)
    raise ValueError("clear is a number here")


class Limits(BaseModel):
    """What is a warning, and what is critical; at least one of them."""

    model_config = ConfigDict(extra="forbid")

    warning: Limit | None = None
    critical: Limit | None = None

    @property
    def kind(self) -> LimitKind:
        """What they say, which is the same of both."""
        return self.any.kind

    @property
    def both(self) -> list[Limit]:
        """Those there are."""
        return [limit for limit in (self.warning, self.critical) if limit is not None]

    @property
    def any(self) -> Limit:
        """One of them."""
        limit = self.warning or self.critical
        if limit is None:
            raise ValueError("write at least one limit: warning or critical")
        return limit

    @model_validator(mode="after")
    def _go_together(self) -> Limits:
        warning, critical = self.warning, self.critical
        if warning is None or critical is None:
            _ = self.any
            return self
        if warning.kind != critical.kind:
            raise ValueError("warning and critical must both say the same of above, below, outside, …")
        getattr(self, f"_compare_{warning.kind}", lambda *_: None)(warning, critical)
        return self

    @staticmethod
    def _compare_above(warning: Limit, critical: Limit) -> None:
        if _number(critical.above) < _number(warning.above):
            raise ValueError("critical must not be below warning when both say above")

    @staticmethod
    def _compare_below(warning: Limit, critical: Limit) -> None:
        if _number(critical.below) > _number(warning.below):
            raise ValueError("critical must not be above warning when both say below")

    @staticmethod
    def _compare_outside(warning: Limit, critical: Limit) -> None:
        (low, high), (lowest, highest) = warning.outside or [0, 0], critical.outside or [0, 0]
        if lowest > low or highest < high:
            raise ValueError("critical must not be narrower than warning when both say outside")

    @staticmethod
    def _compare_unusual(warning: Limit, critical: Limit) -> None:
        if _number(critical.unusual) < _number(warning.unusual) or (critical.side or "both") != (
            warning.side or "both"
        ):
            raise ValueError("critical must be at least as unusual as warning, and on the same side")

    @staticmethod
    def _compare_runs_out_within(warning: Limit, critical: Limit) -> None:
        if seconds(critical.runs_out_within or "0s") > seconds(warning.runs_out_within or "0s"):
            raise ValueError("critical must not run out within a longer time than warning")

    @staticmethod
    def _compare_missing_for(warning: Limit, critical: Limit) -> None:
        if seconds(critical.missing_for or "0s") < seconds(warning.missing_for or "0s"):
            raise ValueError("critical must not be missing for a shorter time than warning")
