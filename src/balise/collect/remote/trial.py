"""Trying to read a host once, before it is added: what came of it, in words."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from dataclasses import dataclass

from balise.api.hosts import Facts
from balise.api.remote import RemoteTarget, Result
from balise.collect.remote.link import Link, LinkProblem
from balise.collect.remote.open import open_link


@dataclass(frozen=True)
class Trial:
    """`result` is `added` when the host could be read; then its facts and the key it showed are here."""

    result: Result
    message: str
    facts: Facts | None = None
    host_key: str = ""


async def attempt(
    target: RemoteTarget,
    now: float,
    gate: asyncio.Semaphore | None = None,
    keep: Callable[[RemoteTarget, Link], None] | None = None,
) -> Trial:
    """Reads a host once; `gate` as in `open_link`. Never raises.

    Args:
        keep: takes the link of a host that could be read, so that collecting goes on over the same connection.
    """
    link = None
    try:
        link = open_link(target, gate)
        taken = await link.read(now)
        host_key = link.host_key
        if keep is not None:
            keep(target, link)
            link = None
        about = (taken.facts.os if taken.facts else "") or "a system that does not say what it is"
        return Trial(
            "added",
            f"read {len(taken.readings)} values in {taken.seconds:.1f} s: {about}",
            taken.facts,
            host_key,
        )
    except LinkProblem as problem:
        return Trial(problem.result, str(problem))
    except TimeoutError:
        return Trial("timed-out", no_answer(target))
    except Exception as error:  # noqa: BLE001  a hostile answer must not end the testing of the others
        return Trial("failed", f"{type(error).__name__}: {str(error)[:200]}")
    finally:
        if link is not None:
            await link.close()


def no_answer(target: RemoteTarget) -> str:
    return (
        f"{target.address} port {target.port} did not answer within {target.time_limit:g} s: is the address right, "
        "and does a firewall drop the packets?"
    )
