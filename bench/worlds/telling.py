"""From a point that breaches until a webhook has it."""

from __future__ import annotations

import time
from contextlib import closing

import numpy as np

from balise.api.callouts import CalloutBody
from balise.api.channels import WebhookChannel
from balise.api.rules import RuleBody
from running import Receiver, Service, until
from sending import send_gauge

TIDE = RuleBody.model_validate(
    {"about": "x", "measure": {"metric": "tide", "over": "60s"}, "limits": {"critical": {"above": 1}}}
)


def told_after(service: Service, tries: int) -> list[float]:
    """Seconds ascending that it took, one host after another at moments by chance."""
    took = []
    chance = np.random.default_rng(7)
    with closing(Receiver()) as receiver, service.client() as admin:
        admin.channels.set("hook", WebhookChannel(kind="webhook", url=receiver.url, of="alerts"))
        admin.callouts.set("all", CalloutBody(tell=["hook"]))
        admin.rules.apply("tide", TIDE)
        for number in range(tries):
            time.sleep(float(chance.random()) * 0.5)
            send_gauge(service.url, service.tokens["ingest"], f"pier-{number}", "tide", 9.0)
            began = time.perf_counter()
            until(lambda wanted=number: len(receiver.got) > wanted, 20)  # type: ignore[misc]
            took.append(time.perf_counter() - began)
    return sorted(took)
