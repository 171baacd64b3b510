"""The service's own certificate."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Response

from balise.server.callers import part
from balise.server.errors import Refused
from balise.server.settings import Settings

router = APIRouter(tags=["status"])


@router.get("/certificate", responses={404: {}})
def read_certificate(settings: Annotated[Settings, part(Settings)]) -> Response:
    """What agents may pin of the console's certificate, as PEM; open to all, believed by its fingerprint alone."""
    if settings.certificate is None:
        raise Refused(404, "This console serves plain HTTP: it has no certificate.")
    return Response(settings.certificate.anchor_pem(), media_type="application/x-pem-file")
