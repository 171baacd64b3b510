"""Running a program within a time and a size."""

from __future__ import annotations

import contextlib
import os
import shlex
import subprocess
import threading
from collections.abc import Callable, Sequence
from typing import Any

from balise.collect.kits.sources.source import MOST_BYTES, Hand, SourceProblem


def run_bounded(words: Sequence[str], limit: float) -> tuple[int, str, str]:
    """Runs a program: its status, what it said and what it complained, within a time and a size.

    Raises:
        SourceProblem: there is no such program, it took too long, or it said too much.
    """
    environment = {"PATH": os.environ.get("PATH", "/usr/sbin:/usr/bin:/sbin:/bin"), "LC_ALL": "C", "HOME": "/"}
    try:
        process = subprocess.Popen(
            list(words),
            stdin=subprocess.DEVNULL,
            stdout=subprocess.PIPE,
            stderr=subprocess.PIPE,
            env=environment,
            start_new_session=True,
        )
    except OSError as error:
        raise SourceProblem(f"{words[0]}: {error.strerror}") from None
    late = threading.Timer(limit, lambda: _end(process))
    late.start()
    complaints: list[bytes] = []
    errors = threading.Thread(target=lambda: complaints.append(_pipe(process.stderr, 16_384)), daemon=True)
    errors.start()
    out = _pipe(process.stdout, MOST_BYTES + 1)
    if len(out) > MOST_BYTES:
        _end(process)
    code = process.wait()
    errors.join(1.0)
    ended_late = not late.is_alive()
    late.cancel()
    if len(out) > MOST_BYTES:
        raise SourceProblem(f"{words[0]} said more than {MOST_BYTES >> 20} MiB")
    if ended_late and code < 0:
        raise SourceProblem(f"{words[0]} did not end within {limit:g} s and was stopped")
    return code, out.decode("utf-8", "replace"), b"".join(complaints).decode("utf-8", "replace")


class Here:
    """This host's own hand."""

    def run(self, words: Sequence[str], limit: float) -> tuple[int, str, str]:
        return run_bounded(words, limit)

    def read(self, path: str) -> str:
        try:
            with open(path, "rb") as file:
                return file.read(MOST_BYTES).decode("utf-8", "replace")
        except OSError as error:
            raise SourceProblem(f"{path}: {error.strerror}") from None


def _pipe(pipe: Any, most: int) -> bytes:
    with pipe:
        found: bytes = pipe.read(most)
        return found


def _end(process: subprocess.Popen[bytes]) -> None:
    with contextlib.suppress(ProcessLookupError, PermissionError):
        os.killpg(process.pid, 9)


class Guarded:
    """A hand that runs nothing but what it may.

    Args:
        may: whether a command may be run, by its words.
    """

    def __init__(self, hand: Hand, may: Callable[[Sequence[str]], bool]) -> None:
        self._hand = hand
        self._may = may

    def run(self, words: Sequence[str], limit: float) -> tuple[int, str, str]:
        if not self._may(words):
            raise SourceProblem(
                f"this host does not let the console run {shlex.join(words)[:200]!r}: add the line to "
                "allow_commands in its agent.toml"
            )
        return self._hand.run(words, limit)

    def read(self, path: str) -> str:
        return self._hand.read(path)
