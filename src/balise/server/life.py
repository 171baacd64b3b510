"""How the service begins, and how it ends."""

from __future__ import annotations

import asyncio
import time

from balise.server.parts import Parts


def begin(parts: Parts, loop: asyncio.AbstractEventLoop) -> None:
    """Takes up what is kept, and starts all work. `loop` is the one that answers requests."""
    parts.hub.start(loop)
    parts.kits.start()
    parts.kit_rules.begin()
    parts.watch.load(time.time())
    parts.listening.begin()
    parts.workers.start()
    parts.agent_plans.start(loop)
    parts.desk.start(loop)
    parts.remote_work.start(loop)
    parts.probes.start()
    parts.receivers.start()
    parts.forwards.start()
    parts.enrolments.resume()


def end_waits(parts: Parts) -> None:
    """Ends what holds connections open, so that the service can stop."""
    parts.hub.stop()
    parts.agent_plans.stop()
    parts.desk.stop()


def close(parts: Parts) -> None:
    """Ends the work in order: nothing new, then what waits is written."""
    parts.workers.stop()
    parts.series.end_sealing()
    parts.courier.wake()
    parts.workers.join()
    parts.watch.keep_holds(time.time(), all_of_them=True)
    parts.listening.keep(time.time())
    parts.remote_work.stop()
    parts.receivers.stop()
    parts.senders.write()
    parts.forwards.stop()
    parts.backups.stop()
    parts.exports.stop()
    parts.probes.stop()
    parts.access.write_used()
    parts.runs.note()
    parts.alerts.write_values()
    parts.directory.write_heard()
    parts.metric_intake.keep_known()
    parts.reports.write()
    parts.courier.close()
    parts.hub.stop()
    parts.events.close()
    parts.series.close()
    parts.state.close()
