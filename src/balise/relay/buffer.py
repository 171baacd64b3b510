"""What waits to be forwarded, on disk, in order: segments that frames are appended to."""

from __future__ import annotations

import asyncio
import logging
import os
import time
import zlib
from io import FileIO
from pathlib import Path

from balise.relay.gathering import Gathering
from balise.relay.segments import HEAD, Place, Segment, count, frames_before, keep_place, read_place, remove, scan

log = logging.getLogger(__name__)
SEGMENT = 8 << 20


class Buffer:
    """Frames in the order in which they came, at most `limit` bytes of them.

    Beyond the limit the oldest segment goes, and its frames are counted in `dropped`. `put` returns once the frame
    is on disk: many that wait at once share one fsync.
    """

    def __init__(self, folder: Path, limit: int) -> None:
        folder.mkdir(parents=True, exist_ok=True, mode=0o700)
        self._folder = folder
        self.limit = max(limit, 2 * SEGMENT)
        self._gathering = Gathering(self._write, self._written)
        self.filled = asyncio.Event()
        self.dropped = 0
        self._flying: list[Place] = []
        self._segments = [scan(path) for path in sorted(folder.glob("*.seg"))]
        self._read = read_place(folder, self._segments[0].number if self._segments else 1)
        self._out = self._begin((self._segments[-1].number if self._segments else 0) + 1)
        self._forget_read()
        self._left = sum(s.frames for s in self._segments) - frames_before(self._segments, self._read)
        if self._left:
            self.filled.set()

    def __len__(self) -> int:
        """Frames that wait."""
        return self._left

    @property
    def size(self) -> int:
        return sum(s.size for s in self._segments) - (self._read.offset if self._segments else 0)

    @property
    def oldest_at(self) -> float | None:
        """When the oldest that waits came, to the segment; unix seconds."""
        return self._segments[0].first_at if self._left and self._segments else None

    # --- putting in

    async def put(self, frame: bytes) -> None:
        """Keeps a frame durably.

        Raises:
            OSError: the disk is full, or the folder is gone.
        """
        await self._gathering.put(frame)

    def _written(self, frames: int) -> None:
        self._left += frames
        self._keep_to_limit()
        self.filled.set()

    def _write(self, frames: list[bytes]) -> None:
        segment = self._segments[-1]
        data = b"".join(HEAD.pack(len(f), zlib.crc32(f)) + f for f in frames)
        try:
            rest = memoryview(data)
            while rest:
                rest = rest[self._out.write(rest) :]
            os.fsync(self._out.fileno())
        except OSError:
            # What was half written was never acknowledged: it goes, so that the next frame follows the last whole one.
            self._out.truncate(segment.size)
            self._out.seek(segment.size)
            raise
        segment.first_at = segment.first_at or time.time()
        segment.size += len(data)
        segment.frames += len(frames)
        if segment.size >= SEGMENT:
            self._begin_next(segment.number + 1)

    def _begin_next(self, number: int) -> None:
        try:
            following = self._begin(number)
        except OSError as error:
            # No room for another file: this one goes on, longer than it should be.
            log.error("segment=%d cannot be begun: %s", number, error.strerror)
            return
        self._out.close()
        self._out = following

    def _begin(self, number: int) -> FileIO:
        path = self._folder / f"{number:010d}.seg"
        file = FileIO(os.open(path, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o600), "wb")
        self._segments.append(Segment(number, path, 0, 0, 0.0))
        return file

    def _keep_to_limit(self) -> None:
        while self.size > self.limit and len(self._segments) > 1:
            oldest = self._segments.pop(0)
            lost = oldest.frames
            if self._read.segment == oldest.number:
                # What was read of it has been forwarded; what is on the way is lost unless it arrives.
                lost -= count(oldest, self._read.offset)
            self.dropped += lost
            self._left -= lost
            remove(oldest.path)
            self._read = Place(self._segments[0].number, 0)
            keep_place(self._folder, self._read)

    # --- taking out

    def take(self, most_bytes: int, most_frames: int) -> tuple[list[bytes], list[Place]]:
        """The oldest frames, and behind each the place up to which it reaches. They stay until `done`."""
        frames: list[bytes] = []
        places: list[Place] = []
        size, place = 0, self._read
        for segment in list(self._segments):
            if segment.number < place.segment:
                continue
            offset = place.offset if segment.number == place.segment else 0
            try:
                with segment.path.open("rb") as file:
                    file.seek(offset)
                    while offset < segment.size and size < most_bytes and len(frames) < most_frames:
                        length, _ = HEAD.unpack(file.read(HEAD.size))
                        frames.append(file.read(length))
                        offset += HEAD.size + length
                        size += length
                        places.append(Place(segment.number, offset))
            except FileNotFoundError:
                # The buffer overflowed meanwhile, or somebody removed it: the next look begins behind it.
                self._leave(segment)
                break
            if size >= most_bytes or len(frames) >= most_frames:
                break
        self._flying = places
        return frames, places

    def _leave(self, segment: Segment) -> None:
        """A segment that is there no more, though it should be: what it held is lost, and said."""
        if segment is not self._segments[0] or len(self._segments) < 2:
            return
        log.error("segment=%s is gone with %d frames", segment.path.name, segment.frames)
        self._segments.pop(0)
        self.dropped += segment.frames
        self._left -= segment.frames
        self._read = Place(self._segments[0].number, 0)

    def done(self, place: Place) -> None:
        """Everything up to a place, of what was taken last, was taken by the console."""
        arrived = [p for p in self._flying if p <= place]
        overtaken = sum(1 for p in arrived if p <= self._read or p.segment < self._segments[0].number)
        # What overflowed while it was on the way was counted as dropped, and has arrived all the same.
        self.dropped -= overtaken
        self._left -= len(arrived) - overtaken
        self._flying = self._flying[len(arrived) :]
        if place > self._read:
            self._read = place
            self._forget_read()
            keep_place(self._folder, self._read)
        if not self._left:
            self.filled.clear()

    def _forget_read(self) -> None:
        while len(self._segments) > 1 and (
            self._segments[0].number < self._read.segment
            or (self._segments[0].number == self._read.segment and self._read.offset >= self._segments[0].size)
        ):
            gone = self._segments.pop(0)
            remove(gone.path)
            if self._read.segment <= gone.number:
                self._read = Place(self._segments[0].number, 0)

    async def close(self) -> None:
        await self._gathering.close()
        self._out.close()
