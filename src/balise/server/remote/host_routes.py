"""How hosts are reached over the network."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter

from balise.api.remote import Remote, RemoteBody
from balise.server.callers import Operator, Viewer, part
from balise.server.remote.book import RemoteBook

router = APIRouter(tags=["hosts"])
RemoteHere = Annotated[RemoteBook, part(RemoteBook)]


@router.get("/hosts/{name}/remote")
def read_remote(remote: RemoteHere, _who: Viewer, name: str) -> Remote:
    """How the host is reached over the network."""
    return remote.get(name)


@router.put("/hosts/{name}/remote")
def collect_remotely(remote: RemoteHere, who: Operator, name: str, body: RemoteBody) -> Remote:
    """Collects the host over the network from now on. What collected it before may not deliver any more."""
    remote.put(name, body, who)
    return remote.get(name)
