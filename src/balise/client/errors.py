"""What can go wrong between a client and the service."""

from __future__ import annotations

from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from balise.api.problems import Problem


class BaliseError(Exception):
    """Any failure of a call."""


class Unreachable(BaliseError):
    """The service cannot be reached, or does not answer in time."""


class Refused(BaliseError):
    """The service said no; `problem` is its problem document."""

    def __init__(self, problem: Problem) -> None:
        super().__init__(problem.detail)
        self.problem = problem

    @property
    def status(self) -> int:
        return self.problem.status
