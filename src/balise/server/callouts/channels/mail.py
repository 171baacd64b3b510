"""Incidents as mail: plain text, and HTML that says the same with a picture."""

from __future__ import annotations

import re
from collections.abc import Mapping
from email.message import EmailMessage
from email.utils import formatdate
from pathlib import Path
from typing import Any

from jinja2 import Environment

from balise.core.quantities import STATE, in_words
from balise.server.callouts.channels.channel import Outside
from balise.server.callouts.channels.messages import line_of, told
from balise.store.state.tables import Delivery

COLOURS = {"critical": "#bf2a1e", "warning": "#a86b00", "recovered": "#1c7a4a", "practice": "#0b5a66"}
NO_REPLY = "Nobody reads what is sent to this address: a reply goes nowhere. Act by the link."
LONGEST_SUBJECT = 180
_HTML = Environment(autoescape=True, trim_blocks=True, lstrip_blocks=True).from_string(
    Path(__file__).with_name("mail.html").read_text(encoding="utf-8")
)


def compose(settings: Mapping[str, Any], delivery: Delivery, outside: Outside) -> EmailMessage:
    """The message, with text first and HTML as its alternative. Those of one incident are one thread."""
    message = EmailMessage()
    message["Subject"] = subject_of(delivery)
    message["From"] = settings["sender"]
    message["To"] = ", ".join(settings["to"])
    message["Date"] = formatdate(delivery.created_at)
    message["Message-ID"] = _number(delivery.id)
    before = [_number(number) for number in delivery.content.get("thread", [])]
    if before:
        message["In-Reply-To"], message["References"] = before[-1], " ".join(before)
    message["Auto-Submitted"] = "auto-generated"
    content = told(delivery, outside)
    content.setdefault("link", outside.public_url)
    content["advice"] = [_paragraphs(str(text)) for text in content.get("advice", [])]
    facts = _facts(delivery, content)
    message.set_content(_text(delivery, content, facts))
    picture = outside.chart(delivery) if delivery.kind != "recovered" else None
    values = {
        "headline": subject_of(delivery),
        "facts": facts,
        "content": content,
        "is_over": delivery.kind == "recovered",
        "is_incident": delivery.incident is not None,
        "alerts": _alerts(content),
        "colour": _colour(delivery, content),
        "colours": COLOURS,
        "has_picture": picture is not None,
        "no_reply": NO_REPLY,
    }
    message.add_alternative(_HTML.render(values), subtype="html")
    if picture is not None:
        part = message.get_payload()[1]  # type: ignore[index]
        part.add_related(picture, "image", "png", cid="<chart@balise.invalid>", filename="chart.png")  # type: ignore[union-attr]
    return message


def subject_of(delivery: Delivery) -> str:
    """What a mail is called."""
    content = delivery.content
    if delivery.kind == "console":
        return f"{content.get('severity', '')}: {content.get('about', '')}"
    return " ".join(line_of(delivery).split())[:LONGEST_SUBJECT]


def _paragraphs(text: str) -> str:
    """Text as it was meant: a single line break in a file is only where the file was folded."""
    return re.sub(r"(?<=[^\n])\n(?=[^\n\-*\s])", " ", text.strip())


def _number(delivery: int) -> str:
    return f"<delivery-{delivery}@balise.invalid>"


def _colour(delivery: Delivery, content: Mapping[str, Any]) -> str:
    if content.get("practice"):
        return COLOURS["practice"]
    return COLOURS.get(delivery.kind) or COLOURS.get(str(content.get("severity")), COLOURS["practice"])


def _facts(delivery: Delivery, content: Mapping[str, Any]) -> list[tuple[str, str]]:
    """What is to be known, the most needed first."""
    if delivery.incident is None:
        facts = [("Host", content.get("host")), ("Detail", content.get("detail"))]
        return [(name, str(value)) for name, value in facts if value]
    hosts = content.get("hosts", [])
    more = content.get("host_count", len(hosts)) - len(hosts[:10])
    where = ", ".join(hosts[:10]) + (f" and {more:,} more" if more > 0 else "")
    hurts = "; ".join(f"{one['application']}: {one['how']}" for one in content.get("hurts", []))
    count, left = content.get("alert_count", 0), content.get("open_count", 0)
    facts = [
        ("Whom it hurts", hurts or "no application has a part in it"),
        ("Likely cause", _likely(content)),
        ("Where", where),
        ("Sites", ", ".join(content.get("sites", []))),
        ("Since", _clock(content.get("opened_at"))),
        ("Over since", _clock(content.get("recovered_at")) if delivery.kind == "recovered" else ""),
        ("Alerts", f"{count:,}, {left:,} of them open" if count > 1 else ""),
        ("Who has it", str(content.get("taken_by") or "nobody yet") if delivery.kind != "recovered" else ""),
        ("Why you are told", str(content.get("why", ""))),
    ]
    return [(name, value) for name, value in facts if value]


def _likely(content: Mapping[str, Any]) -> str:
    """The first suspect of the trail in its sentence, and how sure that is."""
    found = content.get("likely")
    return f"{found['sentence']} ({found['sure']:.0%} likely)" if found else ""


def _alerts(content: Mapping[str, Any]) -> list[dict[str, str]]:
    """The worst alerts, each in words."""
    shown = []
    for alert in content.get("alerts", []):
        unit = str(alert.get("unit", ""))
        measured = ""
        if unit != STATE:
            measured = f"{in_words(float(alert['value']), unit)}, limit {in_words(float(alert['limit']), unit)}"
        state = alert["severity"] if alert["state"] == "open" else "recovered"
        held = f"held under alert {alert['held_under']}: {alert['why']}" if alert.get("held_under") else ""
        shown.append({"state": state, "host": alert["host"], "about": alert["about"], "value": measured, "held": held})
    return shown


def _clock(rfc3339: Any) -> str:
    """`_clock("2026-11-23T08:46:00.000Z") == "2026-11-23 08:46:00 UTC"`."""
    return f"{str(rfc3339)[:19].replace('T', ' ')} UTC" if rfc3339 else ""


def _text(delivery: Delivery, content: Mapping[str, Any], facts: list[tuple[str, str]]) -> str:
    if delivery.kind == "test":
        return f"This channel works: incidents will come this way.\n\n{content['link']}\n"
    lines = [subject_of(delivery), "", *(f"{name}: {value}" for name, value in facts)]
    if delivery.incident is not None and delivery.kind != "recovered":
        lines += ["", "I have it, hand over, note, quiet:", content["link"]]
    for advice in content.get("advice", []) if delivery.kind != "recovered" else []:
        lines += ["", "What to do", str(advice)]
    alerts = _alerts(content)
    if alerts:
        lines += ["", "The worst alerts" if content.get("alert_count", 0) > len(alerts) else "Its alerts"]
        lines += [f"- {a['state']}: {a['host']}, {a['about']} {a['value']} {a['held']}".rstrip() for a in alerts]
    also = content.get("also", [])
    if also:
        lines += ["", f"Told together with it: {content.get('also_count', len(also))} more"]
        lines += [f"- {one['severity']}: {one['title']} (incident {one['id']}) {one.get('link', '')}" for one in also]
    if delivery.incident is None or delivery.kind == "recovered":
        lines += ["", str(content["link"])]
    return "\n".join([*lines, "", NO_REPLY, ""])
