"""Stacking plans: from the general to the particular, each setting with the plan it came from."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

from balise.api.limits import Limits
from balise.api.parts import COLLECTORS, CollectorSetting, EffectivePlan, default_setting
from balise.api.plans import CollectorPlan, DirectoriesPlan, JournalPlan, PlanBody, PlanSums, Setting, UnitsPlan
from balise.api.remote import FollowedFile
from balise.api.spans import duration_text, seconds
from balise.core import filters
from balise.core.rule_words import limits_in_words

DEFAULTS = "Balise"
"""What is named as the source of a setting that no plan has."""
DEFAULT_EVERY = 15.0
OFF: Literal["off"] = "off"
"""What holds of a rule on a host where it is snoozed."""


@dataclass(frozen=True)
class HostView:
    """What has to be known of a host: its groups with those above them, and what a filter may ask."""

    name: str
    groups: Sequence[str]
    lookup: Callable[[str], Any]


@dataclass(frozen=True)
class NamedPlan:
    name: str
    body: PlanBody


@dataclass
class Stacked:
    """What holds for one host."""

    every: float = DEFAULT_EVERY
    collectors: dict[str, CollectorSetting] = field(default_factory=dict)
    follow: dict[str, FollowedFile] = field(default_factory=dict)
    limits: dict[str, Limits] = field(default_factory=dict)
    snoozed: set[str] = field(default_factory=set)
    runs_on: str = ""
    thin: float | None = None
    """Seconds in which a relay sends on one point of each series."""
    sums: PlanSums | None = None
    sources: dict[str, str] = field(default_factory=dict)
    plans: list[str] = field(default_factory=list)

    def effective(self) -> EffectivePlan:
        """What whoever collects has to know of it."""
        return EffectivePlan(
            every=self.every,
            collectors=dict(sorted(self.collectors.items())),
            follow=[self.follow[path] for path in sorted(self.follow)],
            sources=dict(sorted(self.sources.items())),
        )

    def settings(self) -> list[Setting]:
        """Every setting as people read it, with its plan."""
        found = {"collect.every": duration_text(self.every)}
        for name in COLLECTORS:
            found[f"collect.{name}"] = _setting_text(self.collectors.get(name) or default_setting(name))
        for path, file in sorted(self.follow.items()):
            found[f"follow {path}"] = _how_followed(file)
        for rule, limits in sorted(self.limits.items()):
            found[f"limits.{rule}"] = limits_in_words(limits, "")
        for rule in sorted(self.snoozed):
            found[f"limits.{rule}"] = OFF
        if self.thin is not None:
            found["relay.thin"] = duration_text(self.thin)
        if self.sums is not None:
            found["relay.sums"] = _how_summed(self.sums)
        if self.runs_on:
            found["runs_on"] = self.runs_on
        return [Setting(setting=k, value=v, plan=self.sources.get(k, DEFAULTS)) for k, v in found.items()]


def is_for(body: PlanBody, host: HostView) -> bool:
    """Whether a plan is for a host."""
    who = body.for_
    if who.host is not None:
        return who.host == host.name
    if who.groups is not None:
        return bool(set(who.groups) & set(host.groups))
    return who.hosts is None or filters.matches(filters.parse(who.hosts), host.lookup)


def particularity(plan: NamedPlan, depth: Callable[[str], int]) -> tuple[int, int, int, str]:
    """How particular a plan is: for all, groups (a deeper one more so), a filter, one host; then its order."""
    who = plan.body.for_
    if who.host is not None:
        rank = (3, 0)
    elif who.hosts is not None:
        rank = (2, 0)
    elif who.groups is not None:
        rank = (1, max(depth(group) for group in who.groups))
    else:
        rank = (0, 0)
    return (*rank, plan.body.order, plan.name)


def in_order(plans: Iterable[NamedPlan], depth: Callable[[str], int]) -> list[NamedPlan]:
    """From the general to the particular. `depth` is how many groups are above a group."""
    return sorted(plans, key=lambda plan: particularity(plan, depth))


def stack(plans: Iterable[NamedPlan], host: HostView) -> Stacked:
    """What holds for a host: plans in order, each laid over those before it."""
    out = Stacked()
    for plan in plans:
        if is_for(plan.body, host):
            out.plans.append(plan.name)
            _lay_over(out, plan)
    return out


def _lay_over(out: Stacked, plan: NamedPlan) -> None:
    body = plan.body
    if body.collect.every is not None:
        out.every = seconds(body.collect.every)
        out.sources["collect.every"] = plan.name
    for name in COLLECTORS:
        said = getattr(body.collect, name)
        if said is not None:
            out.collectors[name] = _setting(name, said)
            out.sources[f"collect.{name}"] = plan.name
    if body.relay.thin is not None:
        out.thin = seconds(body.relay.thin)
        out.sources["relay.thin"] = plan.name
    if body.relay.sums is not None:
        out.sums = body.relay.sums
        out.sources["relay.sums"] = plan.name
    if body.runs_on is not None:
        out.runs_on = body.runs_on
        out.sources["runs_on"] = plan.name
    for file in body.follow:
        key = f"follow {file.path}"
        if file.stop:
            out.follow.pop(file.path, None)
            out.sources.pop(key, None)
        else:
            out.follow[file.path] = FollowedFile.model_validate(file.model_dump(exclude={"stop", "filter"}))
            out.sources[key] = plan.name
    for rule, limits in body.limits.items():
        held = out.limits.get(rule)
        out.limits[rule] = laid_over(held, limits) if held else limits
        out.sources[f"limits.{rule}"] = plan.name
    for rule in body.snooze:
        out.snoozed.add(rule)
        out.sources[f"limits.{rule}"] = plan.name


def _setting(name: str, said: bool | CollectorPlan | UnitsPlan | DirectoriesPlan | JournalPlan) -> CollectorSetting:
    """What a plan says of a part; how often, when it does not say, is the part's own matter."""
    usual = default_setting(name).every
    if isinstance(said, bool):
        return CollectorSetting(on=said, every=usual if said else None)
    return CollectorSetting(
        every=seconds(said.every) if said.every else usual,
        watch=said.watch if isinstance(said, UnitsPlan) else [],
        paths=said.paths if isinstance(said, DirectoriesPlan | JournalPlan) else [],
    )


