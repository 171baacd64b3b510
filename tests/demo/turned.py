"""The demo's stories with a clock that is turned by hand: hours pass in a minute.

Run as a program, before anything else has looked at the clock; prints a line of JSON for each incident.
"""

from __future__ import annotations

import json
import sys
import time
from pathlib import Path

NOW = [time.time()]
time.time = lambda: NOW[0]

from balise.core.moments import NS  # noqa: E402
from balise.demo import run, watchkeeping  # noqa: E402
from balise.demo.fleet import FLEET  # noqa: E402
from balise.demo.model import Model  # noqa: E402
from balise.demo.schedules import schedule_from  # noqa: E402
from balise.demo.shore import Shore  # noqa: E402
from balise.server.life import close  # noqa: E402
from balise.server.parts import Parts, build  # noqa: E402
from balise.server.settings import Settings  # noqa: E402

time.time_ns = lambda: int(NOW[0] * NS)
BEFORE, STEP = 1800.0, 15
"""Seconds of history, and between two looks."""
SHIPS = FLEET[:15]


def look(console: Parts, second: int) -> None:
    """What workers do, in order."""
    console.silence.note()
    if second % 30 == 0:
        console.probes.again("barrier-n2")
    console.probe_results.look()
    console.service_health.judge()
    console.listening.work()
    console.pulse.tick()
    console.maintenance.look(NOW[0])
    while console.incidents.take_in(NOW[0]):
        pass
    console.incidents.settle(NOW[0])
    console.calling.look(NOW[0])
    console.messages.send_due(NOW[0])


def main(folder: Path, first: float, last: float) -> None:
    """Plays from `first` to `last`, seconds after the demo's start."""
    started = NOW[0]
    held = {"started": started, "days": 1.0}
    run.prepare(folder, held, started + first - BEFORE, started + first, len(SHIPS))
    NOW[0] = started + first
    console = build(Settings(data=folder, base_url="http://127.0.0.1:9", organisation="Skerry Ferries"))
    shore = Shore(folder)
    feeder = run.Feeder(console, SHIPS, Model(schedule_from(started, 1.0), started), shore)
    run.furnish(console)
    watchkeeping.furnish(console, shore)
    console.kit_rules.begin()
    console.watch.load(NOW[0])
    console.listening.begin()
    for second in range(0, int(last - first), STEP):
        NOW[0] = started + first + second
        feeder.step()
        look(console, second)
    for one in console.incident_search.page(where=None, state=None, limit=200, cursor=None).items:
        found = console.incident_search.get(one.id)
        alerts = [
            {"rule": alert.rule, "host": alert.host, "held": alert.held_under is not None} for alert in found.alerts
        ]
        told = [line.text for line in found.timeline if line.kind == "told"]
        print(json.dumps({"title": found.title, "state": found.state, "alerts": alerts, "told": told}))
    shore.stop()
    close(console)


main(Path(sys.argv[1]), float(sys.argv[2]), float(sys.argv[3]))
