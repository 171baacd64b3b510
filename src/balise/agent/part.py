"""One part of this system as the agent reads it."""

from __future__ import annotations

import logging
import time
from collections import deque
from dataclasses import dataclass, field

from balise.api.parts import ALLOWANCE, CollectorSetting
from balise.collect.readings import Collector

log = logging.getLogger(__name__)
JUDGED = 3
"""Readings that are averaged before a part is held to its allowance: the first one of all is dear."""
STOPPED_FOR = 3600.0


@dataclass
class Part:
    """One part as it is read here: the setting it was made for, when it is due, and what it took."""

    collector: Collector
    setting: CollectorSetting
    due: float = 0.0
    costs: deque[float] = field(default_factory=lambda: deque(maxlen=JUDGED))
    stopped_until: float = 0.0
    busy: bool = False
    problem: str = ""

    def judge(self, cost: float, problem: str, every: float) -> None:
        """Notes what a reading took; a part that takes more than it may in `every` seconds is not read for an hour."""
        self.costs.append(cost)
        interval = max(every, self.setting.every or 0.0)
        mean = sum(self.costs) / len(self.costs)
        if len(self.costs) == JUDGED and mean > ALLOWANCE * interval:
            self.costs.clear()
            self.stopped_until = time.monotonic() + STOPPED_FOR
            problem = (
                f"stopped itself for an hour: it takes {mean:.2g} s of processor time every {interval:g} s and may "
                f"take {ALLOWANCE * interval:.2g} s; a longer interval lets it go on (collect.{self.collector.name})"
            )
        if problem and problem != self.problem:
            log.warning("collector=%s %s", self.collector.name, problem)
        self.problem = problem
