"""How a probe fails."""

from __future__ import annotations


class ProbeFailed(Exception):
    """The answer is not what it has to be, or there is none; the message says which, for people."""
