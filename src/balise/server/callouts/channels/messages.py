"""What is told, in the forms that several kinds of channels send."""

from __future__ import annotations

from typing import Any

from balise.api.spans import rfc3339
from balise.server.callouts.channels.channel import Outside
from balise.store.state.tables import Delivery

_TYPES = {"test": "balise.test", "console": "balise.console"}


def told(delivery: Delivery, outside: Outside) -> dict[str, Any]:
    """What a delivery tells, with the link by which whoever gets it acts.

    `link` is the page, at the address by which people reach the console, of an alert or to act on an incident.
    """
    content = dict(delivery.content)
    if delivery.incident is not None:
        content["link"] = outside.link(delivery)
        content["text"] = line_of(delivery)
        also = content.get("also", [])
        content["also"] = [{**other, "link": f"{outside.public_url}/incidents/{other['id']}"} for other in also]
    elif delivery.alert is not None:
        content["link"] = f"{outside.public_url}/alerts/{content.get('id')}"
    return content


def for_template(delivery: Delivery, outside: Outside) -> dict[str, Any]:
    """What is told, with all that a template of incidents may ask for, also where a test or news of the console has
    less."""
    line = line_of(delivery)
    blank = {
        "title": line,
        "text": line,
        "severity": "warning",
        "link": outside.public_url,
        "why": "",
        "taken_by": None,
    }
    lists: dict[str, Any] = {name: [] for name in ("hosts", "alerts", "hurts", "advice", "sites", "also")}
    counts = dict.fromkeys(("id", "host_count", "alert_count", "open_count", "also_count"), 0)
    return {**blank, **lists, **counts, "kind": delivery.kind, **told(delivery, outside)}


def cloud_event(delivery: Delivery, outside: Outside) -> dict[str, Any]:
    """What is told as a CloudEvent 1.0; the id is the same at every try, so that a receiver can tell a repeat."""
    about = "incident" if delivery.incident is not None else "alert"
    subject = f"incident {delivery.incident}" if delivery.incident is not None else delivery.content.get("host", "")
    return {
        "specversion": "1.0",
        "id": f"delivery-{delivery.id}",
        "source": "/balise",
        "type": _TYPES.get(delivery.kind) or f"balise.{about}.{delivery.kind}",
        "subject": str(subject),
        "time": rfc3339(delivery.created_at),
        "datacontenttype": "application/json",
        "data": told(delivery, outside),
    }


def line_of(delivery: Delivery) -> str:
    """What is told in one line: `critical: A service is down: redis on db-1, touches Booking (incident 12)`."""
    content = delivery.content
    if delivery.kind == "test":
        return "Balise: a test of this channel"
    if delivery.incident is None:
        return f"{content.get('severity', '')}: {content.get('host', '')} {content.get('about', '')}".strip()
    practice = "PRACTICE, nothing is wrong: " if content.get("practice") else ""
    word = "over" if delivery.kind == "recovered" else str(content.get("severity", ""))
    again = "again, " if delivery.kind == "changed" else ""
    also = content.get("also_count") or 0
    more = f", and {also} more incidents" if also > 1 else ", and 1 more incident" if also else ""
    return f"{practice}{again}{word}: {content.get('title', '')} (incident {content.get('id')}){more}"
