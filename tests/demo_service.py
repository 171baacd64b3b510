"""The demo, as a process that tests and screenshots look at."""

from __future__ import annotations

import re
import shutil
import subprocess
from pathlib import Path

import httpx

from running import BALISE, free_port, until

CHROMIUM = shutil.which("chromium") or "/usr/bin/chromium"


class Demo:
    """`balise demo` with six hosts and five hours of history."""

    def __init__(self, folder: Path, days: str = "0.2") -> None:
        self.url = f"http://127.0.0.1:{free_port()}"
        self.log = folder / "demo.log"
        self.data = folder / "data"
        words = [BALISE, "demo", "--data", str(self.data), "--hosts", "6", "--days", days, "--no-this-host"]
        words += ["--listen", self.url.removeprefix("http://")]
        with self.log.open("wb") as output:
            self._process = subprocess.Popen(words, stdout=output, stderr=output, start_new_session=True)
        # Three of these may be prepared at once beside other tests.
        until(self._ready, 120)
        self.password = re.findall(r"password (\S+)", self.log.read_text())[0]

    def _ready(self) -> bool:
        assert self._process.poll() is None, self.log.read_text()
        try:
            return httpx.get(f"{self.url}/api/v1/status").status_code == 200
        except httpx.HTTPError:
            return False

    def quays(self) -> list[str]:
        """Lines of the list of made-up servers that wait to be enrolled."""
        lines = (self.data / "quays.txt").read_text().splitlines()
        return [line for line in lines if not line.startswith("#")]

    def stop(self) -> None:
        self._process.terminate()
        self._process.wait(120)
