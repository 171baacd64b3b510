"""Getting deliveries through: each channel has its own queue, order and patience, and delays no other."""

from __future__ import annotations

import logging
import threading
import time
from collections.abc import Callable, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, field
from typing import Any

from sqlalchemy import or_, select, update
from sqlalchemy.orm import Session, aliased

from balise.server.callouts.channels.channel import MOST_ANSWER, NotThrough, Sent
from balise.server.signals import Signal
from balise.store.state.store import StateStore
from balise.store.state.tables import Delivery

log = logging.getLogger(__name__)
FIRST_WAIT = 5.0
LONGEST_WAIT = 900.0
GIVE_UP_AFTER = 24 * 3600.0
SIDE_BY_SIDE = 32
IN_A_ROW = 50
"""Deliveries of one channel sent in one turn, before channels that wait for a thread get one."""
NOTE_AGAIN = 1.0
LONGEST_REST = 1.0
"""Seconds between two looks at what is due, when nothing wakes it."""

OPEN_AFTER = 3
"""Failures in a row after which a channel's circuit is open."""
DEAD_AFTER, DEAD_SECONDS = 5, 300.0
"""Failures in a row, over at least so many seconds, after which a channel is said to be dead."""

Send = Callable[[Delivery, Sequence[str] | None], Sent]
"""Sends a delivery, to some of its addresses alone if they are given."""


@dataclass(frozen=True)
class Liveness:
    """A channel that is dead from now on, with what is wrong, or lives again."""

    channel: str
    problem: str | None


def wait_before(attempt: int) -> float:
    """Seconds before the next try: 5, 15, 45 … at most 15 minutes."""
    return min(LONGEST_WAIT, FIRST_WAIT * 3.0 ** max(0, attempt - 1))


@dataclass
class _Lane:
    """One channel: whether a thread is at it, how often it failed in a row, and until when it rests.

    After a start it is not known whether it is dead: who keeps that is told with the first that gets through.
    """

    busy: bool = False
    failures: int = 0
    failing_since: float = 0.0
    dead: bool | None = None
    not_before: float = 0.0
    lock: threading.Lock = field(default_factory=threading.Lock)


