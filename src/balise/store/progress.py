"""Telling how far something has come."""

from __future__ import annotations

from collections.abc import Callable

Progress = Callable[[str, int, int], None]
"""Is told what is at hand, and how much is done of how much: bytes of copies, things of all else."""
