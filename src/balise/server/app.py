"""The API, as the front hands its requests over."""

from __future__ import annotations

import logging
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse, Response
from fastapi.routing import APIRoute
from sqlalchemy.exc import OperationalError
from starlette.exceptions import HTTPException

from balise import __version__
from balise.api.dashboards import PANEL_KINDS
from balise.api.problems import FieldProblem, Problem, message_of
from balise.server.alerts import routes as alerts
from balise.server.applications import routes as applications
from balise.server.asking import NamedFilters
from balise.server.availability import routes as availability
from balise.server.callers import part_of
from balise.server.callouts import channel_routes as channels
from balise.server.callouts import person_routes as persons
from balise.server.callouts import routes as callouts
from balise.server.calls import Calls
from balise.server.dashboards import routes as dashboards
from balise.server.data import routes as data
from balise.server.enrol import list_routes as lists
from balise.server.enrol import routes as enrolment
from balise.server.errors import TITLES, Refused
from balise.server.events import day_routes as event_days
from balise.server.events import routes as events
from balise.server.filters import routes as filters
from balise.server.fleet import routes as fleet
from balise.server.forwards import routes as forwards
from balise.server.hosts import group_routes as groups
from balise.server.hosts import routes as hosts
from balise.server.hosts import view_routes as views
from balise.server.incidents import link_routes as links
from balise.server.incidents import routes as incidents
from balise.server.inventory import routes as inventory
from balise.server.keeping import certificate_routes as certificate
from balise.server.keeping import routes as keeping
from balise.server.keeping.space import Space
from balise.server.maintenance import routes as maintenance
from balise.server.metrics import routes as metrics
from balise.server.openapi import describe
from balise.server.parts import Parts
from balise.server.people import routes as people
from balise.server.plans import routes as plans
from balise.server.probes import routes as probes
from balise.server.receivers import routes as receivers
from balise.server.remote import host_routes as remote
from balise.server.remote import relay_routes as relays
from balise.server.rules import routes as rules
from balise.server.services import credential_routes as credentials
from balise.server.services import kit_routes as kits
from balise.server.services import routes as services
from balise.server.sources import routes as sources
from balise.server.trail import routes as trail
from balise.store.database import is_full
from balise.store.events.index import NotIndexed
from balise.store.writer import Busy, Stopped

log = logging.getLogger(__name__)
PREFIX = "/api/v1"
SUBJECTS = (
    keeping,
    certificate,
    people,
    enrolment,
    lists,
    credentials,
    relays,
    remote,
    hosts,
    groups,
    plans,
    kits,
    services,
    probes,
    inventory,
    applications,
    views,
    filters,
    metrics,
    fleet,
    availability,
    dashboards,
    event_days,
    events,
    receivers,
    forwards,
    data,
    sources,
    rules,
    alerts,
    incidents,
    trail,
    links,
    channels,
    persons,
    callouts,
    maintenance,
)
CALLS = [route for subject in SUBJECTS for route in subject.router.routes if isinstance(route, APIRoute)]
"""Every call of the API, below `PREFIX`."""


def problem(
    status: int, detail: str, errors: list[FieldProblem] | None = None, headers: dict[str, str] | None = None
) -> Response:
    """A problem document."""
    content = Problem(
        title=TITLES.get(status, "Something went wrong"), status=status, detail=detail, errors=errors or []
    )
    return JSONResponse(
        content.model_dump(), status_code=status, headers=headers, media_type="application/problem+json"
    )


def build_api(parts: Parts | None) -> FastAPI:
    """The API as FastAPI knows it; without parts it still has its OpenAPI document."""

    app = FastAPI(
        title="Balise",
        version=__version__,
        docs_url=None,
        redoc_url=None,
        openapi_url=None,
    )
    app.state.parts = {type(part): part for part in vars(parts).values()} if parts is not None else {}
    if parts is not None:
        app.state.parts[NamedFilters] = parts.filters
    app.router.routes.append(Calls(PREFIX, CALLS))
    # A redirect would go to whatever place the request names as its host.
    app.router.redirect_slashes = False
    app.openapi = lambda: describe(app, CALLS, PREFIX)  # type: ignore[method-assign]
    app.add_api_route("/api/openapi.json", lambda: JSONResponse(app.openapi()), include_in_schema=False)
    _answer_problems(app)
    return app


def _answer_problems(app: FastAPI) -> None:
    @app.exception_handler(Refused)
    async def refused(_request: Request, error: Refused) -> Response:
        return problem(error.status, error.detail, error.errors, error.headers)

    @app.exception_handler(RequestValidationError)
    async def invalid(_request: Request, error: RequestValidationError) -> Response:
        errors = [FieldProblem(field=_place(e["loc"]), detail=_message(e)) for e in error.errors()[:20]]
        detail = "; ".join(f"{e.field}: {e.detail}" if e.field else e.detail for e in errors[:3])
        return problem(422, detail, errors)

    @app.exception_handler(Busy)
    async def busy(_request: Request, _error: Busy) -> Response:
        return problem(503, "Too much waits to be written: try again in a moment.", headers={"Retry-After": "2"})

    @app.exception_handler(NotIndexed)
    async def not_indexed(_request: Request, error: NotIndexed) -> Response:
        return problem(503, f"{error}.")

    @app.exception_handler(Stopped)
    async def stopped(_request: Request, _error: Stopped) -> Response:
        return problem(503, "The service is stopping.", headers={"Retry-After": "5"})

    @app.exception_handler(HTTPException)
    async def other(request: Request, error: HTTPException) -> Response:
        if error.status_code == 404:
            return problem(404, f"There is nothing at {request.url.path}: see /api/openapi.json for what there is.")
        return problem(error.status_code, str(error.detail))

    @app.exception_handler(OperationalError)
    async def kept_not(request: Request, error: OperationalError) -> Response:
        if is_full(error):
            return problem(507, f"Nothing is changed: {part_of(request, Space).words}")
        return await unexpected(request, error)

    @app.exception_handler(Exception)
    async def unexpected(request: Request, error: Exception) -> Response:
        log.error("path=%s", request.url.path, exc_info=error)
        return problem(500, "Something went wrong inside Balise; the log of the service has the details.")


def _place(loc: tuple[Any, ...]) -> str:
    """The field that is wrong; of what may be of several kinds, without the name of the kind."""
    parts = [str(p) for i, p in enumerate(loc) if not (p in PANEL_KINDS and i and isinstance(loc[i - 1], int))]
    if parts and parts[0] in ("body", "query", "path", "header"):
        parts = parts[1:]
    return ".".join(parts[1:] if parts and parts[0] in metrics.ASKED else parts)


def _message(error: Any) -> str:
    return message_of(error)
