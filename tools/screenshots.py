"""Makes docs/screenshots/ from the demo: every page, and the main commands in a terminal."""

from __future__ import annotations

import base64
import json
import os
import re
import subprocess
import tempfile
import time
import urllib.request
from collections.abc import Callable
from email import message_from_bytes
from email.policy import default
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

from playwright.sync_api import Page, sync_playwright

from demo_service import CHROMIUM
from running import BALISE, free_port, until
from signing import sign_in

OUT = Path("docs/screenshots")
TERMINAL = (
    (
        "command-incidents",
        "balise incident list; echo; balise trail {incident} | head -32",
    ),
    (
        "command-rules",
        "balise rule rehearse busier-than-usual --from -7d | head -14; echo; balise metric forecast system.filesystem.utilization --by host,system.filesystem.mountpoint --horizon 30d; echo; balise rule watching backup-h1",
    ),
)
FLEET = {"columns": "cpu,memory,disk,rate(system.disk.io)@15m,net,label:role", "group": "site"}
CHART = {
    "q": [
        'avg of balise.cpu.busy by host where group eq "Booking"',
        "max of postgresql.sessions.blocked by host",
    ],
    "beside": "-1d",
}
MORNING = {
    "about": "What the morning watch looks at first",
    "variables": [{"name": "site", "of": "site"}],
    "panels": [
        (
            "value",
            "Fullest volume",
            [0, 0, 3, 3],
            {"metric": "system.filesystem.utilization", "take": "max", "limit": 0.95},
        ),
        ("value", "Sessions that wait", [3, 0, 3, 3], {"metric": "postgresql.sessions.blocked", "take": "max"}),
        ("incidents", "Open incidents", [6, 0, 6, 3], {}),
        ("chart", "The busiest", [0, 3, 6, 6], {"metric": "balise.cpu.busy", "where": 'site eq "$site"', "top": 6}),
        ("states", "By application", [6, 3, 6, 6], {"by": "application"}),
        (
            "patterns",
            "What the log says anew",
            [0, 9, 12, 5],
            {"where": 'severity ge "warning" and site ne null', "limit": 6},
        ),
    ],
}
DAYS = "21"
"""Enough to know what is usual."""


def answers(url: str) -> bool:
    try:
        return json.load(urllib.request.urlopen(f"{url}/api/v1/status"))["state"] == "ready"
    except OSError:
        return False


def shoot(page: Page, url: str, name: str, path: str) -> None:
    page.goto(url + path)
    page.get_by_role("heading", level=1).wait_for()
    page.get_by_text(re.compile("^Waiting for")).first.wait_for(state="hidden")
    page.wait_for_timeout(2000)
    page.screenshot(path=OUT / f"{name}.png")
    print(f"  {name}.png", flush=True)


def rehearse_a_rule(page: Page, url: str) -> None:
    """A rule about what is unusual, as a sentence, with the band on its chart; it stays."""
    page.goto(f"{url}/rules/new")
    for label, said in (
        ("Name", "busier-than-usual"),
        ("About", "More work than is usual at this hour"),
        ("Metric", "balise.cpu.busy"),
    ):
        page.get_by_label(label, exact=True).fill(said)
    page.get_by_label("Kind of limit").select_option("unusual")
    for label, said in (("At least by", "0.1"), ("warning", "6"), ("critical", "10")):
        page.get_by_label(label, exact=True).fill(said)
    page.get_by_label("Over").first.fill("10m")
    page.get_by_role("region", name="Rehearsal").get_by_label("Over").select_option("-7d")
    page.get_by_text("It would have opened").wait_for()
    page.get_by_label("Over").first.blur()
    page.wait_for_timeout(8000)
    page.screenshot(path=OUT / "rule.png")
    page.get_by_role("button", name="Save").click()
    page.get_by_role("link", name="busier-than-usual").wait_for()


def follow_trails(page: Page, url: str) -> None:
    """The incidents of a full volume and of a heap that grew, and one of which no cause stands out."""
    wanted: dict[str, Callable[[dict[str, Any]], bool]] = {
        "trail-volume": lambda trail: "gate-controller" in trail["sentence"],
        "trail-heap": lambda trail: "collector" in trail["sentence"],
        "trail-none": lambda trail: trail["sure"] < 0.5 and trail["departed_count"] > 0,
    }
    answer = page.context.request.get(f"{url}/api/v1/incidents").json()
    for number in [item["id"] for item in answer["items"]]:
        trail = page.context.request.get(f"{url}/api/v1/incidents/{number}/trail").json()
        name = next((name for name, fits in wanted.items() if fits(trail)), None)
        if name:
            del wanted[name]
            shoot(page, url, name, f"/incidents/{number}")
    for name in wanted:
        print(f"  {name}.png stays as it was: chance gave this history no such incident", flush=True)


def deal_with_it(page: Page, url: str) -> int:
    """The incident of the import: taken, with a note, as it would be; answers its number."""
    page.goto(f"{url}/incidents")
    page.get_by_role("link", name=re.compile("Database sessions wait")).first.click()
    page.wait_for_url(re.compile(r"/incidents/\d+"))
    page.get_by_role("button", name="Note").click()
    page.get_by_label("What you found, or did").fill("the import of fares holds the locks; asked files-h1 to stop it")
    page.get_by_role("button", name="Keep the note").click()
    page.get_by_text("asked files-h1 to stop it").wait_for()
    page.get_by_role("button", name="I have it").click()
    page.get_by_text("skipper has it since").wait_for()
    return int(re.findall(r"/incidents/(\d+)", page.url)[0])


