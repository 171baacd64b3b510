"""Work in a process of its own: one of our own commands, which tells how far it is."""

from __future__ import annotations

import json
import logging
import subprocess
import sys
import threading
import time
from collections import deque
from collections.abc import Sequence

from balise.api.data import DataJob
from balise.api.spans import rfc3339

GRACE_SECONDS = 10.0
MOST_LINE = 4096
log = logging.getLogger(__name__)


class Job:
    """Runs `balise data …`; its answer and its errors stay the last lines that it said."""

    def __init__(self, kind: str, name: str, words: Sequence[str]) -> None:
        self._shown = DataJob.model_validate({"kind": kind, "name": name, "began_at": rfc3339(time.time())})
        self._said: deque[str] = deque(maxlen=5)
        self._process = subprocess.Popen(
            [sys.executable, "-m", "balise.cli", "data", *words, "--progress", "json"],
            stdin=subprocess.DEVNULL,
            stdout=subprocess.DEVNULL,
            stderr=subprocess.PIPE,
        )
        self._reading = threading.Thread(target=self._read, name=f"{kind}-{name}", daemon=True)
        self._reading.start()

    def _read(self) -> None:
        assert self._process.stderr is not None
        with self._process.stderr as lines:
            while line := lines.readline(MOST_LINE):
                text = line.decode("utf-8", "replace").strip()
                try:
                    told = json.loads(text)
                    changed = {"at_hand": str(told["what"]), "done": int(told["done"]), "of": int(told["of"])}
                    self._shown = self._shown.model_copy(update=changed)
                except (ValueError, KeyError, TypeError):
                    if text:
                        self._said.append(text.removeprefix("balise: "))

    @property
    def name(self) -> str:
        return self._shown.name

    @property
    def shown(self) -> DataJob:
        return self._shown

    def ended(self) -> str | None:
        """None while it works; then what it complains of, "" for nothing."""
        code = self._process.poll()
        if code is None:
            return None
        self._reading.join(GRACE_SECONDS)
        if code == 0:
            return ""
        log.warning("job=%s name=%s ended with %d: %s", self._shown.kind, self._shown.name, code, " ".join(self._said))
        return " ".join(self._said)[-500:] or f"it was ended ({code})"

    def stop(self) -> None:
        """Ends it where it is: begun again, it goes on from there."""
        if self._process.poll() is None:
            self._process.terminate()
            try:
                self._process.wait(GRACE_SECONDS)
            except subprocess.TimeoutExpired:
                self._process.kill()
                self._process.wait()
