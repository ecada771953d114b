"""Routes of inbound SCIM at /scim/v2/{source} (RFC 7644, section 3.2).

Only this package knows both Flask and SCIM.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from flask import Blueprint, Response, g, request

from dravo.core.scim.bulk import LARGEST_PAYLOAD
from dravo.core.scim.errors import ScimError
from dravo.core.scim.messages import list_response, service_provider_config
from dravo.core.scim.versions import Condition
from dravo.services.scim_server.handler import ScimRequestDetail, read_query, read_search_request
from dravo.services.sources import observations
from dravo.web.scim import admission, errors
from dravo.web.scim.admission import server
from dravo.web.scim.messages import base_url, body, respond, scim_response, with_meta

PREFIX = "/scim/v2/<source>"
METHODS = ["GET", "POST", "PUT", "PATCH", "DELETE"]
ENDPOINTS = ("Users", "Groups", "Schemas", "ResourceTypes", "ServiceProviderConfig", "Bulk", "Me")
KINDS = ("User", "Group")

routes = Blueprint("scim", __name__)
View = Callable[..., Response]


def _add(path: str, methods: list[str], view: View, name: str) -> None:
    """Add a route with and without a slash at its end; providers send both."""
    routes.add_url_rule(PREFIX + path, name, view, methods=methods)
    routes.add_url_rule(f"{PREFIX}{path}/", f"{name}_slash", view, methods=methods)


def _route(path: str, *methods: str) -> Callable[[View], View]:
    def register(view: View) -> View:
        _add(path, list(methods), view, view.__name__)
        return view

    return register


def _detail() -> ScimRequestDetail:
    """Return what the request asks for, beside its body."""
    condition = Condition(request.headers.get("If-Match"), request.headers.get("If-None-Match"))
    return ScimRequestDetail(g.scim_caller, base_url(), read_query(request.args), condition, g.draft)


def _search_detail() -> ScimRequestDetail:
    """Return what a search request asks for; its query is in the body (RFC 7644, section 3.4.3)."""
    query = read_search_request(body())
    return ScimRequestDetail(g.scim_caller, base_url(), query, Condition(), g.draft)


# Users and groups


def _create(source: str, kind: str) -> Response:
    return respond(server().handler.write(_detail(), "POST", kind, None, body()))


def _list(source: str, kind: str) -> Response:
    return respond(server().handler.search(_detail(), (kind,)))


def _search(source: str, kind: str) -> Response:
    return respond(server().handler.search(_search_detail(), (kind,)))


def _read(source: str, kind: str, identifier: str) -> Response:
    return respond(server().handler.read(_detail(), kind, identifier))


def _write(source: str, kind: str, identifier: str) -> Response:
    payload = body() if request.method != "DELETE" else None
    return respond(server().handler.write(_detail(), request.method, kind, identifier, payload))


def _add_resource(kind: str) -> None:
    for path, methods, view in (
        ("", ["POST"], _create),
        ("", ["GET"], _list),
        ("/.search", ["POST"], _search),
        ("/<identifier>", ["GET"], _read),
        ("/<identifier>", ["PUT", "PATCH", "DELETE"], _write),
    ):
        name = f"{view.__name__.strip('_')}_{kind.lower()}"
        defaults = {"kind": kind}
        routes.add_url_rule(f"{PREFIX}/{kind}s{path}", name, view, defaults=defaults, methods=methods)
        routes.add_url_rule(
            f"{PREFIX}/{kind}s{path}/", f"{name}_slash", view, defaults=defaults, methods=methods
        )


for _kind in KINDS:
    _add_resource(_kind)


@_route("/.search", "POST")
def search_all(source: str) -> Response:
    """Search users and groups (RFC 7644, section 3.4.3)."""
    return respond(server().handler.search(_search_detail(), KINDS))


@_route("", "GET")
def list_all(source: str) -> Response:
    """List users and groups (RFC 7644, section 3.4.2.1)."""
    return respond(server().handler.search(_detail(), KINDS))


@_route("/Bulk", "POST")
def bulk(source: str) -> Response:
    """Carry out several operations (RFC 7644, section 3.7)."""
    if (request.content_length or 0) > LARGEST_PAYLOAD:
        raise ScimError(
            413, f"The body is larger than maxPayloadSize ({LARGEST_PAYLOAD} bytes). Split the request."
        )
    answer = server().handler.bulk(_detail(), body())
    results = (answer.body or {})["Operations"]
    failed = sum(1 for each in results if "response" in each)
    refused = f", {failed} of them refused" if failed else ""
    g.outcome = f"{len(results)} operations{refused}."
    return respond(answer)


# What the service supports (RFC 7644, section 4)


@_route("/ServiceProviderConfig", "GET")
def service_provider(source: str) -> Response:
    """Return what the service supports."""
    _refuse_filter()
    return scim_response(service_provider_config(f"{base_url()}/ServiceProviderConfig"))


@_route("/Schemas", "GET")
def list_schemas(source: str) -> Response:
    """List the schemas of the source."""
    _refuse_filter()
    return _listed(
        [with_meta(each.document(), "Schema", f"/Schemas/{each.id}") for each in _shapes().schemas]
    )


@_route("/Schemas/<identifier>", "GET")
def schema(source: str, identifier: str) -> Response:
    """Return one schema."""
    for each in _shapes().schemas:
        if each.id.lower() == identifier.lower():
            return scim_response(with_meta(each.document(), "Schema", f"/Schemas/{each.id}"))
    raise ScimError(404, f"There is no schema '{identifier}'.")


@_route("/ResourceTypes", "GET")
def list_resource_types(source: str) -> Response:
    """List the resource types."""
    _refuse_filter()
    types = _shapes().types
    return _listed(
        [with_meta(each.document(), "ResourceType", f"/ResourceTypes/{each.name}") for each in types]
    )


@_route("/ResourceTypes/<identifier>", "GET")
def resource_type(source: str, identifier: str) -> Response:
    """Return one resource type."""
    for each in _shapes().types:
        if each.name.lower() == identifier.lower():
            return scim_response(with_meta(each.document(), "ResourceType", f"/ResourceTypes/{each.name}"))
    raise ScimError(404, f"There is no resource type '{identifier}'.")


def _shapes() -> Any:
    return g.scim_caller.shapes


def _listed(documents: list[dict[str, Any]]) -> Response:
    return scim_response(list_response(documents, len(documents), 1))


def _refuse_filter() -> None:
    """Refuse a filter where none is allowed (RFC 7644, section 4: 403)."""
    if request.args.get("filter"):
        raise ScimError(403, "Filters are not supported at this path.")


# Everything else


@_route("/Me", *METHODS)
def me(source: str) -> Response:
    """Refuse the path /Me (RFC 7644, section 3.11: 501 where it is not supported)."""
    raise ScimError(501, "The path /Me is not supported.")


@_route("", *METHODS[1:])
def base_path(source: str) -> Response:
    """Refuse methods that the base URL does not support."""
    return elsewhere(source, "")


@routes.route(f"{PREFIX}/<path:rest>", methods=METHODS)
def elsewhere(source: str, rest: str) -> Response:
    """Answer that a method or a path is not supported."""
    if rest.strip("/") in ("", *ENDPOINTS) or rest.split("/", maxsplit=1)[0] in ENDPOINTS[:4]:
        raise ScimError(405, f"{request.method} is not supported at '/{rest.strip('/')}'.")
    detail = f"There is no resource at '/{rest}'. Check the base URL: users are at /Users, groups at /Groups."
    server().handler.observed.note(
        g.scim_caller.source_id, observations.LOST, f"{request.method} {request.path}: {detail}"
    )
    raise ScimError(404, detail)


admission.register(routes)
errors.register(routes)