def make_a_dashboard(page: Page, url: str) -> None:
    """A dashboard for one's morning, as a person has it."""
    names = ("kind", "title", "at", "query")
    panels = [dict(zip(names, panel, strict=True)) for panel in MORNING["panels"]]
    answer = page.context.request.put(f"{url}/api/v1/dashboards/morning", data={**MORNING, "panels": panels})
    assert answer.ok, answer.text()
    shoot(page, url, "dashboard", "/dashboards/morning")


def ask_who(page: Page, url: str) -> None:
    """Who would be told of Booking on Christmas Eve, above the callouts."""
    page.goto(f"{url}/settings/callouts")
    page.get_by_label("Touching application").fill("Booking")
    page.get_by_label("At (now, or a date and time)").fill("2026-12-24 02:00")
    page.get_by_role("button", name="Ask").click()
    page.get_by_role("list", name=re.compile("Told, asked for")).wait_for()
    page.screenshot(path=OUT / "callouts.png")
    print("  callouts.png", flush=True)


def open_a_mail(page: Page, data: Path) -> None:
    """The newest mail about something critical, as a browser shows it."""
    for path in sorted((data / "told").glob("mail-*.eml"), reverse=True):
        mail = message_from_bytes(path.read_bytes(), policy=default)
        picture = next((part for part in mail.walk() if part.get_content_type() == "image/png"), None)
        body = mail.get_body(("html",))
        if picture is None or body is None or "critical" not in mail["Subject"]:
            continue
        content = base64.b64encode(picture.get_payload(decode=True)).decode()
        html = body.get_content().replace("cid:chart@balise.invalid", f"data:image/png;base64,{content}")
        (data / "mail.html").write_text(html)
        page.goto(f"file://{data / 'mail.html'}")
        page.wait_for_timeout(500)
        page.screenshot(path=OUT / "mail.png")
        print("  mail.png", flush=True)
        return
    raise SystemExit("no mail about anything critical has come")


def terminal(name: str, command: str, environment: dict[str, str]) -> None:
    """A command as it looks in a terminal window."""
    display = f":{90 + os.getpid() % 100}"
    ended = Path(tempfile.mkdtemp()) / "ended"
    with subprocess.Popen(["Xvfb", display, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL) as screen:
        script = f"clear; printf '\\033[1m$ {command.split(';', maxsplit=1)[0]}\\033[0m\\n\\n'; {command}; touch {ended}; sleep 30"
        words = [
            "xterm",
            "-geometry",
            "156x46+0+0",
            "-fa",
            "DejaVu Sans Mono",
            "-fs",
            "10",
            "-bg",
            "#0d151a",
            "-fg",
            "#d8e3e6",
            "-e",
            "bash",
            "-c",
            script,
        ]
        time.sleep(1)
        with subprocess.Popen(words, env={**environment, "DISPLAY": display}) as window:
            until(ended.exists, 30)
            time.sleep(1)
            subprocess.run(["import", "-display", display, "-window", "root", str(OUT / f"{name}.png")], check=True)
            window.kill()
        screen.terminate()
    print(f"  {name}.png", flush=True)


def main() -> None:
    OUT.mkdir(parents=True, exist_ok=True)
    folder = Path(tempfile.mkdtemp())
    port = free_port()
    url = f"http://127.0.0.1:{port}"
    data = folder / "demo"
    print("preparing the demo", flush=True)
    with (folder / "log").open("wb") as output:
        demo = subprocess.Popen(
            [BALISE, "demo", "--data", str(data), "--days", DAYS, "--listen", f"127.0.0.1:{port}"],
            stdout=output,
            stderr=output,
        )
    try:
        until(lambda: answers(url), 400)
        password = json.loads((data / "demo.json").read_text())["password"]
        token = subprocess.run(
            [BALISE, "token", "create", "screenshots", "--role", "operator", "--data", str(data)],
            capture_output=True,
            text=True,
            check=True,
        ).stdout.strip()
        time.sleep(40)
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(
                executable_path=CHROMIUM, args=["--no-sandbox", "--disable-dev-shm-usage"]
            )
            context = browser.new_context(viewport={"width": 1280, "height": 800}, reduced_motion="reduce")
            page = context.new_page()
            sign_in(page, url, "skipper", password)
            rehearse_a_rule(page, url)
            incident = deal_with_it(page, url)
            now = int(time.time())
            drawn = f"?drawn={now - 480}-{now - 60}"
            for name, path in (
                ("now", "/"),
                ("fleet", f"/fleet?{urlencode(FLEET)}"),
                ("charts", f"/charts?{urlencode(CHART, doseq=True)}&drawn={now - 900}-{now - 60}"),
                ("busy", "/fleet/book-db-n1/processes?of=session"),
                ("host", f"/fleet/book-db-n1{drawn}"),
                ("events", "/events?floor=warning"),
                ("incidents", "/incidents"),
                ("incident", f"/incidents/{incident}"),
                ("service", "/services/1"),
                ("application", "/applications/Booking"),
            ):
                shoot(page, url, name, path)
            follow_trails(page, url)
            make_a_dashboard(page, url)
            ask_who(page, url)
            open_a_mail(page, data)
            browser.close()
        environment = {
            **os.environ,
            "BALISE_URL": url,
            "BALISE_TOKEN": token,
            "PATH": f"{Path(BALISE).parent}:{os.environ['PATH']}",
        }
        for name, command in TERMINAL:
            terminal(name, command.format(incident=incident), environment)
    finally:
        demo.terminate()
        demo.wait(20)


if __name__ == "__main__":
    main()
