"""All sources of a host, or of all hosts: followed files, receivers, OTLP senders, channels."""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping
from typing import Any

from balise.api.hosts import NOBODYS
from balise.api.sources import Source, SourceKind, SourceState
from balise.api.spans import rfc3339
from balise.server.errors import unknown
from balise.server.hosts.directory import Directory, Known
from balise.server.hosts.reports import HostReports
from balise.server.receive.logs import LogIntake
from balise.server.receivers.book import ReceiverBook
from balise.server.receivers.senders import SenderBook

HELD_BACK_FOR = 60.0
"""Seconds for which a sender that said too much is called held back."""
STATES: tuple[SourceState, ...] = (
    "held-back", "unreadable", "nothing-matches", "binary", "directory", "stopped", "empty", "following",
)  # fmt: skip
"""What somebody has to do something about comes first."""
MOST_SOURCES, LONGEST_MESSAGE = 5000, 400
OTHER_KINDS: tuple[SourceKind, ...] = ("journal", "channel")
"""What a collector follows beside files."""
_OLD_STATES = {"missing": "nothing-matches", "not-a-file": "directory"}
"""What agents of earlier versions say."""
SENT: SourceState = "following"
"""How what senders send over OTLP is, as far as anybody can tell."""


class SourceBook:
    """Puts together what collectors, receivers and the log intake know."""

    def __init__(
        self,
        *,
        directory: Directory,
        reports: HostReports,
        senders: SenderBook,
        receivers: ReceiverBook,
        logs: LogIntake,
    ) -> None:
        self._directory = directory
        self._reports = reports
        self._senders = senders
        self._receivers = receivers
        self._logs = logs
        self._paces: dict[tuple[str, str], tuple[float, int, int, float, float]] = {}

    def all(self, host: str | None, state: SourceState | None) -> list[Source]:
        """Of one host or of all, those that somebody has to look at first. Raises Refused 404 for an unknown host."""
        now = time.time()
        known = self._directory.find(host) if host is not None else None
        if host is not None and known is None and not any(h.host == host for h in self._senders.heard()):
            raise unknown("host", host)
        hosts = self._directory.all() if host is None else [known] if known is not None else []
        found = [source for one in hosts for source in self._files(one, now, state)]
        found += self._received(host, now)
        if state in (None, SENT):
            found += self._sent(host, now)
        chosen = [source for source in found if state in (None, source.state)]
        chosen.sort(key=lambda s: (STATES.index(s.state), s.host, s.name))
        return chosen[:MOST_SOURCES]

    def _files(self, known: Known, now: float, wanted: SourceState | None) -> Iterator[Source]:
        silent = known.mode not in NOBODYS and known.is_silent(now)
        for told in self._reports.files(known.id):
            state, message = _state(told.get("status")), str(told.get("detail", ""))
            if silent:
                state, message = "stopped", f"{known.name} is silent: its lines come when it is heard again"
            if wanted not in (None, state):
                continue
            lines_pm, bytes_pm = self._pace_of_file(known.name, told, now)
            near = told.get("near")
            last = told.get("last_at")
            kind: SourceKind = next((kind for kind in OTHER_KINDS if kind == told.get("kind")), "file")
            yield Source(
                host=known.name,
                kind=kind,
                name=_path(told),
                state=state,
                message=message[:LONGEST_MESSAGE],
                near=[str(one)[:400] for one in near[:5]] if isinstance(near, list) else [],
                last_line_at=rfc3339(last) if isinstance(last, int | float) and 0 < last < now + 86_400 else None,
                lines=_whole(told.get("lines")),
                lines_per_minute=lines_pm,
                bytes_per_minute=bytes_pm,
                behind=_whole(told.get("behind")),
                by="its agent" if known.mode == "resident" else known.collected_by,
            )

    def _received(self, host: str | None, now: float) -> Iterator[Source]:
        running = {receiver.name: receiver for receiver in self._receivers.running()}
        for heard in self._senders.heard():
            if host is not None and heard.host != host:
                continue
            receiver = running.get(heard.receiver)
            sender = next((s for s in receiver.senders if s.address == heard.address), None) if receiver else None
            state: SourceState = "following"
            message = f"from {heard.address}, named by its {heard.named_by}"
            if receiver is None:
                state, message = "stopped", f"the receiver {heard.receiver} does not listen"
            elif sender is not None and now - sender.held_back_at < HELD_BACK_FOR:
                lost = f"; {sender.dropped} messages were dropped" if sender.dropped else "; nothing is lost"
                state, message = "held-back", f"{heard.address} says more than one sender may{lost}"
            yield Source(
                host=heard.host,
                kind="receiver",
                name=heard.receiver,
                state=state,
                message=message,
                last_line_at=rfc3339(heard.last_at) if heard.last_at else None,
                lines=heard.lines,
                lines_per_minute=self._pace(heard.host, _receiver(heard.receiver), heard.lines, 0, now)[0],
                dropped=(sender.dropped if sender is not None else 0) + heard.refused,
                by="the console",
            )

    def _sent(self, host: str | None, now: float) -> Iterator[Source]:
        for (name, sender), (lines, last) in self._logs.senders().items():
            if host is None or name == host:
                yield Source(
                    host=name,
                    kind="otlp",
                    name=sender,
                    state=SENT,
                    message="OTLP logs",
                    last_line_at=rfc3339(last),
                    lines=lines,
                    lines_per_minute=self._pace(name, _otlp(sender), lines, 0, now)[0],
                    by="the console",
                )

    def _pace_of_file(self, host: str, told: Mapping[str, Any], now: float) -> tuple[float | None, float | None]:
        return self._pace(host, _path(told), _whole(told.get("lines")), _whole(told.get("bytes")), now)

    def _pace(self, host: str, name: str, lines: int, size: int, now: float) -> tuple[float | None, float | None]:
        """Lines and bytes a minute since they were looked at last, half a minute ago at least."""
        key = (host, name)
        at, old_lines, old_size, lines_pm, bytes_pm = self._paces.get(key, (now, lines, size, -1.0, -1.0))
        if now - at >= 30 or key not in self._paces:
            if now > at:
                minutes = (now - at) / 60
                lines_pm, bytes_pm = max(0, lines - old_lines) / minutes, max(0, size - old_size) / minutes
            if len(self._paces) > 4 * MOST_SOURCES:
                self._paces.clear()
            self._paces[key] = (now, lines, size, lines_pm, bytes_pm)
        return (None if lines_pm < 0 else lines_pm), (None if bytes_pm < 0 or not size else bytes_pm)

    def look(self) -> None:
        """Keeps the paces known, so that they are there when somebody asks."""
        now = time.time()
        for known in self._directory.all():
            for told in self._reports.files(known.id):
                self._pace_of_file(known.name, told, now)
        for heard in self._senders.heard():
            self._pace(heard.host, _receiver(heard.receiver), heard.lines, 0, now)
        for (name, sender), (lines, _) in self._logs.senders().items():
            self._pace(name, _otlp(sender), lines, 0, now)

    def warnings(self, now: float) -> list[str]:
        """Senders that say too much, and of whom something was dropped."""
        found = []
        for receiver in self._receivers.running():
            for sender in receiver.senders:
                if sender.dropped and now - sender.held_back_at < HELD_BACK_FOR * 10:
                    found.append(
                        f"{sender.address} says more to the receiver {receiver.name} than one sender may: "
                        f"{sender.dropped} messages were dropped"
                    )
        return found[:5]


def _path(told: Mapping[str, Any]) -> str:
    return str(told.get("path", ""))[:400]


def _receiver(name: str) -> str:
    return f"receiver {name}"


def _otlp(sender: str) -> str:
    return f"otlp {sender}"


def _whole(told: Any) -> int:
    return int(told) if isinstance(told, int | float) and 0 <= told < 1 << 62 else 0


def _state(told: Any) -> SourceState:
    word = _OLD_STATES.get(str(told), str(told))
    return next((state for state in STATES if state == word), "unreadable")
