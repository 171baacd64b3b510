"""Kits as documents: read with line and column, checked against themselves, compared version with version."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any
from urllib.parse import urlsplit

import yaml

from balise.api.kit_documents import KitChange, KitCheck, KitDocument
from balise.api.kits import KitField, KitReading, Target
from balise.api.places import is_nobodys
from balise.api.spans import seconds
from balise.core import filters
from balise.core.documents import LOADER, DocumentError, place_of, read_document
from balise.core.kits.forms import FormError, compiled, select
from balise.core.kits.rows import meanings_of

MOST_EVERY = 86_400.0


def read_kit(text: str) -> KitDocument:
    """A kit from its YAML.

    Raises:
        DocumentError: with line and column of everything that is wrong.
    """
    kit = read_document(text, KitDocument)
    node = yaml.compose(text, Loader=LOADER)
    if node is None:
        return kit
    problems = [(place_of(node, path), _dotted(path), f"{_dotted(path)}: {detail}") for path, detail in faults(kit)]
    if problems:
        raise DocumentError(problems)
    return kit


def check_kit(name: str, text: str) -> KitCheck:
    """What is wrong with a kit's text, if anything."""
    try:
        kit = read_kit(text)
    except DocumentError as error:
        return KitCheck(kit=name, good=False, problems=error.told())
    return KitCheck(kit=kit.kit, version=kit.version, good=True, problems=[])


def _dotted(path: tuple[Any, ...]) -> str:
    return ".".join(str(part) for part in path)


Fault = tuple[tuple[Any, ...], str]


def faults(kit: KitDocument) -> Iterator[Fault]:
    """What a kit says that does not hold together: the path to it, and what is wrong."""
    collected = meanings_of(kit)
    names = [part.part for part in kit.read]
    for number, part in enumerate(kit.read):
        at = ("read", number)
        if part.part in names[:number]:
            yield (*at, "part"), f"there is a part {part.part!r} already"
        if part.every is not None and not 5 <= seconds(part.every) <= MOST_EVERY:
            yield (*at, "every"), "between 5s and 1d"
        if not (part.metrics or part.free or part.samples or part.facts or part.keep or part.sessions
                or part.configuration):  # fmt: skip
            yield (*at, "part"), "this part gives nothing: say what its rows mean (metrics, facts, keep, …)"
        yield from _ask_faults((*at, "ask"), part.ask)
        for metric in part.metrics:
            if not kit.generic and not metric.startswith((f"{kit.kit}.", f"{kit.kit.split('-')[-1]}.")) \
                    and metric.split(".")[0] not in _STANDARD:  # fmt: skip
                yield (*at, "metrics", metric), f"a kit's metrics are called {kit.kit}.something"
        if part.configuration and set(part.configuration) != {"name", "value"}:
            yield (*at, "configuration"), "say both columns: name and value"
        if part.each is not None and part.each.field not in kit.target:
            yield (*at, "each", "field"), f"the target has no field {part.each.field!r}"
    for number, log in enumerate(kit.logs):
        if log.form == "regex":
            yield from _pattern_faults(("logs", number, "pattern"), log.pattern)
    for number, rule in enumerate(kit.rules):
        at = ("rules", number)
        if rule.rule is None:
            yield at, "a rule needs a name (rule: …)"
        for value in rule.measure.parts.values():
            if value.metric not in collected and not value.metric.startswith("balise."):
                yield (*at, "measure", "metric"), f"the kit collects nothing called {value.metric!r}"
            yield from _filter_faults((*at, "measure", "where"), value.where)
        measured = rule.measure
        for key, text in (("hosts", rule.hosts), ("events", measured.events), ("alerts", measured.alerts)):
            yield from _filter_faults((*at, key), text)
    for number, chart in enumerate(kit.charts):
        # What parts of a system tell is not said in kits.
        if chart.metric not in collected and not kit.system:
            yield ("charts", number, "metric"), f"the kit collects nothing called {chart.metric!r}"
        yield from _filter_faults(("charts", number, "where"), chart.where)
    for name, field in kit.target.items():
        if field.kind == "choice" and not field.choices:
            yield ("target", name, "choices"), "a choice needs choices"


_STANDARD = {"system", "process", "http", "db", "jvm", "messaging", "dns", "container", "hw", "k8s", "balise"}
"""First words of the OTLP semantic conventions' own names."""


def _ask_faults(at: tuple[Any, ...], ask: Mapping[str, Any]) -> Iterator[Fault]:
    if ask.get("form") == "pattern":
        yield from _pattern_faults((*at, "pattern"), str(ask.get("pattern") or ""))
    if ask.get("form") == "json" and ask.get("rows") and not str(ask["rows"]).startswith("{"):
        try:
            select({}, str(ask["rows"]))
        except FormError as error:
            yield (*at, "rows"), str(error)


