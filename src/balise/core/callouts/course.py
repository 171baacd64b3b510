"""How far a callout is with an incident: which step is told when. Times are unix seconds."""

from __future__ import annotations

from dataclasses import dataclass

from balise.api.callouts import CalloutBody
from balise.api.spans import seconds


@dataclass(frozen=True)
class Course:
    """`step` is told next, at `due`; None when nothing is left. `rounds` are behind it."""

    begun: float
    step: int
    due: float | None
    rounds: int = 0


def begin(body: CalloutBody, now: float, *, is_warning: bool) -> Course:
    """A callout begins with an incident that it is for."""
    return _at(body, now, 0, 0, now, _wait(body, is_warning=is_warning))


def go_on(course: Course, body: CalloutBody, now: float, *, is_warning: bool) -> Course:
    """What follows when a step has been told at `now`, or could not be. After the last step the first one comes again,
    `again` later, if that is said: what was missed meanwhile is told once."""
    step = course.step + 1
    if step < len(body.in_steps()):
        return _at(body, course.begun, step, course.rounds, now, _wait(body, is_warning=is_warning))
    if body.again is None:
        return Course(course.begun, step, None, course.rounds)
    begun = now + seconds(body.again)
    return Course(begun, 0, begun, course.rounds + 1)


def hasten(course: Course, body: CalloutBody, now: float) -> Course:
    """The incident is worse than it was when the first step was to wait for a digest."""
    if course.step or course.rounds or course.due is None:
        return course
    return Course(course.begun, 0, min(course.due, now + seconds(body.gather)))


def _at(body: CalloutBody, begun: float, step: int, rounds: int, now: float, wait: float) -> Course:
    after = seconds(body.in_steps()[step].after)
    # Only what comes first waits for what belongs to it.
    due = begun + (max(after, wait) if not rounds else after)
    return Course(begun, step, max(due, now), rounds)


def _wait(body: CalloutBody, *, is_warning: bool) -> float:
    gather = seconds(body.gather)
    return max(gather, seconds(body.digest)) if is_warning and body.digest is not None else gather
