"""Processes as suspects: those that began, or take much more of the processor than before."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from typing import Any

from balise.core.trail.things import Happening, Thing

Look = tuple[float, Sequence[Mapping[str, Any]]]
"""When processes were looked at, unix seconds, and the busiest: `name`, `user`, `cpu` in cores, `started`."""
Key = tuple[str, str]
GREW = 0.25
"""Cores by which a process has to grow."""
OF_ONE, FEWEST, FEW = 0.7, 3, 0.5
"""Of what grew, from how much on one user stands for it, with at least so many programs, and none above a share."""
AS_USUAL = 0.5
"""Of what it takes, how much it took at the same time a day before to be usual."""


def grown(
    host: str, looks: Sequence[Look], *, start: float, stretch: float, day_before: Sequence[Look]
) -> list[Happening]:
    """What grew since `stretch`, beside what was since `start`; `day_before` are looks at the same stretch then."""
    early = [look for look in looks if look[0] < stretch]
    late = [look for look in looks if look[0] >= stretch]
    if not late:
        return []
    now, before, usual = _means(late), _means(early), _means(day_before)
    grew = {key: cpu - before.get(key, 0.0) for key, cpu in now.items()}
    total = sum(by for by in grew.values() if by > 0)
    known = {key for _, rows in early if rows for key in map(_key, rows)}
    first = _firsts(looks, stretch - 600, known)
    found = []
    for key, by in grew.items():
        if by < GREW:
            continue
        began, seen = first.get(key, (stretch, stretch))
        is_new = key not in known and began >= start
        as_usual = min(1.0, usual.get(key, 0.0) / now[key])
        found.append(
            Happening(
                "process", Thing("process", key[0], host), began if is_new else seen,
                "began and takes the processor" if is_new else "takes more of the processor",
                uncertainty=5.0 if is_new else 60.0, deviation=min(60.0, 6.0 + 4 * by), share=by / total,
                usual=as_usual if as_usual >= AS_USUAL else 0.0, holds=f"{by:.1f} cores more than before",
                sort="saturation",
            )
        )  # fmt: skip
    return [*found, *_of_one_user(host, grew, total, stretch)]


def _of_one_user(host: str, grew: Mapping[Key, float], total: float, stretch: float) -> list[Happening]:
    """The user whose many programs grew together."""
    users, programs = Counter[str](), Counter[str]()
    for (_, user), by in grew.items():
        if by > 0:
            users[user] += by  # type: ignore[assignment]
            programs[user] += 1
    return [
        Happening(
            "process", Thing("user", user, host), stretch, "takes more of the processor with many programs",
            uncertainty=60.0, deviation=min(60.0, 6.0 + 4 * by), share=by / total, sort="saturation",
            holds=f"{by:.1f} cores more than before",
        )
        for user, by in users.items()
        if user and by >= max(2 * GREW, OF_ONE * total) and programs[user] >= FEWEST
        and max(grew.values()) < FEW * total
    ]  # fmt: skip


def _means(looks: Sequence[Look]) -> dict[Key, float]:
    """Cores that each took on the average of some looks."""
    found: dict[Key, float] = {}
    for _, rows in looks:
        for row in rows:
            found[_key(row)] = found.get(_key(row), 0.0) + float(row.get("cpu") or 0.0) / len(looks)
    return found


def _firsts(looks: Sequence[Look], since: float, known: set[Key]) -> dict[Key, tuple[float, float]]:
    """When each that was not known began, as it tells, and when it was first seen."""
    found: dict[Key, tuple[float, float]] = {}
    for at, rows in looks:
        for row in rows:
            if at >= since:
                found.setdefault(_key(row), (float(row.get("started") or at), at))
    return found


def _key(row: Mapping[str, Any]) -> Key:
    return str(row.get("name") or ""), str(row.get("user") or "")
