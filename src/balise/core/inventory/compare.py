"""What is other: between two collections, two hosts, or a host and its group."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

Item = Mapping[str, Any]
SINGULAR = {
    "packages": "package", "accounts": "account", "groups": "group", "ports": "port", "units": "unit",
    "schedules": "scheduled job", "volumes": "volume", "interfaces": "interface", "routes": "route",
    "certificates": "certificate", "boot": "boot setting", "configuration": "setting",
}  # fmt: skip
_QUIET = {"pem", "state"}
"""Fields whose change alone is no change of the thing."""
MOST_SHOWN = 400


@dataclass(frozen=True)
class Change:
    """One difference between two collections; `before` or `after` is None for what was added or removed."""

    name: str
    before: Item | None
    after: Item | None

    @property
    def what(self) -> str:
        return "added" if self.before is None else "removed" if self.after is None else "changed"


def by_name(items: Iterable[Item]) -> dict[str, dict[str, Any]]:
    """Items by their names, each without its own."""
    return {
        str(item["name"])[:300]: {k: v for k, v in item.items() if k != "name"} for item in items if item.get("name")
    }


def changes(before: Mapping[str, Item], after: Mapping[str, Item]) -> list[Change]:
    """What differs between two collections, by name."""
    found = []
    for name in sorted(before.keys() | after.keys()):
        old, new = before.get(name), after.get(name)
        if old is None or new is None or _told(old) != _told(new):
            found.append(Change(name, old, new))
    return found


def _told(item: Item) -> dict[str, Any]:
    return {k: v for k, v in item.items() if k not in _QUIET}


def sentence(kind: str, change: Change) -> str:
    """A change as people read it: `package openssl: version 3.0.1 → 3.0.2`."""
    what = f"{SINGULAR.get(kind, kind)} {change.name}"
    if change.before is None and change.after is not None:
        return f"{what} was added{_in_brackets(change.after)}"
    if change.after is None and change.before is not None:
        return f"{what} was removed{_in_brackets(change.before)}"
    old, new = change.before or {}, change.after or {}
    parts = [
        f"{key} {_short(old.get(key))} → {_short(new.get(key))}"
        for key in sorted(_told(old).keys() | _told(new).keys())
        if old.get(key) != new.get(key)
    ]
    return f"{what}: {', '.join(parts)}"[:1000]


def _in_brackets(item: Item) -> str:
    told = shown(item)
    return f" ({told})" if told else ""


def shown(item: Item) -> str:
    """An item in one line, the field most looked at first."""
    fields = {k: v for k, v in item.items() if k not in _QUIET and v not in (None, "", [])}
    if set(fields) == {"value"} or set(fields) == {"version"}:
        return _short(next(iter(fields.values())))
    return ", ".join(f"{k} {_short(v)}" for k, v in fields.items())[:MOST_SHOWN]


def _short(value: Any) -> str:
    if value is None:
        return "none"
    if isinstance(value, list):
        return " ".join(map(str, value))[:120] or "none"
    text = value if isinstance(value, str) else json.dumps(value)
    return text if len(text) <= 120 else text[:119] + "…"


def most_common(hosts: Iterable[Mapping[str, str]]) -> dict[str, str]:
    """What each thing is on most of several hosts; a thing that most do not have is left out.

    Args:
        hosts: for each host the things it has, as they are shown, by name.
    """
    held = list(hosts)
    counts: dict[str, Counter[str]] = {}
    for one in held:
        for name, value in one.items():
            counts.setdefault(name, Counter())[value] += 1
    return {name: found.most_common(1)[0][0] for name, found in counts.items() if sum(found.values()) * 2 > len(held)}
