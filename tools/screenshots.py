"""Makes docs/screenshots/ from the demo: every page, and the main commands in a terminal."""

from __future__ import annotations

import json
import os
import subprocess
import tempfile
import time
import urllib.request
from pathlib import Path

from playwright.sync_api import Page, sync_playwright

from demo_service import CHROMIUM
from running import BALISE, free_port, until
from signing import sign_in

OUT = Path("docs/screenshots")
TERMINAL = (
    (
        "command-enrol",
        "balise host add --resume 1; echo; balise host compare quay-000 quay-003 book-db-n1; echo; balise host plan gate-n1",
    ),
    (
        "command-services",
        "balise service list; echo; balise service sessions 1 | head -12; echo; balise probe list; echo; balise kit try dns --here --target name=localhost | head -12",
    ),
    ("command-alerts", "balise alert list; echo; balise alert show {alert} | head -22"),
    (
        "command-metrics",
        "balise metric read postgresql.sessions.blocked --from -30m --points 12; echo; balise event search timed --limit 12",
    ),
)


def answers(url: str) -> bool:
    try:
        return json.load(urllib.request.urlopen(f"{url}/api/v1/status"))["state"] == "ready"
    except OSError:
        return False


def shoot(page: Page, url: str, name: str, path: str) -> None:
    page.goto(url + path)
    page.get_by_role("heading", level=1).wait_for()
    page.wait_for_timeout(2000)
    page.screenshot(path=OUT / f"{name}.png")
    print(f"  {name}.png", flush=True)


def enrol_a_list(page: Page, url: str, data: Path) -> None:
    """The made-up servers, one of them with a wrong port."""
    lines = (data / "quays.txt").read_text().splitlines()[1:9]
    lines[2] = lines[2].replace(lines[2].split(":")[1].split()[0], "9")
    page.goto(f"{url}/enrol?way=list")
    page.get_by_label("One host a line").fill("\n".join(lines))
    page.get_by_label("Credential").select_option(label="quays, balise")
    page.get_by_role("button", name="Read the list").click()
    page.get_by_role("button", name="Test 8 hosts").click()
    page.get_by_text("1 host to put right").wait_for()
    page.screenshot(path=OUT / "enrol.png")


def terminal(name: str, command: str, environment: dict[str, str]) -> None:
    """A command as it looks in a terminal window."""
    display = f":{90 + os.getpid() % 100}"
    with subprocess.Popen(["Xvfb", display, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL) as screen:
        script = f"clear; printf '\\033[1m$ {command.split(';', maxsplit=1)[0]}\\033[0m\\n\\n'; {command}; sleep 30"
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
            time.sleep(6)
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
            [BALISE, "demo", "--data", str(data), "--listen", f"127.0.0.1:{port}"], stdout=output, stderr=output
        )
    try:
        until(lambda: answers(url), 120)
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
            for theme, pages in (("light", "day"), ("dark", "dark")):
                context = browser.new_context(
                    viewport={"width": 1280, "height": 800}, color_scheme=theme, reduced_motion="reduce"
                )  # type: ignore[arg-type]
                page = context.new_page()
                sign_in(page, url, "skipper", password)
                alert = page.evaluate(
                    "fetch('/api/v1/alerts?state=open').then(r => r.json()).then(a => a.items.find(i => i.rule === 'sessions-waiting').id)"
                )
                now = int(time.time())
                drawn = f"?drawn={now - 480}-{now - 60}"
                if pages == "dark":
                    shoot(page, url, "host-dark", f"/fleet/book-db-n1{drawn}")
                    continue
                for name, path in (
                    ("now", "/"),
                    ("fleet", "/fleet"),
                    ("host", f"/fleet/book-db-n1{drawn}"),
                    ("events", "/events?floor=warning"),
                    ("alerts", "/alerts?from=-7d"),
                    ("alert", f"/alerts/{alert}"),
                    ("rules", "/rules"),
                    ("service", "/services/1"),
                    ("application", "/applications/Booking"),
                    ("inventory", "/fleet/web-n1/inventory?with=host:web-n2"),
                    ("probes", "/probes"),
                    ("compare", "/compare?hosts=book-app-n1,book-app-n2,web-n1,gate-n1,tick-s1"),
                ):
                    shoot(page, url, name, path)
                enrol_a_list(page, url, data)
                page.goto(f"{url}/fleet/gate-n1")
                page.get_by_text("Facts, collection and plan").click()
                page.wait_for_timeout(1500)
                page.screenshot(path=OUT / "facts.png")
            browser.close()
        environment = {
            **os.environ,
            "BALISE_URL": url,
            "BALISE_TOKEN": token,
            "PATH": f"{Path(BALISE).parent}:{os.environ['PATH']}",
        }
        for name, command in TERMINAL:
            terminal(name, command.format(alert=alert), environment)
    finally:
        demo.terminate()
        demo.wait(20)


if __name__ == "__main__":
    main()
