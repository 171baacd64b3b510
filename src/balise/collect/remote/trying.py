"""Trying a path on a host that is reached over SSH."""

from __future__ import annotations

import difflib
import os
import shlex

from balise.api.sources import LONGEST_TRIED, MOST_TRIED_LINES, PathTried
from balise.collect.paths import MOST_NEAR, is_pattern
from balise.collect.remote.globs import find_command, named
from balise.collect.remote.link import LinkProblem
from balise.collect.remote.ssh import SshLink

LIMIT, MOST_BYTES = 8.0, 512 << 10


def _script(path: str) -> str:
    """Says what is at a path, then its last lines, or the names beside it."""
    folder, name = os.path.split(path)
    # What is quoted stays as it is; of a pattern the shell is to find the files, the one written last first.
    words = name if is_pattern(name) else shlex.quote(name)
    if is_pattern(name):
        words = "".join(c if c.isalnum() or c in "*?[]._-" else "\\" + c for c in name)
    there = shlex.quote(folder or "/")
    return (
        "LC_ALL=C; export LC_ALL; exec 2>/dev/null; "
        f"if ! cd {there}; then [ -e {there} ] && echo closed $(id -un) || echo nowhere; exit; fi; "
        f"f=$(ls -1td -- {words} | head -n 1); "
        'if [ -z "$f" ]; then echo missing; ls -1a | head -n 2000; '
        'elif [ -d "$f" ]; then echo directory; ls -1 "$f" | head -n 5; '
        'elif [ ! -f "$f" ]; then echo special; '
        'elif [ ! -r "$f" ]; then echo unreadable $(id -un) $(stat -c "%a %U %G" "$f"); '
        'elif [ ! -s "$f" ]; then echo empty; '
        'elif [ "$(head -c 4096 "$f" | tr -dc "\\000" | wc -c)" -gt 204 ]; then echo binary; '
        f'else echo following "$f"; tail -n {MOST_TRIED_LINES} "$f" | cut -c 1-{LONGEST_TRIED}; fi\n'
    )


async def try_path(link: SshLink, path: str) -> PathTried:
    """The last lines at a path, or why there are none. Never raises."""
    try:
        if "**" in path:
            _, listing, _ = await link.command(find_command(path) + " 2>/dev/null\n", LIMIT, MOST_BYTES)
            files = named(path, listing)
            if not files:
                return PathTried(state="nothing-matches", message="no file has a name like this")
            one = await try_path(link, files[-1])
            many = f"{len(files)} files match; the last by name: {one.message}" if len(files) > 1 else one.message
            return one.model_copy(update={"message": many, "near": files[:MOST_NEAR]})
        _, out, _ = await link.command(_script(path), LIMIT, MOST_BYTES)
    except LinkProblem as problem:
        return PathTried(state="stopped", message=f"the host cannot be read now: {problem}")
    head, _, rest = out.partition("\n")
    return _told(path, head.split(), rest.splitlines())


def _told(path: str, head: list[str], rest: list[str]) -> PathTried:
    folder, name = os.path.split(path)
    what = head[0] if head else "nowhere"
    if what == "following":
        return PathTried(state="following", message=os.path.join(folder, " ".join(head[1:])), lines=rest)
    if what == "missing":
        plain = name.translate({ord(sign): None for sign in "*?[]"})
        close = difflib.get_close_matches(plain, rest, MOST_NEAR, 0.5)
        near = [os.path.join(folder, one) for one in close]
        there = f"there is no such file; nearly so: {', '.join(near)}" if near else "there is no such file"
        return PathTried(state="nothing-matches", message=f"{there}: is the path right?", near=near)
    if what == "unreadable" and len(head) == 5:
        who, mode, owner, group = head[1:]
        detail = f"it is read as {who}, who may not read it (mode 0{mode}, owner {owner}, group {group})"
        return PathTried(state="unreadable", message=f"{detail}: add {who} to its group, or let others read it")
    if what == "closed":
        return PathTried(state="unreadable", message=f"it is read as {head[-1]}, who may not enter {folder}")
    if what == "directory":
        inside = [os.path.join(path, one) for one in rest]
        return PathTried(state="directory", message="this is a directory: name a file in it", near=inside)
    if what == "empty":
        return PathTried(state="empty", message="the file is there and can be read; nothing is written to it yet")
    if what == "binary":
        return PathTried(state="binary", message="this is no text: much of it is zero bytes")
    if what == "special":
        return PathTried(state="unreadable", message="this is no regular file, but a device, a pipe or a socket")
    return PathTried(state="nothing-matches", message=f"there is no directory {folder}: is the path right?")
