"""What people and channels see of a console while a crowd delivers: how soon a breach is told, and pages show a row."""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager

from playwright.sync_api import Page, sync_playwright

from balise.api.access import NewUser
from balise.api.secrets import Secret
from console import NAME, PASSWORD, signed_in
from demo_service import CHROMIUM
from report import Report
from running import Service
from worlds.telling import told_after

PAGES = {
    "Now": ("/", "main a[href*='/incidents/'], main a[href*='/alerts/']"),
    "Fleet": ("/fleet", "main a[href^='/fleet/host-'], main a[href^='/fleet/pier-']"),
    "a host": ("/fleet/host-00007", "main h1"),
    "Alerts": ("/alerts", "main a[href^='/alerts/']"),
    "Incidents": ("/incidents", "main a[href^='/incidents/']"),
    "Events": ("/events", "main ul[aria-label^='Events'] li"),
    "Availability": ("/availability?of=host", "main tbody th[scope=row]"),
    "Rules": ("/rules", "main a[href^='/rules/']"),
}
"""Where each is, and what its first row is."""
SHOWN = "row => [...document.querySelectorAll(row)].some((one) => one.checkVisibility())"
"""Asked at each frame: who waits for a locator looks but twice a second after a while."""
LOOK = 3.0
"""Seconds for which a page is looked at."""
SECONDS = 150
"""What all of it takes, about."""


def breaches(report: Report, service: Service) -> None:
    """From a point that breaches until the webhook has it, one host after another."""
    took = told_after(service, report.size(30, 2))
    report.figure("from a breach to the webhook, median", f"{took[len(took) // 2]:8.2f} s")
    report.budget("from a breach to the webhook, p99, s", took[int(len(took) * 0.99)], 3.0, most=True, form="{:.2f}")


@contextmanager
def _page(service: Service) -> Iterator[Page]:
    with service.client() as admin:
        admin.users.add(NewUser(name=NAME, role="viewer", password=Secret(PASSWORD)))
    with sync_playwright() as driver:
        browser = driver.chromium.launch(executable_path=CHROMIUM, args=["--no-sandbox"])
        yield signed_in(browser, service)
        browser.close()


def pages(report: Report, service: Service) -> None:
    """Each page opened anew, three times, in a browser that has been there, after a look at the one before: how long
    until its first row stands."""
    worst: dict[str, float] = {}
    with _page(service) as page:
        for _ in range(report.size(3, 1)):
            for name, (path, row) in PAGES.items():
                began = time.perf_counter()
                page.goto(service.url + path, wait_until="commit")
                page.wait_for_function(SHOWN, arg=row, polling="raf", timeout=20_000)
                worst.setdefault(name, 0.0)
                worst[name] = max(worst[name], time.perf_counter() - began)
                page.wait_for_timeout(report.size(LOOK, 0.1) * 1000)
                page.goto("about:blank")
    report.figure("first rows, worst of each page, s", ", ".join(f"{name} {took:.1f}" for name, took in worst.items()))
    report.budget("every page's first row, s", max(worst.values()), 1.0, most=True, form="{:.2f}")
