"""SCIM messages over HTTP: the bodies of requests, and responses (RFC 7644, section 3.1)."""

from __future__ import annotations

from typing import Any

import orjson
from flask import Response, current_app, g, request

from dravo.core.scim.errors import ScimError, invalid_syntax
from dravo.services.scim_server.handler import ScimResponse
from dravo.web.bodies import LARGEST_BODY, LARGEST_SINGLE, NoJson, read_json

SCIM_JSON = "application/scim+json"


def body() -> Any:
    """Return the JSON of the request's body.

    Raises:
        ScimError: 413 for a body that is too large, 415 for a content type other than JSON, 400
            invalidSyntax for a body that is not JSON.
    """
    if request.mimetype and request.mimetype not in (SCIM_JSON, "application/json"):
        raise ScimError(
            415, f"'{request.mimetype[:100]}' is not supported. Send {SCIM_JSON} or application/json."
        )
    if (request.content_length or 0) > LARGEST_BODY:
        raise ScimError(
            413, f"The body is larger than {LARGEST_BODY // 1024 // 1024} MiB. Split the request."
        )
    content = request.get_data(cache=False)
    if not content:
        raise invalid_syntax("The request has no body. Send JSON.")
    try:
        payload = read_json(content)
    except NoJson as wrong:
        raise invalid_syntax(f"The body {wrong}.") from None
    g.draft.payload = payload
    return payload


def check_size() -> None:
    """Refuse a body that is too large for the resource (RFC 7644, section 3.12).

    Only groups and bulk requests need large bodies, and parsing ten megabytes takes seconds.

    Raises:
        ScimError: 413.
    """
    endpoint = request.path.rstrip("/").split("/")[4:5]
    size, largest = (
        request.content_length or 0,
        LARGEST_BODY if endpoint in (["Groups"], ["Bulk"]) else LARGEST_SINGLE,
    )
    if size > largest:
        raise ScimError(413, f"The body has {size:,} bytes. The maximum is {largest:,}.")


def base_url() -> str:
    """Return the base URL of the source, from the configured public address."""
    return f"{current_app.config['PUBLIC_URL']}/scim/v2/{source_key()}"


def source_key() -> str:
    """Return the key of the source in the path."""
    return str((request.view_args or {})["source"])


def with_meta(document: dict[str, Any], kind: str, path: str) -> dict[str, Any]:
    """Return a schema or resource type with its `meta`."""
    return {**document, "meta": {"resourceType": kind, "location": base_url() + path}}


def respond(answer: ScimResponse) -> Response:
    """Return the HTTP response for an answer of the handler."""
    if answer.body is None:
        response = Response(status=answer.status)
    else:
        response = scim_response(answer.body, answer.status)
    response.headers.extend(answer.headers.items())
    return response


def scim_response(message: dict[str, Any], status: int = 200) -> Response:
    """Return an HTTP response with a SCIM message."""
    return Response(orjson.dumps(message), status, content_type=SCIM_JSON)