def _setting_text(held: CollectorSetting) -> str:
    if not held.on:
        return "off"
    often = "on" if held.every is None else f"every {duration_text(held.every)}"
    return ", ".join([often, *([f"watching {' '.join(held.watch)}"] if held.watch else []), *held.paths])


def laid_over(held: Limits, over: Limits) -> Limits:
    """A severity that the more particular plan leaves out stays; one that would contradict it goes."""
    try:
        return Limits(warning=over.warning or held.warning, critical=over.critical or held.critical)
    except ValueError:
        return over


def differences(before: Stacked, after: Stacked) -> list[tuple[str, str, str]]:
    """Settings that differ: name, as it was, as it would be; `-` where there is none."""
    old = {s.setting: s.value for s in before.settings()}
    new = {s.setting: s.value for s in after.settings()}
    return [(k, old.get(k, "-"), new.get(k, "-")) for k in sorted(old | new) if old.get(k) != new.get(k)]


def _how_summed(sums: PlanSums) -> str:
    """`system.network.io, balise.cpu.*, each 1m; no points of their own`."""
    said = f"{', '.join(sums.metrics)}, each {sums.every}"
    return f"{said}; no points of their own" if sums.only else said


def _how_followed(file: FollowedFile) -> str:
    """`from its end; form json; 1 mask`."""
    said = ["from its start" if file.from_start else "from its end"]
    if file.encoding != "utf-8":
        said.append(file.encoding)
    if file.first_line is not None or file.indented:
        said.append("records of several lines")
    if file.parser is not None:
        said.append(f"form {file.parser.form}")
    if file.mask:
        said.append("1 mask" if len(file.mask) == 1 else f"{len(file.mask)} masks")
    return "; ".join(said)
