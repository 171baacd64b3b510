"""A program on the console's own machine."""

from __future__ import annotations

import contextlib
import json
import os
import signal
import subprocess
from collections.abc import Sequence
from typing import Any

from balise.server.callouts.channels.channel import MOST_ANSWER, TIME_LIMIT, Channel, NotThrough, Sent
from balise.server.callouts.channels.messages import told
from balise.store.state.tables import Delivery

OFF = "commands are off: whoever runs the service allows them with balise serve --channels-may-run"
ENVIRONMENT = {"PATH": "/usr/local/bin:/usr/bin:/bin", "LANG": "C.UTF-8"}


class Command(Channel):
    """Runs its arguments as they are, by no shell, with what is told as JSON on standard input."""

    kind = "command"

    def send(self, delivery: Delivery, only: Sequence[str] | None) -> Sent:
        """As Channel.send: through when the program ends with 0 in time."""
        if not self._outside.may_run:
            raise NotThrough(OFF)
        content = json.dumps({"kind": delivery.kind, **told(delivery, self._outside)}, ensure_ascii=False).encode()
        try:
            process = subprocess.Popen(
                self._settings["arguments"],
                stdin=subprocess.PIPE,
                stdout=subprocess.PIPE,
                stderr=subprocess.STDOUT,
                env=ENVIRONMENT,
                cwd="/",
                start_new_session=True,
            )
        except (OSError, ValueError) as error:
            reason = os.strerror(error.errno) if isinstance(error, OSError) and error.errno else "it cannot be run"
            raise NotThrough(f"the program cannot be started: {reason}") from None
        try:
            said, _ = process.communicate(content, timeout=TIME_LIMIT)
        except subprocess.TimeoutExpired:
            raise NotThrough(f"the program did not end within {TIME_LIMIT:.0f} s") from None
        finally:
            with contextlib.suppress(ProcessLookupError, PermissionError):
                os.killpg(process.pid, signal.SIGKILL)
            process.wait()
        text = said[:MOST_ANSWER].decode("utf-8", "replace").strip()
        if process.returncode:
            raise NotThrough(f"the program ended with {process.returncode}", answer=text)
        return Sent(answer=text)

    @staticmethod
    def place_of(settings: dict[str, Any]) -> tuple[Any, ...]:
        return tuple(settings.get("arguments", ()))
