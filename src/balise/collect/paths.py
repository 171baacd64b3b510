"""What is at a path: a file that can be read, or why not, in words that say what to do."""

from __future__ import annotations

import difflib
import glob
import itertools
import os
import stat
from collections.abc import Iterator
from dataclasses import dataclass, field

from balise.api.sources import LONGEST_TRIED, MOST_TRIED_LINES, PathTried, SourceState

MOST_NAMES, MOST_MATCHES, MOST_NEAR = 2000, 500, 5
LOOKED_AT = 4096
"""Bytes by which a binary file is told."""
TAIL = 256 << 10
WILD = "*?["


@dataclass(frozen=True)
class Found:
    """What is at a path; `near` are names that exist and are nearly the one that does not."""

    state: SourceState
    message: str
    near: list[str] = field(default_factory=list)


def is_pattern(path: str) -> bool:
    return any(sign in path for sign in WILD)


def matching(pattern: str) -> list[str]:
    """The regular files that a pattern names, `**` for folders of any depth; in their order, at most 500."""
    found = itertools.islice(glob.iglob(pattern, recursive=True), MOST_NAMES)
    return sorted(path for path in itertools.islice((p for p in found if os.path.isfile(p)), MOST_MATCHES))


def look_at(path: str) -> Found:
    """What is at a path that is no pattern."""
    try:
        about = os.stat(path)
    except FileNotFoundError:
        near = nearest(path)
        there = f"there is no such file; nearly so: {', '.join(near)}" if near else "there is no such file"
        return Found("nothing-matches", f"{there}: is the path right?", near)
    except NotADirectoryError:
        return Found("nothing-matches", "a part of this path is a file, not a directory: is the path right?")
    except OSError as error:
        return Found("unreadable", refused(path, error))
    if stat.S_ISDIR(about.st_mode):
        names = sorted(_names(path))[:MOST_NEAR]
        inside = [os.path.join(path, name) for name in names]
        return Found("directory", f"this is a directory: name a file in it, or all of them: {path}/*", inside)
    if not stat.S_ISREG(about.st_mode):
        return Found("unreadable", "this is no regular file, but a device, a pipe or a socket")
    try:
        with open(path, "rb", buffering=0) as file:
            begin = file.read(LOOKED_AT) or b""
    except OSError as error:
        return Found("unreadable", refused(path, error))
    if is_binary(begin):
        return Found("binary", "this is no text: much of it is zero bytes")
    if not about.st_size:
        return Found("empty", "the file is there and can be read; nothing is written to it yet")
    return Found("following", f"{about.st_size} bytes")


def is_binary(begin: bytes) -> bool:
    """Whether the first bytes of a file are no text. A log may hold a few zero bytes; UTF-16 says so by its mark."""
    return begin.count(0) > max(8, len(begin) / 20) and not begin.startswith((b"\xff\xfe", b"\xfe\xff"))


def nothing_matches(pattern: str) -> Found:
    """Why a pattern names no file."""
    fixed = pattern[: min(pattern.index(sign) for sign in WILD if sign in pattern)]
    folder = fixed.rpartition("/")[0] or "/"
    if not os.path.isdir(folder):
        near = nearest(folder)
        return Found("nothing-matches", f"there is no directory {folder}: is the path right?", near)
    if not _may(folder, os.R_OK | os.X_OK):
        return Found("unreadable", refused(folder, PermissionError(13, "Permission denied")))
    names = [name for name in _names(folder) if os.path.isfile(os.path.join(folder, name))]
    wanted = pattern.rpartition("/")[2].translate({ord(sign): None for sign in "*?[]"})
    close = difflib.get_close_matches(wanted, names, MOST_NEAR, 0.3) or sorted(names)[:MOST_NEAR]
    return Found("nothing-matches", "no file has a name like this", [os.path.join(folder, name) for name in close])


def nearest(path: str) -> list[str]:
    """Paths that exist and are nearly this one, up to the first part of it that does not exist."""
    folder, name = os.path.split(path.rstrip("/"))
    while folder not in ("", "/") and not os.path.isdir(folder):
        folder, name = os.path.split(folder)
    close = difflib.get_close_matches(name, list(_names(folder or "/")), MOST_NEAR, 0.5)
    return [os.path.join(folder or "/", one) for one in close]


def _names(folder: str) -> Iterator[str]:
    try:
        with os.scandir(folder) as entries:
            yield from (entry.name for entry in itertools.islice(entries, MOST_NAMES))
    except OSError:
        return


def refused(path: str, error: OSError) -> str:
    """Why this user may not read a path: which right is missing, and on what."""
    if not isinstance(error, PermissionError):
        return f"it cannot be read: {error.strerror or error}"
    who = user()
    parts = path.split("/")
    for depth in range(2, len(parts)):
        folder = "/".join(parts[:depth])
        if not _may(folder, os.X_OK):
            return f"it is read as {who}, who may not enter {folder} ({_mode(folder)})"
    return f"it is read as {who}, who may not read it ({_mode(path)}): add {who} to its group, or let others read it"


def _may(path: str, right: int) -> bool:
    """Whether this user, as it is now, has a right."""
    return os.access(path, right, effective_ids=os.access in os.supports_effective_ids)


def _mode(path: str) -> str:
    """`mode 0640, owner root, group adm`, as far as that can be told."""
    try:
        about = os.stat(path)
    except OSError:
        return "what it allows cannot be seen"
    try:
        import grp
        import pwd

        owner, group = pwd.getpwuid(about.st_uid).pw_name, grp.getgrgid(about.st_gid).gr_name
    except (ImportError, KeyError):
        owner, group = str(about.st_uid), str(about.st_gid)
    return f"mode {stat.S_IMODE(about.st_mode):04o}, owner {owner}, group {group}"


def user() -> str:
    """Who reads."""
    try:
        import pwd

        return pwd.getpwuid(os.geteuid()).pw_name
    except (ImportError, KeyError):
        return str(os.geteuid()) if hasattr(os, "geteuid") else "this user"


def tried(path: str) -> PathTried:
    """The last lines at a path, or why there are none; of a pattern, those of the file written last."""
    if is_pattern(path):
        files = matching(path)
        if not files:
            found = nothing_matches(path)
            return PathTried(state=found.state, message=found.message, near=found.near)
        newest = max(files, key=_written)
        one = tried(newest)
        many = f"{len(files)} files match; {newest} was written last" if len(files) > 1 else newest
        return one.model_copy(update={"message": f"{many}: {one.message}", "near": files[:MOST_NEAR]})
    found = look_at(path)
    lines = last_lines(path) if found.state == "following" else []
    return PathTried(state=found.state, message=found.message, near=found.near, lines=lines)


def _written(path: str) -> float:
    try:
        return os.stat(path).st_mtime
    except OSError:
        return 0.0


def last_lines(path: str) -> list[str]:
    """The last lines of a file, each cut to 2,000 characters. Raises nothing: what cannot be read has none."""
    try:
        with open(path, "rb", buffering=0) as file:
            size = file.seek(0, os.SEEK_END)
            file.seek(max(0, size - TAIL))
            data = file.read(TAIL) or b""
    except OSError:
        return []
    lines = data.decode("utf-8", "replace").splitlines()
    if size > TAIL:
        lines = lines[1:]
    return [line[:LONGEST_TRIED] for line in lines[-MOST_TRIED_LINES:]]
