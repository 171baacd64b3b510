"""Checking rules: a million groups a tick, and from a data point to the webhook."""

from __future__ import annotations

import tempfile
import time
from pathlib import Path

import numpy as np

from balise.api.notify import CalloutBody, WebhookChannel
from balise.api.rules import Limits, RuleBody
from balise.core.rules.limits import LimitMachine
from report import Report, best
from running import Receiver, Service, until
from sending import send_gauge


class Plain:
    """The same limits as an object a series."""

    def __init__(self) -> None:
        self.since: float | None = None
        self.raised = False

    def advance(self, now: float, value: float) -> bool:
        before = self.raised
        if value > 0.85:
            self.since = now if self.since is None else self.since
            if now - self.since >= 60:
                self.raised = True
        else:
            self.since = None
        if self.raised and value <= 0.8:
            self.raised = False
        return before != self.raised


def many(report: Report) -> None:
    report.title("Rules: a tick over 1,000,000 groups with hold and clear")
    limits = Limits.model_validate(
        {
            "warning": {"above": 0.85, "hold": "60s", "clear": 0.8},
            "critical": {"above": 0.95, "hold": "60s", "clear": 0.9},
        }
    )
    machine = LimitMachine(limits, 1_000_000)
    rng = np.random.default_rng(6)
    ticks = [np.clip(0.5 + 0.12 * rng.standard_normal(1_000_000), 0, 1) for _ in range(4)]
    for t in range(8):
        machine.advance(t * 15.0, ticks[t % 4])
    clock = [200.0]

    def tick() -> None:
        clock[0] += 15
        machine.advance(clock[0], ticks[int(clock[0]) % 4])

    objects = [Plain() for _ in range(100_000)]
    values = ticks[0][:100_000].tolist()

    def plainly() -> None:
        clock[0] += 15
        for one, value in zip(objects, values, strict=True):
            one.advance(clock[0], value)

    vector, plain = best(tick, 7), best(plainly, 3) * 10
    report.figure("objects in Python (one limit only), 1,000,000", f"{plain * 1e3:8.0f} ms")
    report.budget("1,000,000 groups, two limits, ms a tick", vector * 1e3, 50, most=True)
    report.budget("against objects in Python, ratio", plain / vector, 10, most=False)


def told(report: Report, tries: int = 40) -> None:
    report.title(f"Rules: from a data point's arrival to the webhook's receipt, {tries} times")
    service, receiver = Service(Path(tempfile.mkdtemp())), Receiver()
    took = []
    with service.client() as admin:
        admin.put_channel("hook", WebhookChannel(kind="webhook", url=receiver.url))
        admin.put_callout("all", CalloutBody(tell=["hook"]))
        admin.put_rule(
            "tide",
            RuleBody.model_validate(
                {"about": "x", "measure": {"metric": "tide", "over": "60s"}, "limits": {"critical": {"above": 1}}}
            ),
        )
        rng = np.random.default_rng(7)
        for i in range(tries):
            time.sleep(float(rng.random()) * 0.5)
            send_gauge(service.url, service.tokens["ingest"], f"pier-{i}", "tide", 9.0)
            began = time.perf_counter()
            until(lambda i=i: len(receiver.got) > i, 20)  # type: ignore[misc]
            took.append(time.perf_counter() - began)
    service.stop()
    receiver.close()
    report.figure("median", f"{sorted(took)[len(took) // 2]:.2f} s")
    report.budget("p99, s", sorted(took)[int(len(took) * 0.99)], 2.0, most=True)


def run(report: Report) -> None:
    many(report)
    told(report)