def _pattern_faults(at: tuple[Any, ...], pattern: str) -> Iterator[Fault]:
    try:
        if not compiled(pattern).groupindex:
            yield at, "the pattern names no group: (?P<name>…)"
    except FormError as error:
        yield at, str(error)


def _filter_faults(at: tuple[Any, ...], text: str | None) -> Iterator[Fault]:
    if text is None:
        return
    try:
        filters.parse(text)
    except ValueError as error:
        yield at, str(error)


class TargetError(ValueError):
    """A target that does not fit its kit: which field, and what is wrong with it."""

    def __init__(self, field: str, detail: str) -> None:
        super().__init__(f"{field}: {detail}")
        self.field = field
        self.detail = detail


def whole_target(kit: KitReading, target: Mapping[str, Any], *, here: bool) -> Target:
    """A target with its defaults, each field of the right kind.

    Args:
        here: whether whoever reads it is on the service's own host; only then is loopback the default address.

    Raises:
        TargetError: a field is missing, unknown or of another kind.
    """
    unknown = next((name for name in target if name not in kit.target), None)
    if unknown is not None:
        known = ", ".join(kit.target) or "none"
        raise TargetError(f"target.{unknown}", f"the kit {kit.kit} has no such field; it has {known}")
    out: Target = {}
    for name, field in kit.target.items():
        held = target.get(name)
        if held is None or held == "":
            held = field.default if field.kind != "address" or here else None
        if held is None:
            if field.needed and field.kind != "address":
                raise TargetError(f"target.{name}", f"is missing: {field.about}")
            continue
        out[name] = _field(f"target.{name}", field, held)
    return out


def _field(name: str, field: KitField, held: Any) -> Any:
    if field.kind in ("port", "number"):
        try:
            number = float(held)
        except (TypeError, ValueError):
            raise TargetError(name, f"{str(held)[:60]!r} is no number") from None
        if field.kind == "port" and not (number == int(number) and 1 <= number <= 65_535):
            raise TargetError(name, "a port is a whole number from 1 to 65535")
        return int(number) if number == int(number) else number
    if field.kind == "flag":
        if isinstance(held, bool):
            return held
        if str(held).lower() in ("true", "yes", "1", "false", "no", "0"):
            return str(held).lower() in ("true", "yes", "1")
        raise TargetError(name, "yes or no")
    text = str(held)
    if len(text) > 4000 or "\x00" in text or (field.kind != "text" and any(c in text for c in "\r\n")):
        raise TargetError(name, "this is too long, or has a line end in it")
    if field.kind == "choice" and text not in field.choices:
        raise TargetError(name, f"one of {', '.join(field.choices)}")
    if field.kind == "url":
        _url(name, text)
    if field.kind == "address" and is_nobodys(text):
        raise TargetError(name, "link-local, multicast or reserved: give the address of a server")
    return text


def _url(name: str, text: str) -> None:
    try:
        parts = urlsplit(text)
        _ = parts.port
    except ValueError:
        raise TargetError(name, "this is no URL") from None
    if parts.scheme not in ("http", "https") or not parts.hostname:
        raise TargetError(name, "a URL begins with http:// or https:// and has a host")
    if parts.username or parts.password:
        raise TargetError(name, "no name and password in the URL: use a credential of kind login")
    if is_nobodys(parts.hostname):
        raise TargetError(name, "link-local, multicast or reserved: give the address of a server")


def changes(before: KitDocument, after: KitDocument) -> list[KitChange]:
    """What another version of a kit changes, line by line for people."""
    old, new = _said(before), _said(after)
    return [
        KitChange(what=what, before=old.get(what, "-"), after=new.get(what, "-"))
        for what in sorted(old | new)
        if old.get(what) != new.get(what)
    ]


def _said(kit: KitDocument) -> dict[str, str]:
    found = {"version": kit.version, "interval": kit.every}
    for name, meaning in meanings_of(kit).items():
        tells = "" if meaning.tells is None else f", tells of {meaning.tells}"
        found[f"metric {name}"] = f"{meaning.kind} in {meaning.unit}{tells}: {meaning.about}"
    for part in kit.read:
        found[f"part {part.part}"] = _short(part.model_dump(exclude_defaults=True, exclude={"metrics", "part"}))
    for rule in kit.rules:
        found[f"rule {rule.rule}"] = _short(rule.model_dump(exclude_none=True, exclude={"rule", "advice"}))
    for log in kit.logs:
        found[f"log {log.log}"] = _short(log.model_dump(exclude_defaults=True))
    for chart in kit.charts:
        found[f"chart {chart.title}"] = chart.metric
    if kit.grant is not None:
        found["grant"] = " ".join(kit.grant.statements.split())[:300]
    return found


def _short(held: Any) -> str:
    text = yaml.safe_dump(held, default_flow_style=True, width=10_000, sort_keys=True).strip()
    return text if len(text) <= 300 else text[:299] + "…"
