"""The agent, the demo, and the web console in headless Chromium."""

from __future__ import annotations

import gzip
import json
import re
import subprocess
import tempfile
import time
from pathlib import Path

import psutil
from playwright.sync_api import Page, Route, sync_playwright

from balise.api.access import NewEnrolmentKey
from demo_service import CHROMIUM
from report import Report
from running import BALISE, Service, free_port, until

WEB = Path(__file__).parents[1] / "src" / "balise" / "server" / "web"


def agent(report: Report, seconds: float = 600.0, *, share: float = 0.5, memory: float = 50.0) -> None:
    report.title(f"The agent at 15 s with the system collectors, over {seconds:.0f} s")
    folder = Path(tempfile.mkdtemp())
    service = Service(folder)
    with service.client() as admin:
        key = admin.make_enrolment_key(NewEnrolmentKey(label="bench")).key
    state = str(folder / "agent")
    subprocess.run(
        [BALISE, "agent", "enrol", "--console", service.url, "--key", key, "--state", state],
        check=True,
        capture_output=True,
    )
    with subprocess.Popen([BALISE, "agent", "run", "--state", state], stderr=subprocess.DEVNULL) as child:
        process = psutil.Process(child.pid)
        time.sleep(20)
        before = process.cpu_times()
        time.sleep(seconds)
        after = process.cpu_times()
        used = (after.user + after.system - before.user - before.system) / seconds
        size = process.memory_info().rss / 2**20
        with service.client() as admin:
            host = next(iter(admin.hosts()))
            costs = (host.agent or {}).get("collectors", {})
        child.terminate()
    service.stop()
    for name, cost in costs.items():
        report.figure(f"collector {name}, processor time a reading", f"{cost * 1e3:8.2f} ms")
    report.budget("agent, % of one core", used * 100, share, most=True)
    report.budget("agent, resident MiB", size, memory, most=True)


