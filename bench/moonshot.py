"""Twenty thousand hosts each minute: as many points and requests a second as of five thousand each 15 s, and four times
as many series, hosts and groups."""

from __future__ import annotations

from report import Report
from worlds.crowd import measured

HOSTS, INTERVAL = 20_000, 60.0
PLAN = """
plan: crowd
for: {hosts: 'host sw "host-"'}
collect: {every: 60s}
limits:
  host-silent: {warning: {above: 600}, critical: {above: 900}}
"""
"""The first of them waits for the last to come before it goes on."""


def run(report: Report) -> None:
    measured(report, HOSTS, INTERVAL, PLAN)
