"""The OpenAPI document: who may make each call, and every answer that it can have."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from threading import Lock
from typing import Any, Literal

from fastapi import APIRouter, FastAPI
from fastapi.dependencies.models import Dependant
from fastapi.openapi.utils import get_openapi
from fastapi.routing import APIRoute
from starlette.routing import BaseRoute

from balise.api.problems import Problem
from balise.server import callers
from balise.server.dashboards import routes as dashboards
from balise.server.enrol import routes as enrolment
from balise.server.errors import TITLES
from balise.server.remote import relay_routes as relays

Caller = Literal[
    "anybody", "viewer", "operator", "administrator", "agent", "machine", "relay", "calendar_reader", "looker"
]
"""A machine is an agent, or waits to be let in as one; a calendar reader is a viewer, or has a token for calendars; a
looker is a viewer, or a screen that nobody touches."""
_CALLERS: dict[object, Caller] = {
    callers.viewer: "viewer",
    callers.operator: "operator",
    callers.administrator: "administrator",
    callers.agent: "agent",
    callers.calendar_reader: "calendar_reader",
    dashboards.looker: "looker",
    relays.the_relay: "relay",
    enrolment.the_machine: "machine",
}
SCHEMES = {
    "token": {"type": "http", "scheme": "bearer", "description": "a token of a program, an agent or a relay"},
    "session": {"type": "apiKey", "in": "cookie", "name": callers.COOKIE, "description": "signed in with a password"},
}
_ONE = Lock()
_PROBLEM = {"application/problem+json": {"schema": {"$ref": "#/components/schemas/Problem"}}}


def caller_of(route: APIRoute) -> Caller:
    """Who may make a call: nobody less than this role, or an agent or a relay alone."""
    return next((_CALLERS[call] for call in _calls(route.dependant) if call in _CALLERS), "anybody")


def _calls(dependant: Dependant) -> Iterator[object]:
    for one in dependant.dependencies:
        yield one.call
        yield from _calls(one)


def describe(app: FastAPI, routes: Sequence[APIRoute], prefix: str) -> dict[str, Any]:
    """The document of an app, made once; `routes` are its calls, below a prefix. It takes seconds: not on a loop."""
    with _ONE:
        return _describe(app, routes, prefix)


def _describe(app: FastAPI, routes: Sequence[APIRoute], prefix: str) -> dict[str, Any]:
    if app.openapi_schema is None:
        made = get_openapi(title=app.title, version=app.version, routes=_below(prefix, routes))
        parts = made.setdefault("components", {})
        parts["securitySchemes"] = SCHEMES
        parts["schemas"]["Problem"] = Problem.model_json_schema(ref_template="#/components/schemas/{model}")
        parts["schemas"].update(parts["schemas"]["Problem"].pop("$defs", {}))
        for name in ("HTTPValidationError", "ValidationError"):
            parts["schemas"].pop(name, None)
        for route in routes:
            for method in route.methods or ():
                _complete(made["paths"][prefix + route.path_format][method.lower()], route, method)
        app.openapi_schema = made
    return app.openapi_schema


def _below(prefix: str, routes: Sequence[APIRoute]) -> list[BaseRoute]:
    found, held = APIRouter(), APIRouter()
    held.routes.extend(routes)
    found.include_router(held, prefix=prefix)
    return found.routes


def _complete(operation: dict[str, Any], route: APIRoute, method: str) -> None:
    caller = caller_of(route)
    operation["x-caller"] = caller
    if caller in ("agent", "machine", "relay"):
        operation["security"] = [{"token": []}]
    elif caller != "anybody":
        operation["security"] = [{"token": []}, {"session": []}]
    else:
        operation["security"] = []
    for status in _statuses(caller, route, method):
        operation["responses"][str(status)] = {"description": TITLES[status], "content": _PROBLEM}


def _statuses(caller: Caller, route: APIRoute, method: str) -> Iterator[int]:
    takes = route.body_field is not None
    # A page of another origin, a machine that waits to be let in.
    yield from (403,)
    if caller != "anybody":
        yield 401
    if takes:
        yield from (400, 413)
    if takes or route.dependant.query_params or route.dependant.path_params or caller == "calendar_reader":
        yield from (404, 422)
    yield from (int(status) for status in route.responses if int(status) >= 400)
    if method != "GET":
        yield from (409, 507)
    yield from (421, 429, 503)