def demo(report: Report) -> None:
    report.title("The demo: 30 hosts, 7 days")
    folder = Path(tempfile.mkdtemp())
    port = free_port()
    words = [BALISE, "demo", "--data", str(folder), "--listen", f"127.0.0.1:{port}", "--no-this-host"]
    for name, budget in (("first start until it answers, s", 30), ("second start, s", 5)):
        began = time.perf_counter()
        with subprocess.Popen(words, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as child:
            until(lambda: _answers(port), 120)
            report.budget(name, time.perf_counter() - began, budget, most=True)
            if budget == 5:
                time.sleep(20)
                process = psutil.Process(child.pid)
                before = process.cpu_times()
                time.sleep(60)
                after = process.cpu_times()
                used = (after.user + after.system - before.user - before.system) / 60
                report.budget("idle with the demo fleet, % of one core over 60 s", used * 100, 5, most=True)
                report.budget(
                    "idle with the demo fleet, resident MiB", process.memory_info().rss / 2**20, 300, most=True
                )
            child.terminate()
    samples = 0
    from balise.store.series.store import SeriesStore

    store = SeriesStore(folder)
    samples, size = store.stored_samples(), store.size()
    store.close()
    report.figure("series.db, bytes a sample with rollups", f"{size / samples:.2f} ({samples / 1e6:.1f} M samples)")


def _answers(port: int) -> bool:
    import httpx

    try:
        return httpx.get(f"http://127.0.0.1:{port}/api/v1/status").status_code == 200
    except httpx.HTTPError:
        return False


def first_page(report: Report) -> None:
    report.title("The web console")
    index = (WEB / "index.html").read_text()
    names = re.findall(r'(?:src|href)="/(assets/[^"]+\.js)"', index)
    manifest_now = list((WEB / "assets").glob("Now-*.js"))
    size = sum(len(gzip.compress((WEB / n).read_bytes(), 9)) for n in names) + sum(
        len(gzip.compress(p.read_bytes(), 9)) for p in manifest_now
    )
    report.budget("JavaScript of the first page, KB gzip", size / 1024, 150, most=True)


FRAMES = """(wanted) => new Promise(done => {
  const box = document.querySelector('[role=rowgroup]'); const took = []; let before;
  const frame = now => { if (before) took.push(now - before); before = now; box.scrollTop += 40;
    took.length < wanted ? requestAnimationFrame(frame) : done(took); };
  requestAnimationFrame(frame); })"""


def table(report: Report) -> None:
    folder = Path(tempfile.mkdtemp())
    service = Service(folder)
    hosts = [
        {
            "id": i, "name": f"host-{i:05d}", "state": ("ok", "warning", "critical")[i % 17 % 3], "state_since": "2026-11-23T00:00:00Z",
            "labels": {"site": "northquay"}, "groups": ["northquay", "Booking"], "os": "", "facts": None, "agent": None,
            "last_seen": "2026-11-23T00:00:00Z", "collection": {"mode": "resident", "by": "its agent", "delay_seconds": 0, "problem": None},
            "open_alerts": i % 3,
        }
        for i in range(10_000)
    ]  # fmt: skip
    answer = {"metric": "m", "unit": "1", "step_seconds": 60, "times": [0, 60], "tier": "raw", "left_out": 0,
              "series": [{"attributes": {"host": h["name"]}, "values": [0.5, i % 100 / 100]} for i, h in enumerate(hosts)]}  # fmt: skip

    def fulfil(content: object) -> object:
        text = json.dumps(content)
        return lambda route: route.fulfill(body=text, content_type="application/json")

    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path=CHROMIUM, args=["--no-sandbox", "--disable-dev-shm-usage"])
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.route("**/api/v1/session", fulfil({"name": "bench", "role": "viewer"}))  # type: ignore[arg-type]
        page.route(re.compile("/api/v1/hosts"), fulfil({"items": hosts, "next": None}))  # type: ignore[arg-type]
        page.route("**/api/v1/metrics/query", fulfil(answer))  # type: ignore[arg-type]
        page.route(re.compile("/api/v1/(alerts|status)"), fulfil({"items": [], "next": None}))  # type: ignore[arg-type]
        page.route("**/api/v1/live", lambda route: route.abort())
        page.goto(service.url + "/fleet")
        page.get_by_role("link", name=re.compile("^host-")).first.wait_for()
        page.wait_for_timeout(1000)
        took = sorted(page.evaluate(FRAMES, 400))
        report.budget("10,000 rows scrolling, median frame, ms", took[len(took) // 2], 17, most=True, form="{:.1f}")
        report.budget(
            "10,000 rows scrolling, 99th percentile, ms", took[int(len(took) * 0.99)], 50, most=True, form="{:.1f}"
        )
        chart(report, page, service)
        browser.close()
    service.stop()


def chart(report: Report, page: Page, service: Service) -> None:
    """A lane of 8 lines x 2,000 points: from the data's arrival to the frame after it is drawn."""
    times = [1.8e9 + 10 * i for i in range(2000)]
    values = [[0.5 + 0.4 * ((i * (k + 3)) % 97) / 97 for i in range(2000)] for k in range(8)]
    answer = {"metric": "m", "unit": "1", "step_seconds": 10, "times": times, "tier": "raw", "left_out": 0,
              "series": [{"attributes": {"x": str(k)}, "values": values[k]} for k in range(8)]}  # fmt: skip
    host = {"id": 1, "name": "h", "state": "ok", "state_since": "2026-11-23T00:00:00Z", "labels": {}, "groups": [], "os": "", "facts": None,
            "agent": None, "last_seen": None, "collection": {"mode": "received", "by": "x", "delay_seconds": None, "problem": None}, "open_alerts": 0}  # fmt: skip

    def reply(route: Route) -> None:
        url, text = route.request.url, "{}"
        if "/metrics/query" in url:
            text = json.dumps(answer)
        elif re.search(r"/hosts/h$", url):
            text = json.dumps(host)
        elif "/evidence" in url:
            text = json.dumps({"processes": [], "sessions": [], "snapshots": 0})
        elif "/histogram" in url:
            text = json.dumps({"step_seconds": 60, "times": [], "counts": {}, "total": 0})
        elif "/session" in url:
            text = json.dumps({"name": "bench", "role": "viewer"})
        else:
            text = json.dumps({"items": [], "next": None, "read": 0})
        route.fulfill(body=text, content_type="application/json")

    page.unroute_all()
    page.route("**/api/v1/live", lambda route: route.abort())
    page.route(re.compile("/api/v1/(?!live)"), reply)
    page.goto(service.url + "/fleet/h?from=1800000000&to=1800020000")
    page.locator("svg path[stroke]").nth(8).wait_for()
    page.wait_for_timeout(500)
    took = page.evaluate(
        """() => new Promise(done => { const box = document.querySelector('[role=slider]'); const r = box.getBoundingClientRect();
        const all = []; let n = 0; const go = () => { const began = performance.now();
        box.dispatchEvent(new PointerEvent('pointermove', {bubbles: true, clientX: r.x + 20 + n * 7, clientY: r.y + 5}));
        requestAnimationFrame(() => { const c = new MessageChannel(); c.port1.onmessage = () => { all.push(performance.now() - began);
        ++n < 30 ? setTimeout(go, 30) : done(all); }; c.port2.postMessage(0); }); }; go(); })"""
    )
    lanes = page.locator("section[aria-label] svg path[stroke]").count()
    report.figure("lines drawn anew at each move of the cursor", f"{lanes} of 2,000 points")
    per_chart = sorted(took)[len(took) // 2] * 8 / max(lanes, 1)
    report.budget("8 x 2,000 points drawn, ms (share of the page's median)", per_chart, 50, most=True, form="{:.1f}")


def run(report: Report) -> None:
    first_page(report)
    table(report)
    demo(report)
    agent(report)
