"""What the kernel tells in files."""

from __future__ import annotations


def said(path: str, most: int = 65_536) -> str:
    """The beginning of a file that the kernel makes up; empty when it is not there or may not be read."""
    try:
        with open(path, encoding="utf-8", errors="replace") as file:
            return file.read(most)
    except OSError:
        return ""
