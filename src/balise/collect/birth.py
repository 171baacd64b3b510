"""When a file was made, which Python does not tell."""

from __future__ import annotations

import ctypes
import os
import struct
from collections.abc import Callable
from pathlib import Path
from typing import cast

_AT_FDCWD, _NOFOLLOW, _EMPTY_PATH, _BTIME = -100, 0x100, 0x1000, 0x800
_SIZE, _BIRTH = 256, 80
"""Of `struct statx` (statx(2)): its length, and where the time of birth stands in it."""


def _found() -> Callable[..., int] | None:
    """The call of the C library; None where it has none."""
    try:
        return cast(Callable[..., int], ctypes.CDLL(None, use_errno=True).statx)
    except (OSError, AttributeError):
        return None


_STATX = _found()


def born_at(file: Path | int) -> int:
    """Of a path, or of what is open under a number: unix nanoseconds; 0 where the system or the filesystem does not
    tell, or there is no such file."""
    if _STATX is None:
        return 0
    found = ctypes.create_string_buffer(_SIZE)
    if isinstance(file, int):
        failed = _STATX(file, b"", _EMPTY_PATH, _BTIME, found)
    else:
        failed = _STATX(_AT_FDCWD, os.fsencode(file), _NOFOLLOW, _BTIME, found)
    if failed:
        return 0
    if not struct.unpack_from("I", found)[0] & _BTIME:
        return 0
    seconds, nanos = struct.unpack_from("qI", found, _BIRTH)
    return int(seconds) * 10**9 + int(nanos)
