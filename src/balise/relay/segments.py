"""Segments of a relay's buffer on disk, and the place up to which they were forwarded."""

from __future__ import annotations

import json
import logging
import os
import struct
import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from balise.durable import write_durably

log = logging.getLogger(__name__)
HEAD = struct.Struct(">II")
"""Length and CRC-32 of what follows."""


@dataclass(frozen=True, order=True)
class Place:
    """A place in the buffer: a segment and an offset in it."""

    segment: int
    offset: int


@dataclass
class Segment:
    """One file of frames: how long it is, how many it holds, and when the first of them came, unix seconds."""

    number: int
    path: Path
    size: int
    frames: int
    first_at: float


def scan(path: Path) -> Segment:
    """A segment as it is: a torn end was never acknowledged and is cut off."""
    frames, good = 0, 0
    with path.open("r+b") as file:
        while len(head := file.read(HEAD.size)) == HEAD.size:
            length, crc = HEAD.unpack(head)
            content = file.read(length)
            if len(content) < length or zlib.crc32(content) != crc:
                break
            frames, good = frames + 1, good + HEAD.size + length
        file.truncate(good)
    return Segment(int(path.stem), path, good, frames, path.stat().st_mtime if frames else 0.0)


def count(segment: Segment, upto: int) -> int:
    """How many frames a segment has before an offset."""
    count = offset = 0
    with segment.path.open("rb") as file:
        while offset < upto:
            length, _ = HEAD.unpack(file.read(HEAD.size))
            file.seek(length, os.SEEK_CUR)
            offset += HEAD.size + length
            count += 1
    return count


def frames_before(segments: Sequence[Segment], place: Place) -> int:
    """How many frames all segments have before a place."""
    return sum(
        count(s, place.offset) if s.number == place.segment else s.frames for s in segments if s.number <= place.segment
    )


def read_place(folder: Path, first: int) -> Place:
    """How far was forwarded, as it was kept; the begin of the `first` segment if it was not."""
    try:
        held = json.loads((folder / "read.json").read_text("utf-8"))
        place = Place(int(held["segment"]), int(held["offset"]))
    except (OSError, ValueError, KeyError, TypeError):
        return Place(first, 0)
    return place if place.segment >= first else Place(first, 0)


def keep_place(folder: Path, place: Place) -> None:
    """Keeps how far was forwarded. Where that cannot be, it is forwarded again after a start, and counts once."""
    content = json.dumps({"segment": place.segment, "offset": place.offset})
    try:
        write_durably(folder / "read.json", content.encode())
    except OSError as error:
        log.error("how far was forwarded cannot be kept: %s", error.strerror)


def remove(path: Path) -> None:
    """Removes a segment; one that cannot be is read again after the next start, and counts once all the same."""
    try:
        path.unlink(missing_ok=True)
    except OSError as error:
        log.error("segment=%s cannot be removed: %s", path.name, error.strerror)
