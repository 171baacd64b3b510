"""Backing up a console's data while it runs: every database as of one moment, verified, and what stands beside them."""

from __future__ import annotations

import os
import shutil
import sqlite3
from contextlib import closing
from pathlib import Path

from balise import __version__
from balise.durable import settle
from balise.store.copies.manifest import FILE, UNFINISHED, Copied, Manifest, copied_through
from balise.store.copies.moment import Moment
from balise.store.folders import KEY, DataError, databases, must_be_whole, other_files
from balise.store.progress import Progress

PAGES = 2048
"""Pages of one step of copying."""
_COPYING = ".copying"


class Backup:
    """Copies a data folder into an empty folder, or goes on with a copy that was broken off."""

    def __init__(self, data: Path, target: Path, progress: Progress, *, key: bool = True) -> None:
        """Without `key` the copy does not have what reads secrets."""
        self._data, self._target, self._progress = data, target, progress
        self._key = key
        self._done = self._all = 0
        self._file = ""

    def run(self) -> Manifest:
        """Raises DataError when there is nothing to copy, no room for it, or the copy is not what it should be."""
        must_be_whole(self._data)
        if not (self._data / "state.db").exists():
            raise DataError(f"there is no console's data in {self._data}: name its folder with --data")
        earlier = self._begun()
        sources = databases(self._data)
        plain = [path for path in other_files(self._data) if self._key or path.name != KEY]
        marks = {path: _mark(path) for path in [*sources, *plain]}
        kept = {one.path: one for one in earlier.files if self._still(one, marks)}
        self._all = 2 * sum(_length(path) for path in marks if self._name(path) not in kept)
        self._need_room(self._all // 2)
        state = self._data / "state.db"
        moment = Moment(state, [path for path in sources if path != state])
        try:
            made = Manifest(__version__, moment.at, list(kept.values()))
            self._forget_others(made)
            for path in sources:
                if self._name(path) not in kept:
                    self._note(made, path, self._database(moment, path), marks[path])
                moment.let_go(path)
            for path in plain:
                if self._name(path) not in kept:
                    self._note(made, path, self._plain(path), marks[path])
        finally:
            moment.close()
        made.files.sort(key=lambda one: one.path)
        made.write(self._target / FILE)
        (self._target / UNFINISHED).unlink(missing_ok=True)
        settle(self._target)
        return made

    def _begun(self) -> Manifest:
        """What was copied before it was broken off."""
        target = self._target
        if (target / FILE).exists():
            raise DataError(f"{target} holds a backup already: name another folder")
        if target.exists() and not (target / UNFINISHED).exists() and any(target.iterdir()):
            raise DataError(f"{target} is not empty: name another folder")
        if (target / UNFINISHED).exists():
            return Manifest.read(target / UNFINISHED)
        target.mkdir(parents=True, exist_ok=True, mode=0o700)
        target.chmod(0o700)
        begun = Manifest(__version__, 0.0)
        begun.write(target / UNFINISHED)
        return begun

    def _still(self, one: Copied, marks: dict[Path, str]) -> bool:
        """Whether a file was copied whole and its source was not touched since."""
        path = self._target / one.path
        return marks.get(self._data / one.path) == one.mark and path.exists() and path.stat().st_size == one.size

    def _forget_others(self, made: Manifest) -> None:
        """Removes what a copy that was broken off left and this one does not have: nothing is in it unnoted."""
        made.write(self._target / UNFINISHED)
        noted = {one.path for one in made.files} | {UNFINISHED}
        for path in [*self._target.glob("*"), *self._target.glob("*/*")]:
            if path.is_file() and str(path.relative_to(self._target)) not in noted:
                path.unlink()

    def _need_room(self, size: int) -> None:
        free = shutil.disk_usage(self._target).free
        if size > free:
            raise DataError(f"{self._target} has room for {free / 1e9:.1f} GB, and the copy needs {size / 1e9:.1f} GB")

    def _name(self, path: Path) -> str:
        return str(path.relative_to(self._data))

    def _note(self, made: Manifest, path: Path, copied: tuple[int, str], mark: str) -> None:
        made.files.append(Copied(self._name(path), *copied, mark))
        made.write(self._target / UNFINISHED)

    def _database(self, moment: Moment, path: Path) -> tuple[int, str]:
        """Copies one database as of the moment, and has SQLite verify what was written."""
        target, copying = self._places(path)
        view = moment.view(path)
        page = int(view.execute("PRAGMA page_size").fetchone()[0])
        before = self._done

        def told(_status: int, remaining: int, total: int) -> None:
            self._tell(before + (total - remaining) * page)

        with closing(sqlite3.connect(copying)) as copy:
            view.backup(copy, pages=PAGES, progress=told)
        with closing(sqlite3.connect(f"file:{copying}?immutable=1", uri=True)) as copy:
            found = copy.execute("PRAGMA integrity_check(3)").fetchall()
        if found != [("ok",)]:
            raise DataError(
                f"the copy of {self._file} is not whole ({found[0][0]}): see balise data check --data {self._data}"
            )
        return self._finish(copying, target)

    def _plain(self, path: Path) -> tuple[int, str]:
        target, copying = self._places(path)
        with open(path, "rb") as source, open(copying, "wb") as file:
            copied_through(source, file, self._more)
        return self._finish(copying, target)

    def _places(self, path: Path) -> tuple[Path, Path]:
        self._file = self._name(path)
        target = self._target / self._file
        target.parent.mkdir(exist_ok=True, mode=0o700)
        copying = target.with_name(target.name + _COPYING)
        copying.unlink(missing_ok=True)
        copying.touch(mode=0o600)
        return target, copying

    def _finish(self, copying: Path, target: Path) -> tuple[int, str]:
        with open(copying, "rb+") as file:
            os.fsync(file.fileno())
            size, digest = copied_through(file, None, self._more)
        os.replace(copying, target)
        settle(target.parent)
        return size, digest

    def _more(self, size: int) -> None:
        self._tell(self._done + size)

    def _tell(self, done: int) -> None:
        self._done = done
        self._progress(self._file, min(done, self._all), self._all)


def _length(path: Path) -> int:
    return path.stat().st_size if path.exists() else 0


def _mark(path: Path) -> str:
    """What changes whenever a file, or the log of a database, is written."""
    log = path.with_name(path.name + "-wal")
    return " ".join(f"{p.stat().st_size}:{p.stat().st_mtime_ns}" for p in (path, log) if p.exists())
