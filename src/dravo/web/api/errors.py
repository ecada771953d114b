"""How the management API answers errors."""

from __future__ import annotations

import orjson
from flask import Response
from pydantic import ValidationError
from werkzeug.exceptions import HTTPException

from dravo.core.errors import DravoError


class BodyTooLarge(DravoError):
    """The body is larger than the route accepts."""

    code = "body_too_large"
    status = 413


class UnknownParameter(DravoError):
    """The query has an unknown parameter."""

    code = "unknown_parameter"
    status = 400


class InvalidJson(DravoError):
    """The body is no JSON."""

    code = "invalid_json"
    status = 400


def error_response(wrong: DravoError) -> Response:
    """Return the response for an error."""
    error = {"code": wrong.code, "message": wrong.message, "hint": wrong.hint, "field": wrong.field}
    position = getattr(wrong, "position", None)
    body = {"error": error if position is None else {**error, "position": position}}
    response = Response(orjson.dumps(body), wrong.status, content_type="application/json")
    if wrong.status == 401:
        response.headers["WWW-Authenticate"] = "Bearer"
    return response


def validation_error(wrong: ValidationError) -> Response:
    """Return the error for invalid fields of a request, each in words."""
    first = wrong.errors()[0]
    where = ".".join(str(part) for part in first["loc"]) or "body"
    more = f" ({wrong.error_count() - 1} more fields are invalid.)" if wrong.error_count() > 1 else ""
    known = {
        "missing": "is missing",
        "extra_forbidden": "is not a field of this request",
        "json_invalid": "is not JSON",
    }
    what = known.get(first["type"], f"cannot be used: {first['msg'][:1].lower()}{first['msg'][1:]}")
    problem = DravoError(f"'{where}' {what}.{more}", "See the API documentation.", where)
    problem.code, problem.status = "invalid_input", 422
    return error_response(problem)


def http_error(wrong: HTTPException) -> Response:
    """Return an error that Flask raised."""
    problem = DravoError(
        wrong.description or wrong.name,
        "See the API documentation for all paths." if wrong.code in (404, 405) else "",
    )
    problem.code, problem.status = wrong.name.lower().replace(" ", "_"), wrong.code or 500
    return error_response(problem)
