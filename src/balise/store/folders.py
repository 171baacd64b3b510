"""What there is in a console's data folder, and who may open it."""

from __future__ import annotations

import fcntl
import json
import os
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

RESTORING = "restoring.json"
"""Is there while a backup is being put back: until it is gone, the folder is not whole."""
KEY = "secret.key"
"""Reads secrets, unless the environment has another."""
_SERVED = "served.lock"


class DataError(Exception):
    """Something with the data folder or a copy of it that a person has to put right; the message says what."""


def must_be_whole(folder: Path) -> None:
    """Raises DataError while a backup is being put back into the folder."""
    if (folder / RESTORING).exists():
        try:
            source = json.loads((folder / RESTORING).read_text("utf-8"))["from"]
        except (OSError, ValueError, KeyError, TypeError):
            source = "DIR"
        raise DataError(
            f"{folder} is not whole: a backup was being put back into it. Go on with "
            f"balise data restore {source} --data {folder}"
        )


@contextmanager
def served(folder: Path) -> Iterator[Path]:
    """Holds the folder as the one service that runs on it.

    Raises:
        DataError: another one does, or the folder is not whole.
    """
    must_be_whole(folder)
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    descriptor = os.open(folder / _SERVED, os.O_RDWR | os.O_CREAT | os.O_CLOEXEC, 0o600)
    try:
        try:
            fcntl.flock(descriptor, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except OSError:
            raise DataError(
                f"a console runs on {folder} already, or something mends it: wait for it, or stop it"
            ) from None
        yield folder
    finally:
        os.close(descriptor)


def databases(folder: Path) -> list[Path]:
    """The databases of a data folder, but for the words of events, which are made anew from those."""
    found = [path for path in (folder / "state.db", folder / "series.db") if path.exists()]
    return found + sorted(p for p in (folder / "events").glob("*.db") if not p.name.endswith(".words.db"))


def other_files(folder: Path) -> list[Path]:
    """What stands beside the databases and cannot be made anew: keys, certificates, days that were set aside, and which
    were brought back."""
    found = [folder / KEY]
    for name in ("tls", "aside"):
        found += sorted(p for p in (folder / name).glob("*") if not p.name.startswith("."))
    found += sorted((folder / "events").glob("*.brought-back"))
    return [path for path in found if path.is_file() and not path.is_symlink()]
