"""The front: a process of its own that takes connections. It is begun anew when it ends by itself, and that is told."""

from __future__ import annotations

import asyncio
import contextlib
import logging
import socket
import sys
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path

from balise.front.frames import Figures, Kind
from balise.server.inside import Inside

WEB = Path(__file__).parent / "web"
"""The web console, as it is built."""
AGAIN_SECONDS, STEADY_SECONDS = 1.0, 60.0
"""How long it is waited before it is begun anew, twice as long each time unless it lasted `STEADY_SECONDS`."""
LONGEST_SECONDS = 15.0
ENDING_SECONDS = 8.0
TOLD_SECONDS = 3600.0
log = logging.getLogger(__name__)


class Fronts:
    """What there is to say of the fronts there were."""

    def __init__(self) -> None:
        self.counters: Counter[str] = Counter()
        self._before: Counter[str] = Counter()
        self.cpu = 0.0
        """Cores that the present one takes."""
        self.memory = 0
        """Bytes that it holds."""
        self._used: tuple[float, float] | None = None
        """When it was told, and the seconds of a core that were used by then."""
        self._ended_at = 0.0

    def told(self, figures: Figures, now: float | None = None) -> None:
        """Figures of the present one, at a moment in seconds by any steady clock."""
        now = time.monotonic() if now is None else now
        self.counters = self._before + Counter(figures.counters)
        self.memory = figures.memory
        if self._used is not None and now > self._used[0]:
            self.cpu = max(0.0, figures.cpu_seconds - self._used[1]) / (now - self._used[0])
        self._used = now, figures.cpu_seconds

    def ended(self) -> None:
        """The present one has ended by itself."""
        self._before, self._used = self.counters, None
        self.cpu, self.memory = 0.0, 0
        self._ended_at = time.time()

    def warnings(self, now: float) -> list[str]:
        if not 0 <= now - self._ended_at < TOLD_SECONDS:
            return []
        ago = int((now - self._ended_at) // 60)
        return [f"the process that takes connections ended by itself {ago} min ago and was begun anew; see the log"]


class Front:
    """Keeps one front at a listening socket; `inside` makes the console's end of the line to each."""

    def __init__(
        self,
        listener: socket.socket,
        inside: Callable[[], Inside],
        fronts: Fronts,
        *,
        most_large: int,
        urls: tuple[str, str],
        tls: tuple[Path, Path] | None = None,
    ) -> None:
        """`most_large` is of how many bytes all large bodies may be at once; `urls` are where the console listens, and
        how others reach it, "" if that is nothing else; `tls` is certificate and key."""
        self._listener = listener
        self._inside = inside
        self._fronts = fronts
        self._words = ["--large", str(most_large), "--web", str(WEB), "--url", urls[0], "--public-url", urls[1]]
        if tls is not None:
            self._words += ["--certificate", str(tls[0]), "--key", str(tls[1])]
        self._open = self._closing = False
        self._line: Inside | None = None
        self._keeping: asyncio.Task[None] | None = None

    def start(self) -> None:
        """Begins it; connections are taken from `open` on."""
        self._keeping = asyncio.get_running_loop().create_task(self._keep())

    def open(self) -> None:
        self._open = True
        if self._line is not None:
            self._line.say(Kind.OPEN)

    def renew(self) -> None:
        """There is another certificate."""
        if self._line is not None:
            self._line.say(Kind.CERTIFICATE)

    async def close(self, within: float) -> None:
        """Takes no more connections, and ends once what is in hand is answered, or after so many seconds."""
        self._closing = True
        self._listener.close()
        if self._line is not None:
            self._line.say(Kind.CLOSE)
            await self._line.end(within)
        if self._keeping is not None:
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(self._keeping, ENDING_SECONDS)

    async def _keep(self) -> None:
        waits = 0.0
        code: int | Exception
        while not self._closing:
            began = time.monotonic()
            try:
                code = await self._once()
            except Exception as error:  # noqa: BLE001  whatever ended it, it is begun anew
                code = error
            if self._closing:
                return
            self._fronts.ended()
            lasted = time.monotonic() - began > STEADY_SECONDS
            waits = AGAIN_SECONDS if lasted else min(LONGEST_SECONDS, max(AGAIN_SECONDS, 2 * waits))
            log.error("the process that takes connections ended (%s): it is begun anew in %.0f s", code, waits)
            await asyncio.sleep(waits)

    async def _once(self) -> int:
        """Begins a front and waits until it ends; its exit code."""
        ours, theirs = socket.socketpair()
        words = ["--listener", str(self._listener.fileno()), "--line", str(theirs.fileno()), *self._words]
        with theirs:
            process = await asyncio.create_subprocess_exec(
                sys.executable,
                *("-m", "balise.front", *words),
                stdin=asyncio.subprocess.DEVNULL,
                pass_fds=(self._listener.fileno(), theirs.fileno()),
            )
        try:
            _, line = await asyncio.get_running_loop().create_unix_connection(self._inside, sock=ours)
            self._line = line
            if self._open:
                line.say(Kind.OPEN)
            return await process.wait()
        finally:
            self._line = None
            if process.returncode is None:
                process.kill()
