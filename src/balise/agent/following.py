"""The files an agent follows: each path or pattern of its plan, read in fair shares."""

from __future__ import annotations

import logging
import time
from collections.abc import Callable, Iterator, Sequence

from balise.api.remote import FollowedFile
from balise.collect.follow import FileStatus, Follower
from balise.collect.paths import is_pattern, matching, nothing_matches
from balise.collect.position import Position
from balise.collect.readings import LogLine
from balise.collect.records import Records

log = logging.getLogger(__name__)
MOST_LINES = 5000
"""Lines handed over in one turn; what is beyond is read in the next."""
LOOK_EVERY = 10.0
"""Seconds between looks at which files a pattern names."""
LOOKED_AT = Position(inode=1)
"""Is kept for a pattern that was looked at: files that come after that are read from their beginning."""


class _Path:
    """One path of the plan, with the files it names."""

    def __init__(self, file: FollowedFile, place_of: Callable[[str], Position | None]) -> None:
        self.file = file
        self._place_of = place_of
        self.followers: dict[str, Follower] = {}
        self._looked_at: float | None = None
        self._known = not is_pattern(file.path) or place_of(file.path) is not None
        if not is_pattern(file.path):
            self.followers = {file.path: self._follower(file.path, from_start=file.from_start)}

    def look(self, now: float, taken: set[str]) -> None:
        """Finds the files that a pattern names now; those of others are left to them."""
        if not is_pattern(self.file.path) or (self._looked_at and 0 <= now - self._looked_at < LOOK_EVERY):
            return
        self._looked_at = now
        found = [path for path in matching(self.file.path) if path in self.followers or path not in taken]
        from_start = self._known or self.file.from_start
        self.followers = {p: self.followers.get(p) or self._follower(p, from_start=from_start) for p in found}
        self._known = True

    def _follower(self, path: str, *, from_start: bool) -> Follower:
        file = self.file
        reader = leaves = None
        if file.parser is not None:
            from balise.core.events.parsers import ParserReader

            reader = ParserReader(file.parser)
        if file.mask or file.send:
            from balise.core.events.leaving import leaving

            leaves = leaving(file)
        return Follower(
            path,
            from_start=from_start,
            position=self._place_of(path),
            reader=reader,
            records=Records(file.encoding, first_line=file.first_line, indented=file.indented),
            leaving=leaves,
        )

    def statuses(self) -> Iterator[FileStatus]:
        if not self.followers:
            found = nothing_matches(self.file.path)
            yield FileStatus(self.file.path, found.state, found.message, 0, 0, found.near, None, 0)
        for follower in self.followers.values():
            yield follower.status()


class Following:
    """All of them. `place_of` says how far a file was read before."""

    def __init__(self, place_of: Callable[[str], Position | None]) -> None:
        self._place_of = place_of
        self._paths: list[_Path] = []
        self._first = 0
        self.cost = 0.0
        self.problems: dict[str, str] = {}
        """By path, what kept it from being read last."""

    def take_up(self, wanted: Sequence[FollowedFile], now: float) -> None:
        """Follows these from now on, those that are followed already from where they are."""
        if [path.file for path in self._paths] != list(wanted):
            kept = {path.file.path: path for path in self._paths if path.file in wanted}
            self._paths = [kept.get(file.path) or _Path(file, self._place_of) for file in wanted]
        taken = {path for one in self._paths for path in one.followers}
        for one in self._paths:
            one.look(now, taken)
            taken.update(one.followers)

    def forget(self) -> None:
        """What was read was not kept: all of it is read again."""
        self._paths = []

    def followers(self) -> list[Follower]:
        return list({path: f for one in self._paths for path, f in one.followers.items()}.values())

    def positions(self) -> dict[str, Position]:
        looked = {one.file.path: LOOKED_AT for one in self._paths if is_pattern(one.file.path)}
        return looked | {follower.path: follower.position for follower in self.followers()}

    def statuses(self) -> list[FileStatus]:
        return [status for one in self._paths for status in one.statuses()]

    def lines(self, now: float) -> list[LogLine]:
        """What is new. Each has its share, and begins first in turn: a flood in one holds up no other."""
        began = time.thread_time()
        every = self.followers()
        self._first += 1
        turn = self._first % max(1, len(every))
        order = every[turn:] + every[:turn]
        lines: list[LogLine] = []
        for share in (MOST_LINES // max(1, len(order)), MOST_LINES):
            for follower in order:
                room = min(share, MOST_LINES - len(lines))
                if room > 0:
                    lines.extend(self._lines_of(follower, now, room))
        self.cost = time.thread_time() - began if every else 0.0
        return lines

    def _lines_of(self, follower: Follower, now: float, most: int) -> Iterator[LogLine]:
        try:
            yield from follower.read(now, most)
        except (OSError, EOFError) as error:
            if follower.path not in self.problems:
                log.warning("file=%s %s", follower.path, error)
            self.problems[follower.path] = str(error)
        else:
            self.problems.pop(follower.path, None)
