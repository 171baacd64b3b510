"""Alerts as mail: plain text, and HTML that says the same."""

from __future__ import annotations

from email.message import EmailMessage
from email.utils import formatdate
from html import escape
from typing import Any

from balise.core.quantities import STATE, in_words

COLOURS = {"critical": "#bf2a1e", "warning": "#a86b00", "recovered": "#1c7a4a", "test": "#0b5a66"}


def _facts(content: dict[str, Any]) -> list[tuple[str, str]]:
    unit = str(content.get("unit", ""))
    facts = [
        ("Host", str(content.get("host", ""))),
        *((k, str(v)) for k, v in dict(content.get("attributes", {})).items()),
        *([] if unit == STATE else _measured(content, unit)),
        ("Clue", str(content.get("clue") or "")),
        ("Opened", _clock(content.get("opened_at"))),
    ]
    if content.get("recovered_at"):
        facts.append(("Recovered", _clock(content["recovered_at"])))
    return [(k, v) for k, v in facts if v]


def _measured(content: dict[str, Any], unit: str) -> list[tuple[str, str]]:
    return [
        ("Measured", f"{content.get('metric', '')} = {in_words(float(content.get('value', 0)), unit)}"),
        ("Limit", in_words(float(content.get("limit", 0)), unit)),
    ]


def _clock(rfc3339: Any) -> str:
    """`_clock("2026-11-23T08:46:00.000Z") == "2026-11-23 08:46:00 UTC"`."""
    return f"{str(rfc3339)[:19].replace('T', ' ')} UTC" if rfc3339 else ""


def subject_of(kind: str, content: dict[str, Any]) -> str:
    if kind == "test":
        return "Balise: a test of this channel"
    if kind == "console":
        return f"{content.get('severity', '')}: {content.get('about', '')}"
    word = "recovered" if kind == "recovered" else str(content.get("severity", ""))
    about = str(content.get("about", "")).strip()
    return " ".join(f"{word}: {content.get('host', '')}, {about}".split())[:180]


def compose(settings: dict[str, Any], kind: str, content: dict[str, Any], base_url: str, number: str) -> EmailMessage:
    """The message, with text first and HTML as its alternative."""
    message = EmailMessage()
    message["Subject"] = subject_of(kind, content)
    message["From"] = settings["sender"]
    message["To"] = ", ".join(settings["to"])
    message["Date"] = formatdate()
    message["Message-ID"] = f"<{number}.{content.get('id', 0)}@balise.invalid>"
    message["Auto-Submitted"] = "auto-generated"
    link = f"{base_url}/alerts/{content['id']}" if content.get("id") else base_url
    message.set_content(_text(kind, content, link))
    message.add_alternative(_html(kind, content, link), subtype="html")
    return message


def _busiest(content: dict[str, Any]) -> list[tuple[str, str]]:
    found = dict(content.get("evidence", {})).get("processes", [])[:3]
    return [(str(p["name"]), f"{float(p['cpu']) * 100:.0f} % of a core, {in_words(p['memory'], 'By')}") for p in found]


def _text(kind: str, content: dict[str, Any], link: str) -> str:
    if kind == "test":
        return f"This channel works: alerts will come this way.\n\n{link}\n"
    if kind == "console":
        return f"{subject_of(kind, content)}\n\n{content.get('detail', '')}\n\n{link}\n"
    lines = [subject_of(kind, content), ""]
    lines += [f"{name}: {value}" for name, value in _facts(content)]
    if kind != "recovered":
        if content.get("advice"):
            lines += ["", "What to do", str(content["advice"]).strip()]
        busiest = _busiest(content)
        if busiest:
            lines += ["", "Busiest processes at that moment", *(f"{name}: {value}" for name, value in busiest)]
    return "\n".join([*lines, "", link, ""])


def _html(kind: str, content: dict[str, Any], link: str) -> str:
    colour = COLOURS.get(kind) or COLOURS.get(str(content.get("severity")), COLOURS["test"])
    rows = "".join(
        f'<tr><td style="padding:2px 16px 2px 0;color:#4a5c66">{escape(k)}</td><td>{escape(v)}</td></tr>'
        for k, v in (_facts(content) if kind not in ("test", "console") else [])
    )
    advice = f"<p>{escape(str(content.get('detail', '')))}</p>" if kind == "console" else ""
    if kind not in ("recovered", "test") and content.get("advice"):
        advice = f"<h3>What to do</h3><p>{escape(str(content['advice']).strip()).replace(chr(10), '<br>')}</p>"
    busiest = "".join(f"<li>{escape(n)}: {escape(v)}</li>" for n, v in _busiest(content))
    if busiest and kind not in ("recovered", "test"):
        advice += f"<h3>Busiest processes at that moment</h3><ul>{busiest}</ul>"
    return (
        '<!doctype html><html><body style="font-family:Barlow,Arial,sans-serif;color:#12222b;font-size:15px">'
        f'<h2 style="border-left:6px solid {colour};padding-left:12px">{escape(subject_of(kind, content))}</h2>'
        f'<table style="border-collapse:collapse">{rows}</table>{advice}'
        f'<p><a href="{escape(link)}" style="color:#0b5a66">Open it in Balise</a></p></body></html>'
    )
