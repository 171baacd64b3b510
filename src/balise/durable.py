"""Files written so that a crash leaves either the old or the new one."""

from __future__ import annotations

import os
import tempfile
from pathlib import Path


def write_durably(path: Path, content: bytes) -> None:
    """Replaces a file so that after a crash either the old or the new one is there, readable by its owner alone."""
    descriptor, name = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
    try:
        with os.fdopen(descriptor, "wb") as file:
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        os.replace(name, path)
    except BaseException:
        Path(name).unlink(missing_ok=True)
        raise


def settle(folder: Path) -> None:
    """Makes the names in a folder durable."""
    descriptor = os.open(folder, os.O_RDONLY)
    try:
        os.fsync(descriptor)
    finally:
        os.close(descriptor)
