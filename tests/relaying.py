"""Relays in processes of their own, and counts of what came through them."""

from __future__ import annotations

import subprocess
from collections.abc import Sequence
from pathlib import Path

import httpx

from balise.api.agents import EnrolRequest
from balise.api.hosts import Facts
from balise.api.metrics import MetricQuery
from balise.api.secrets import Secret
from balise.client import Balise, Refused
from running import BALISE, Service, free_port, until


class RelayProcess:
    """`balise relay run` in a process of its own."""

    def __init__(
        self, service: Service, folder: Path, key: str, *options: str, name: str = "relay-1", tls: Sequence[str] = ()
    ) -> None:
        self._tls = tls
        self.folder = folder / name
        self.port = free_port()
        self.url = f"{'https' if tls else 'http'}://127.0.0.1:{self.port}"
        words = [BALISE, "relay", "enrol", "--console", service.url, "--key", key, "--state", str(self.folder)]
        made = subprocess.run([*words, "--name", name, *options], capture_output=True, text=True, check=False)
        assert made.returncode == 0, made.stderr
        self.start()

    def start(self) -> None:
        words = [BALISE, "relay", "run", "--state", str(self.folder), "--listen", f"127.0.0.1:{self.port}"]
        words += self._tls
        with (self.folder / "log").open("ab") as log:
            self._process = subprocess.Popen(words, stdout=log, stderr=log, start_new_session=True)
        until(self._ready, 20)

    def _ready(self) -> bool:
        try:
            return httpx.get(f"{self.url}/api/v1/status", verify=False).status_code == 200
        except httpx.HTTPError:
            return False

    def kill(self) -> None:
        self._process.kill()
        self._process.wait(10)

    def stop(self) -> None:
        if self._process.poll() is None:
            self._process.terminate()
            self._process.wait(20)
        assert "Traceback" not in (self.folder / "log").read_text()


def enrolled(admin: Balise, key: str, names: Sequence[str]) -> dict[str, str]:
    """Agents that a key lets in, each with its token."""
    asked = ((n, EnrolRequest(key=Secret(key), facts=Facts(host_name=n, machine_id=n))) for n in names)
    return {name: admin.call("POST", "/agents/enrol", one)["token"] for name, one in asked}


def counted(admin: Balise, metric: str, host: str) -> float:
    """The points of a host's metric within the last hour and that before it: steps begin at whole hours."""
    query = MetricQuery(metric=metric, where=f'host eq "{host}"', from_="-1h", step="1h", take="count", by=["host"])
    try:
        return sum(v or 0 for s in admin.metrics.read(query).series for v in s.values)
    except Refused:
        return 0.0
