"""Making a probe: as many tries as it may have, and what came of the last."""

from __future__ import annotations

import time

from balise.api.probes import ProbeResult, ProbeTarget
from balise.api.spans import rfc3339, seconds
from balise.collect.probes.errors import ProbeFailed
from balise.collect.probes.kinds import PROBES
from balise.collect.probes.talk import Talk


def make(probe: ProbeTarget) -> ProbeResult:
    """One round of a probe: tries until one is good, or none are left. Never raises."""
    body = probe.body
    result = _once(probe)
    for number in range(2, body.attempts + 1):
        if result.good:
            break
        result = _once(probe).model_copy(update={"attempts": number})
    return result


def _once(probe: ProbeTarget) -> ProbeResult:
    limit = seconds(probe.body.time_limit)
    at, talk, good = time.time(), Talk(limit), False
    try:
        message = PROBES[probe.body.kind](probe, talk).make()
        talk.left()
        good = True
    except ProbeFailed as problem:
        message = str(problem)
    except TimeoutError:
        message = f"it took longer than {limit:g} s"
    except Exception as error:  # noqa: BLE001  a hostile answer must not end the probing of others
        message = f"{type(error).__name__}: {str(error)[:200]}"
    took = time.monotonic() - talk.began
    warnings = list(talk.warnings)
    slow = seconds(probe.body.slow) if probe.body.slow else limit / 2
    if good and took > slow and talk.phases:
        worst = max(talk.phases, key=lambda name: talk.phases[name])
        warnings.insert(0, f"slow: {took:.2f} s, of which {talk.phases[worst]:.2f} s to {worst}")
    return ProbeResult(
        at=rfc3339(at),
        good=good,
        warning=bool(warnings) and good,
        seconds=round(took, 6),
        phases=talk.phases,
        message="; ".join([*warnings, message] if good else [message])[:600],
        certificates=talk.certificates,
    )
