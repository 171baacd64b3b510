"""The web console in headless Chromium: what the first page weighs, ten thousand rows, a page full of charts."""

from __future__ import annotations

import gzip
import json
import re
import tempfile
import time
from pathlib import Path

import numpy as np
from playwright.sync_api import Browser, Page, Route, sync_playwright

from balise.core.moments import NS
from balise.server.life import close
from balise.server.parts import build
from balise.server.people.access import Access
from balise.server.people.tries import Passwords
from balise.server.people.users import UserBook
from balise.server.settings import Settings
from balise.store.state.store import StateStore
from demo_service import CHROMIUM
from report import Report
from running import Service
from signing import sign_in

WEB = Path(__file__).parents[1] / "src" / "balise" / "server" / "web"
NAME, PASSWORD = "bench", "bench-of-ten-thousand"
SPAN = 20_000
"""Seconds of the charts' points, one each 10 s."""
LINES, MOST_POINTS = 8, 2000
FRAMES = """(wanted) => new Promise(done => {
  const box = document.querySelector('[role=rowgroup]'); const took = []; let before;
  const frame = now => { if (before) took.push(now - before); before = now; box.scrollTop += 40;
    took.length < wanted ? requestAnimationFrame(frame) : done(took); };
  requestAnimationFrame(frame); })"""
MOVES = """() => new Promise(done => {
  const box = document.querySelector('[role=slider]'); const r = box.getBoundingClientRect(); const all = []; let n = 0;
  const go = () => { const began = performance.now();
    box.dispatchEvent(new PointerEvent('pointermove', {bubbles: true, clientX: r.x + 20 + n * 7, clientY: r.y + 5}));
    requestAnimationFrame(() => { const c = new MessageChannel();
      c.port1.onmessage = () => { all.push(performance.now() - began); ++n < 30 ? setTimeout(go, 30) : done(all); };
      c.port2.postMessage(0); }); };
  go(); })"""
POINTS = """() => [...document.querySelectorAll('section[aria-label] svg path[stroke]')]
  .reduce((sum, path) => sum + (path.getAttribute('d').match(/[ML]/g) ?? []).length, 0)"""


def first_page(report: Report) -> None:
    report.title("The web console")
    index = (WEB / "index.html").read_text()
    names = re.findall(r'(?:src|href)="/(assets/[^"]+\.js)"', index)
    parts = [WEB / name for name in names] + list((WEB / "assets").glob("Now-*.js"))
    size = sum(len(gzip.compress(part.read_bytes(), 9)) for part in parts)
    report.budget("JavaScript of the first page, KB gzip", size / 1024, 150, most=True)


def fill(data: Path, hosts: int) -> float:
    """A fleet with a reading of each host just now, and the first one's charts full; returns the end of those, unix s."""
    console = build(Settings(data=data))
    catalogue, series = console.series.catalogue, console.series
    metric = catalogue.metric("balise.cpu.busy", "1", "gauge", "")
    rng = np.random.default_rng(5)
    now = time.time()
    for number in range(hosts):
        host = console.directory.ensure(f"host-{number:05d}").id
        ids = np.array([catalogue.series_id(host, metric, (), "", "gauge")])
        series.accept_now(series.batch(catalogue.layouts.of(ids), np.array([int(now * NS)]), rng.random(1)))
    first = console.directory.ensure("host-00000").id
    volumes = catalogue.metric("system.filesystem.utilization", "1", "gauge", "")
    lines = [
        catalogue.series_id(first, volumes, (("system.filesystem.mountpoint", f"/v{n}"),), "", "gauge")
        for n in range(LINES)
    ]
    times = (int(now - 60) * NS - np.arange(SPAN // 10)[::-1] * 10 * NS).astype(np.int64)
    for part in (np.array(lines), np.array([catalogue.series_id(first, metric, (), "", "gauge")])):
        series.lay_down([part], [times], [rng.random((len(part), len(times)))])
    close(console)
    state = StateStore(data)
    access = Access(state)
    UserBook(state=state, access=access, passwords=Passwords()).add(NAME, "viewer", PASSWORD, by="bench")
    state.close()
    return now


def signed_in(browser: Browser, service: Service) -> Page:
    page = browser.new_page(viewport={"width": 1280, "height": 800})
    sign_in(page, service.url, NAME, PASSWORD)
    return page


def table(report: Report, page: Page, service: Service, hosts: int) -> None:
    """Rows of the real service, which tells of every host as it always does."""
    page.goto(service.url + "/fleet")
    page.get_by_role("link", name=re.compile("^host-")).first.wait_for()
    # Ten thousand rows are being taken in.
    page.wait_for_timeout(8000)
    took = sorted(page.evaluate(FRAMES, report.size(400, 20)))
    middle, late = took[len(took) // 2], took[int(len(took) * 0.99)]
    report.budget(f"{hosts:,} rows scrolling, median frame, ms", middle, 17, most=True, form="{:.1f}")
    report.budget(f"{hosts:,} rows scrolling, 99th percentile, ms", late, 50, most=True, form="{:.1f}")


def chart(report: Report, page: Page, service: Service, end: float) -> None:
    """A host's page, drawn anew at each move of the cursor: it asks for 2,000 points and 8 lines where it wants fewer."""

    def ask_for_more(route: Route) -> None:
        asked = json.loads(route.request.post_data or "{}")
        asked["points"] = MOST_POINTS
        asked["top"] = LINES if "top" in asked else None
        route.continue_(post_data=json.dumps(asked))

    page.route("**/api/v1/metrics/query", ask_for_more)
    page.goto(f"{service.url}/fleet/host-00000?from={end - SPAN:.0f}&to={end:.0f}")
    page.locator("svg path[stroke]").nth(LINES).wait_for()
    page.wait_for_timeout(1500)
    took = sorted(page.evaluate(MOVES))
    middle, points = took[len(took) // 2], page.evaluate(POINTS)
    report.figure("points in the lines of the page", f"{points:8,}")
    report.budget("a host's page drawn anew, ms", middle, 50, most=True, form="{:.1f}")


def run(report: Report) -> None:
    first_page(report)
    hosts = report.size(10_000, 60)
    folder = Path(tempfile.mkdtemp())
    end = fill(folder / "data", hosts)
    service = Service(folder)
    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=CHROMIUM, args=["--no-sandbox", "--disable-dev-shm-usage"])
        page = signed_in(browser, service)
        table(report, page, service, hosts)
        chart(report, page, service, end)
        browser.close()
    service.stop()
