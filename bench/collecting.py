"""Collecting: each collector's own cost, and a thousand probes a minute."""

from __future__ import annotations

import threading
import time
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer

from balise.api.parts import CollectorSetting
from balise.api.probes import ProbeBody, ProbeExpect, ProbeTarget
from balise.collect.inventory import Inventory
from balise.collect.parts import MADE
from balise.collect.probes.schedule import Probing
from balise.collect.readings import Reading
from report import Report


class _Page(BaseHTTPRequestHandler):
    def do_GET(self) -> None:
        self.send_response(200)
        self.send_header("Content-Length", "12")
        self.end_headers()
        self.wfile.write(b"timetable v1")

    def log_message(self, *_words: object) -> None: ...


def probes(report: Report) -> None:
    """The process's own time, without that of the server it asks, which runs in this process too."""
    count, seconds = report.size(1000, 100), report.size(60.0, 6.0)
    report.title(f"{count:,} probes of a page, each every {seconds:.0f} s, from one process")
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Page)
    served = threading.Thread(target=server.serve_forever, daemon=True)
    served.start()
    good: list[float] = []
    bad: list[str] = []
    lock = threading.Lock()

    def heard(_probe: ProbeTarget, result: object) -> None:
        with lock:
            if result.good:  # type: ignore[attr-defined]
                good.append(result.seconds)  # type: ignore[attr-defined]
            else:
                bad.append(result.message)  # type: ignore[attr-defined]

    body = ProbeBody(
        kind="http",
        target=f"http://127.0.0.1:{server.server_port}/",
        every=f"{seconds:.0f}s",
        time_limit="5s",
        expect=ProbeExpect(text="timetable"),
    )
    probing = Probing(heard)
    probing.start()
    began, used = time.monotonic(), time.process_time()
    probing.set_probes([ProbeTarget(name=f"page-{n}", body=body) for n in range(count)])
    time.sleep(seconds)
    passed, used = time.monotonic() - began, time.process_time() - used
    probing.stop()
    server.shutdown()
    made = (len(good) + len(bad)) / passed * seconds
    report.budget("probes made in that time", made, count * 0.99, most=False)
    report.figure(
        "failed; left out; median", f"{len(bad)}; {probing.left_out}; {sorted(good)[len(good) // 2] * 1000:.1f} ms"
    )
    report.figure("processor, with the page's server in the same process", f"{used / passed * 100:.1f} % of a core")


def inventory(report: Report) -> None:
    report.title("The inventory, read once; processor time of this process by kind")
    read = Inventory()
    for kind in read.kinds:
        began = time.process_time()
        items = read.read(kind)
        report.figure(kind, f"{(time.process_time() - began) * 1000:8.2f} ms  {len(items)} items")


def heavy(report: Report) -> None:
    report.title("Parts that are off until asked for, read once; processor time")
    folder = report.size("/usr", "/usr/share/doc")
    settings = {"interrupts": CollectorSetting(), "directories": CollectorSetting(paths=[folder])}
    for name, setting in settings.items():
        collector = MADE[name](setting, None)
        began, entered = time.process_time(), time.monotonic()
        found = list(collector.read(time.time()))
        used, passed = time.process_time() - began, time.monotonic() - entered
        files = [r.value for r in found if isinstance(r, Reading) and r.metric == "balise.directory.files"]
        what = f"{folder}: {files[0]:.0f} files" if files else f"{len(found)} readings"
        report.figure(name, f"{used * 1000:8.2f} ms in {passed:.2f} s  {what}")


def run(report: Report) -> None:
    probes(report)
    inventory(report)
    heavy(report)
