"""Sources, and paths tried on hosts."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query
from starlette.concurrency import run_in_threadpool

from balise.api.lists import Page
from balise.api.sources import PathQuestion, PathTried, Source, SourceState
from balise.server.callers import Operator, Viewer, part
from balise.server.sources.book import SourceBook
from balise.server.sources.paths import PathTrials

router = APIRouter(tags=["events"])


@router.get("/sources")
def list_sources(
    sources: Annotated[SourceBook, part(SourceBook)],
    _who: Viewer,
    host: Annotated[str | None, Query(max_length=100)] = None,
    state: SourceState | None = None,
) -> Page[Source]:
    """Every place that lines come from, and how it goes there; what somebody has to look at comes first."""
    return Page[Source](items=sources.all(host, state))


@router.post("/hosts/{name}/paths/try")
async def try_path(
    trials: Annotated[PathTrials, part(PathTrials)], who: Operator, name: str, body: PathQuestion
) -> PathTried:
    """The last 50 lines at a path on a host, or why there are none: read by its collector within ten seconds."""
    return await run_in_threadpool(trials.attempt, name, body.path, who.name)
