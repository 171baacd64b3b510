"""What rules have to know after a restart, packed: JSON, compressed."""

from __future__ import annotations

import json
import zlib
from collections.abc import Callable
from typing import Any, TypeVar

T = TypeVar("T")


def packed(told: Any) -> bytes:
    return zlib.compress(json.dumps(told, separators=(",", ":")).encode(), 1)


def unpacked(content: bytes, read: Callable[[Any], T]) -> T | None:
    """What `read` makes of it; None when it cannot be read: then whoever needs it begins anew."""
    try:
        return read(json.loads(zlib.decompress(content)))
    except (ValueError, TypeError, AttributeError, zlib.error):
        return None
