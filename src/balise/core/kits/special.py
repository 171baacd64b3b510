"""Forms of answers that only one kind of service gives."""

from __future__ import annotations

import json
import re
from collections import Counter, defaultdict
from collections.abc import Mapping
from typing import Any

_CONTENTS = re.compile(r"contents=\{([^{}]*)\}")
_PROPERTY = re.compile(r'([\w.]+)=("[^"]*"|[^,]*)')
_REASON_NUMBERS = re.compile(r"\d{3}[ -]\d\.\d\.\d|\[[0-9a-fA-F.:]+\](?::\d+)?")


class SpecialFormError(ValueError):
    """An answer of another form, in words."""


def beans(text: str) -> list[dict[str, Any]]:
    """The management beans of a Java virtual machine as Tomcat's manager writes them (its "JMX proxy").

    A row for each bean, with the properties of its name (`type`, `name`, …) under them and its attributes over them.
    An attribute asked for alone is one row; of a composite one every part is a column `Attribute.part`, and where it
    has `used` and `max` (or `committed`, when it is not limited) also `Attribute.share`.
    """
    if not text.startswith("OK - "):
        first = text.strip().splitlines()[0] if text.strip() else "nothing"
        raise SpecialFormError(f"the manager says: {first[:200]}")
    if text.startswith("OK - Attribute get"):
        return [_attribute(text)]
    rows: list[dict[str, Any]] = []
    for block in text.replace("\r", "").split("\n\n")[1:]:
        row: dict[str, Any] = {}
        for line in block.splitlines():
            key, there, value = line.partition(": ")
            if not there:
                continue
            if key == "Name" and not row:
                row = {k: v.strip('"') for k, v in _PROPERTY.findall(value.partition(":")[2])}
                row["object"] = value
                continue
            row[key] = value
        if row:
            rows.append(row)
    return rows


def _attribute(text: str) -> dict[str, Any]:
    head, _, value = text.partition(" = ")
    name = head.split(" - ")[2].strip()
    contents = _CONTENTS.search(value)
    if contents is None:
        return {name: value.strip()}
    parts = dict(pair.strip().split("=", 1) for pair in contents[1].split(",") if "=" in pair)
    row: dict[str, Any] = {f"{name}.{key}": held for key, held in parts.items()}
    try:
        limit = float(parts["max"]) if float(parts["max"]) > 0 else float(parts["committed"])
        row[f"{name}.share"] = float(parts["used"]) / limit
    except (KeyError, ValueError, ZeroDivisionError):
        pass
    return row


QUEUES = ("incoming", "active", "deferred", "hold", "maildrop", "corrupt")


def mail_queue(text: str, now: float) -> list[dict[str, Any]]:
    """A row for each queue of a mail server, from what `postqueue -j` says (a JSON object a message)."""
    count: Counter[str] = Counter()
    size: Counter[str] = Counter()
    oldest: dict[str, float] = defaultdict(lambda: now)
    for message in _messages(text):
        queue = str(message.get("queue_name", "other"))
        count[queue] += 1
        size[queue] += int(message.get("message_size") or 0)
        oldest[queue] = min(oldest[queue], float(message.get("arrival_time") or now))
    queues = [q for q in QUEUES if q in count or q in ("active", "deferred")]
    return [{"queue": q, "messages": count[q], "size": size[q], "oldest": max(0.0, now - oldest[q])} for q in queues]


def mail_reasons(text: str) -> list[dict[str, Any]]:
    """Why messages wait and where they were going, the most frequent first."""
    found: Counter[tuple[str, str, str]] = Counter()
    for message in _messages(text):
        for recipient in message.get("recipients") or []:
            if isinstance(recipient, Mapping) and recipient.get("delay_reason"):
                domain = str(recipient.get("address", "")).rpartition("@")[2]
                reason = " ".join(_REASON_NUMBERS.sub("…", str(recipient["delay_reason"])).split())[:200]
                found[(str(message.get("queue_name", "")), domain, reason)] += 1
    return [
        {"messages": n, "queue": queue, "domain": domain, "reason": reason}
        for (queue, domain, reason), n in found.most_common(100)
    ]


def _messages(text: str) -> list[dict[str, Any]]:
    found = []
    for line in text.splitlines():
        try:
            held = json.loads(line)
        except ValueError:
            raise SpecialFormError(f"this is no list of messages in JSON: {line[:100]!r}") from None
        if isinstance(held, dict):
            found.append(held)
    return found