class Courier:
    """Sends what is due. What waits is in the database, so a restart loses nothing and repeats nothing sent.

    What concerns one alert or incident goes through a channel in its order, whatever fails. A channel that fails rests,
    longer each time, and everything for it waits; a delivery that it takes exception to waits alone.
    """

    def __init__(self, state: StateStore, send: Send, clock: Callable[[], float] = time.time) -> None:
        self._state = state
        self._send = send
        self._clock = clock
        self._wake = threading.Event()
        self._stopping = threading.Event()
        self._lanes: dict[str, _Lane] = {}
        self._pool = ThreadPoolExecutor(SIDE_BY_SIDE, thread_name_prefix="courier")
        self.failed = 0
        self.liveness = Signal[Liveness]("channel")
        """A channel died, or came back."""

    def is_open(self, channel: str) -> bool:
        """Whether a channel's circuit is open: it failed again and again, and is tried now and then alone."""
        lane = self._lanes.get(channel)
        return lane is not None and lane.failures >= OPEN_AFTER

    def wake(self) -> None:
        """There is something new to send."""
        self._wake.set()

    def wait(self, longest: float) -> None:
        self._wake.wait(longest)
        self._wake.clear()

    def work(self) -> None:
        """Waits a moment for something to send, and sends what is due."""
        self.wait(LONGEST_REST)
        self.send_due(self._clock())

    def send_due(self, now: float) -> int:
        """Sets a thread to work on each channel that has something due and rests no more; answers on how many."""
        waiting = select(Delivery.channel).where(_is_due(now)).distinct()
        started = 0
        for channel in self._state.read(lambda s: list(s.scalars(waiting))):
            lane = self._lanes.setdefault(channel, _Lane())
            with lane.lock:
                if lane.busy or lane.not_before > now:
                    continue
                lane.busy = True
            self._pool.submit(self._run, channel, lane)
            started += 1
        return started

    @property
    def at_work(self) -> bool:
        """Whether any channel is being sent to right now."""
        return any(lane.busy for lane in list(self._lanes.values()))

    def _run(self, channel: str, lane: _Lane) -> None:
        try:
            for _ in range(IN_A_ROW):
                if self._stopping.is_set() or not self._send_next(channel, lane):
                    return
            self.wake()
        except Exception:
            self.failed += 1
            lane.not_before = self._clock() + FIRST_WAIT
            log.exception("channel=%s", channel)
        finally:
            lane.busy = False

    def _send_next(self, channel: str, lane: _Lane) -> bool:
        """Tries the oldest delivery that may go; answers whether the channel may be tried again at once."""
        delivery = self._state.read(lambda s: _oldest(s, channel, self._clock()))
        if delivery is None:
            return False
        problem: NotThrough | None = None
        sent = Sent()
        try:
            sent = self._send(delivery, delivery.still_to)
        except NotThrough as error:
            problem = error
        except Exception as error:
            log.exception("delivery=%d channel=%s", delivery.id, channel)
            problem = NotThrough(f"could not be sent: {type(error).__name__}", alone=True)
        now = self._clock()
        self._note(delivery.id, _outcome(delivery, problem, sent, now))
        if problem is None or problem.alone:
            lane.failures = 0
            if lane.dead is not False:
                lane.dead = False
                self.liveness.tell(Liveness(channel, None))
            return True
        lane.failing_since = now if not lane.failures else lane.failing_since
        lane.failures += 1
        lane.not_before = now + wait_before(lane.failures)
        if not lane.dead and lane.failures >= DEAD_AFTER and now - lane.failing_since >= DEAD_SECONDS:
            lane.dead = True
            self.liveness.tell(Liveness(channel, str(problem)))
        return False

    def _note(self, number: int, values: dict[str, Any]) -> None:
        """Writes what became of a delivery, as often as it takes: until then nothing else goes through its channel."""
        while True:
            try:
                self._state.write(lambda s: s.execute(update(Delivery).where(Delivery.id == number).values(**values)))
                return
            except Exception:
                self.failed += 1
                log.exception("delivery=%d cannot be noted", number)
                if self._stopping.wait(NOTE_AGAIN):
                    return

    def close(self) -> None:
        self._stopping.set()
        self._pool.shutdown(wait=False, cancel_futures=True)


def _is_due(now: float) -> Any:
    return (Delivery.state == "waiting") & or_(Delivery.next_at.is_(None), Delivery.next_at <= now)


def _oldest(session: Session, channel: str, now: float) -> Delivery | None:
    """The oldest delivery of a channel that is due and has none of the same alert or incident before it."""
    other = aliased(Delivery)
    same = or_(other.alert == Delivery.alert, other.incident == Delivery.incident)
    before = (
        select(other.id)
        .where(other.channel == channel, other.state == "waiting", same, other.id < Delivery.id)
        .exists()
    )
    return session.scalar(
        select(Delivery).where(Delivery.channel == channel, _is_due(now), ~before).order_by(Delivery.id).limit(1)
    )


def _outcome(delivery: Delivery, problem: NotThrough | None, sent: Sent, now: float) -> dict[str, Any]:
    """What is written of a try: sent, waiting for the next one, or given up."""
    attempts = delivery.attempts + 1
    left = sent.left
    told = str(problem) if problem else f"not taken yet by {', '.join(left)}" if left else None
    answer = problem.answer if problem is not None else sent.answer
    values: dict[str, Any] = {"attempts": attempts, "problem": told, "still_to": left or delivery.still_to}
    values["answer"] = answer[:MOST_ANSWER] if answer else None
    if problem is None and not left:
        return values | {"state": "sent", "sent_at": now, "next_at": None, "still_to": None}
    if now - delivery.created_at > GIVE_UP_AFTER or (problem is not None and problem.final):
        return values | {"state": "given-up", "next_at": None}
    return values | {"next_at": now + wait_before(attempts)}
