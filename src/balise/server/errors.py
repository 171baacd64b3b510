"""What the service refuses, as exceptions that the edge turns into problem documents (RFC 9457)."""

from __future__ import annotations

from balise.api.problems import FieldProblem

TITLES = {
    400: "The request cannot be understood",
    401: "Sign in first",
    403: "Not allowed",
    404: "Not found",
    405: "Not possible here",
    409: "In conflict with what is there",
    413: "Too large",
    415: "Unknown kind of content",
    421: "Not reached this way",
    422: "The request does not hold together",
    429: "Too many tries",
    503: "Busy",
    507: "No room left",
}


class Refused(Exception):
    """A request the service says no to; `detail` says what to do instead."""

    def __init__(
        self,
        status: int,
        detail: str,
        *,
        errors: list[FieldProblem] | None = None,
        headers: dict[str, str] | None = None,
    ) -> None:
        super().__init__(detail)
        self.status = status
        self.detail = detail
        self.errors = errors or []
        self.headers = headers or {}


def unknown(kind: str, name: object) -> Refused:
    return Refused(404, f"There is no {kind} {name!r}.")


def bad_field(field: str, detail: str) -> Refused:
    return Refused(422, f"{field}: {detail}", errors=[FieldProblem(field=field, detail=detail)])
