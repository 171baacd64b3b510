"""Answers put into JSON beside the loop, in one go: checking and packing them on it would hold up all others."""

from __future__ import annotations

from collections.abc import Callable

from fastapi import Response
from pydantic import BaseModel
from starlette.concurrency import run_in_threadpool


async def packed(work: Callable[[], BaseModel]) -> Response:
    """What is worked out, put into JSON where that is done."""
    return as_json(await run_in_threadpool(worked_out, work))


def worked_out(work: Callable[[], BaseModel]) -> str:
    """What is worked out, as JSON."""
    return work().model_dump_json(by_alias=True)


def as_json(content: str) -> Response:
    """JSON as an answer."""
    return Response(content, media_type="application/json")
