"""Putting a backup back into an empty folder, from which a console is then started."""

from __future__ import annotations

import json
import os
import shutil
from pathlib import Path

from balise.durable import settle, write_durably
from balise.store.copies.manifest import FILE, Copied, Manifest, copied_through
from balise.store.folders import RESTORING, DataError
from balise.store.progress import Progress

_COPYING = ".copying"


class Restore:
    """Copies a backup into a folder, and counts each file against its digest. What was broken off goes on."""

    def __init__(self, backup: Path, target: Path, progress: Progress) -> None:
        self._backup, self._target, self._progress = backup, target, progress
        self._done = self._all = 0
        self._file = ""

    def run(self) -> Manifest:
        """Raises DataError when the backup is not what was written, or the folder is not empty or has no room."""
        manifest = Manifest.read(self._backup / FILE)
        self._take_hold(manifest)
        self._all = manifest.size
        for one in manifest.files:
            self._file = one.path
            if not self._there(one):
                self._copy(one)
        (self._target / RESTORING).unlink()
        settle(self._target)
        return manifest

    def _take_hold(self, manifest: Manifest) -> None:
        target, marker = self._target, self._target / RESTORING
        if target.exists() and not marker.exists() and any(target.iterdir()):
            raise DataError(f"{target} is not empty: name a new folder")
        target.mkdir(parents=True, exist_ok=True, mode=0o700)
        target.chmod(0o700)
        if marker.exists() and (begun := _read(marker).get("at")) != manifest.at:
            raise DataError(f"another backup was being put back into {target}: name a new folder ({begun})")
        there = sum((target / one.path).stat().st_size for one in manifest.files if (target / one.path).exists())
        needed, free = manifest.size - there, shutil.disk_usage(target).free
        if needed > free:
            raise DataError(f"{target} has room for {free / 1e9:.1f} GB, and the backup needs {needed / 1e9:.1f} GB")
        write_durably(marker, json.dumps({"from": str(self._backup.absolute()), "at": manifest.at}).encode())
        settle(target)

    def _there(self, one: Copied) -> bool:
        """Whether a file was put back whole already."""
        path = self._target / one.path
        if not path.exists() or path.stat().st_size != one.size:
            return False
        before = self._done
        with open(path, "rb") as file:
            same = copied_through(file, None, self._more) == (one.size, one.digest)
        if not same:
            self._done = before
        return same

    def _copy(self, one: Copied) -> None:
        source, target = self._backup / one.path, self._target / one.path
        target.parent.mkdir(exist_ok=True, mode=0o700)
        copying = target.with_name(target.name + _COPYING)
        copying.unlink(missing_ok=True)
        copying.touch(mode=0o600)
        try:
            with open(source, "rb") as reading, open(copying, "wb") as writing:
                found = copied_through(reading, writing, self._more)
                writing.flush()
                os.fsync(writing.fileno())
        except FileNotFoundError:
            raise DataError(f"{one.path} is missing in {self._backup}: use another backup") from None
        if found != (one.size, one.digest):
            copying.unlink()
            raise DataError(f"{one.path} in {self._backup} is not what was written there: use another backup")
        os.replace(copying, target)
        settle(target.parent)

    def _more(self, size: int) -> None:
        self._done += size
        self._progress(self._file, self._done, self._all)


def _read(marker: Path) -> dict[str, object]:
    try:
        found = json.loads(marker.read_text("utf-8"))
    except (OSError, ValueError):
        return {}
    return found if isinstance(found, dict) else {}
