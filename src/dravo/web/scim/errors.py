"""Errors of inbound SCIM, all as SCIM error messages (RFC 7644, section 3.12)."""

from __future__ import annotations

from flask import Blueprint, Response, g, request
from werkzeug.exceptions import HTTPException

from dravo.core.errors import DravoError, NotFound
from dravo.core.scim.errors import ScimError
from dravo.services.sources import observations
from dravo.web.scim.admission import server
from dravo.web.scim.messages import scim_response


def register(routes: Blueprint) -> None:
    """Answer errors of a blueprint as SCIM error messages."""
    routes.register_error_handler(ScimError, _refused)
    routes.register_error_handler(NotFound, _not_found)
    routes.register_error_handler(DravoError, _failed)
    routes.register_error_handler(HTTPException, _http_error)


def _refused(error: ScimError) -> Response:
    g.outcome = f"Refused{f' ({error.scim_type})' if error.scim_type else ''}: {error.detail}"
    if "scim_caller" in g and request.method != "GET" and error.status != 404:
        # The operator of the other side often sees only that a request failed; the checklist shows why.
        server().handler.observed.note(
            g.scim_caller.source_id,
            observations.WRONG,
            f"{request.method} {request.path} was refused ({error.status}): {error.detail}",
        )
    return scim_response(error.body(), error.status)


def _not_found(error: NotFound) -> Response:
    g.outcome = f"Not found: {error.message}"
    return scim_response(ScimError(404, error.message).body(), 404)


def _failed(error: DravoError) -> Response:
    status = error.status if error.status in (409, 429, 503) else 400
    g.outcome = f"Failed: {error}"
    response = scim_response(ScimError(status, str(error)).body(), status)
    if status in (429, 503):
        response.headers["Retry-After"] = "2"
    return response


def _http_error(error: HTTPException) -> Response:
    status = error.code or 500
    return scim_response(ScimError(status, error.description or error.name).body(), status)
