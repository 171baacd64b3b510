"""Who watches over Skerry Ferries: people, their channels and rotas, callouts, and maintenance windows."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Any

from balise.api.callouts import CalloutBody
from balise.api.channels import EmailChannel, SmsChannel, WebhookChannel
from balise.api.maintenance import MaintenanceBody
from balise.api.persons import PersonBody
from balise.api.probes import ProbeBody
from balise.api.rotas import RotaBody
from balise.demo.shore import Shore
from balise.server.parts import Parts
from balise.server.people.access import Principal

ZONE = "Europe/Oslo"
PEOPLE = {"anna": "+4790000001", "berit": "+4790000002", "carl": "+4790000003", "dag": "+4790000004"}
CALLOUTS = {
    "booking": CalloutBody.model_validate(
        {
            "when": 'severity ge "critical" and application eq "Booking"',
            "steps": [
                {"tell": ["rota:booking"]},
                {"after": "10m", "tell": ["rota:booking", "channel:control-room"]},
                {"after": "30m", "tell": ["person:carl"]},
            ],
            "again": "2h",
            "gather": "30s",
        }
    ),
    "quays": CalloutBody.model_validate(
        {
            "when": 'severity ge "critical" and application eq "Boarding gates" and not (application eq "Booking")',
            "steps": [{"tell": ["rota:quays"]}, {"after": "15m", "tell": ["channel:control-room"]}],
            "gather": "30s",
        }
    ),
    "everything": CalloutBody.model_validate(
        {"when": 'severity ge "warning"', "steps": [{"tell": ["channel:control-room"]}], "digest": "15m"}
    ),
}


def furnish(console: Parts, shore: Shore) -> None:
    """People, channels, rotas, callouts and windows, once; where the stand-ins listen is new at every start."""
    who = Principal("demo", "administrator")
    channels = console.channels
    channels.put("control-room", WebhookChannel(kind="webhook", url=f"{shore.url}/control-room"), who)
    for name, number in PEOPLE.items():
        mail = EmailChannel(
            kind="email",
            to=[f"{name}@skerry.example"],
            sender="balise@skerry.example",
            server="127.0.0.1",
            port=shore.mail_port,
            security="none",
        )
        channels.put(f"mail-{name}", mail, who)
        channels.put(f"sms-{name}", SmsChannel(kind="sms", url=f"{shore.url}/sms", to=[number]), who)
    if console.directory.find("gate-n2") is not None:
        about = "the barrier of pier 2"
        target = f"127.0.0.1:{shore.barrier_port}"
        console.probes.put(
            "barrier-n2", ProbeBody(kind="tcp", target=target, host="gate-n2", about=about, every="30s"), who
        )
    if console.callouts.all():
        return
    for name in PEOPLE:
        quiet = {"from": "22:00", "to": "07:00", "zone": ZONE} if name == "dag" else None
        body: dict[str, Any] = {"channels": [f"mail-{name}", f"sms-{name}"], "quiet": quiet}
        console.persons.put(name, PersonBody.model_validate(body), who.name)
    today = datetime.now(UTC).date()
    monday = today - timedelta(days=today.weekday() + 28)
    friday = monday + timedelta(days=32)
    weekend = {
        "person": "carl",
        "from": f"{friday}T18:00:00+01:00",
        "to": f"{friday + timedelta(days=2)}T18:00:00+01:00",
    }
    rotas: dict[str, tuple[list[str], list[dict[str, str]]]] = {
        "booking": (["anna", "berit"], [weekend]),
        "quays": (["carl", "dag"], []),
    }
    for name, (people, overrides) in rotas.items():
        turns: dict[str, Any] = {
            "people": people,
            "turn": "1w",
            "begins": monday,
            "at": "09:00",
            "zone": ZONE,
            "overrides": overrides,
        }
        console.rotas.put(name, RotaBody.model_validate(turns), who.name)
    for name, callout in CALLOUTS.items():
        console.callouts.put(name, callout, who.name)
    saturday = monday + timedelta(days=33)
    windows: dict[str, dict[str, Any]] = {
        "disks": {"about": "new disks", "hosts": ["files-h1"], "from": "now", "for": "8h"},
        "updates": {
            "about": "updates of the operating system",
            "groups": ["Office"],
            "from": f"{saturday}T02:00:00+01:00",
            "for": "2h",
            "repeat": "FREQ=WEEKLY;BYDAY=SA",
            "zone": ZONE,
        },
    }
    for name, window in windows.items():
        if name == "disks" and console.directory.find("files-h1") is None:
            continue
        if name == "updates" and "Office" not in console.directory.groups:
            continue
        console.maintenance.put(name, MaintenanceBody.model_validate(window), who.name)
