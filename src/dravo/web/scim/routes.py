"""Routes of inbound SCIM at /scim/v2/{source}: reads the message, has it carried out, shows the answer,
keeps its trace.

RFC 7644, section 3. Only this module knows both Flask and SCIM.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any
from urllib.parse import unquote_plus

import orjson
import structlog
from flask import Blueprint, Response, current_app, g, request
from werkzeug.exceptions import HTTPException

from dravo.core.errors import DravoError, NotFound
from dravo.core.scim.bulk import LARGEST_PAYLOAD
from dravo.core.scim.errors import ScimError, invalid_syntax
from dravo.core.scim.messages import list_response, service_provider_config
from dravo.core.scim.versions import Condition
from dravo.services import lookups
from dravo.services.context import AppContext
from dravo.services.scim_server.handler import (
    ScimHandler,
    ScimRequestDetail,
    ScimResponse,
    read_query,
    read_search_request,
)
from dravo.services.scim_server.request_log import TraceDraft
from dravo.services.security.rate_limits import RateLimiter
from dravo.services.sources import observations, scim_auth
from dravo.services.sources.scim_auth import ScimCaller
from dravo.web.bodies import LARGEST_BODY, LARGEST_SINGLE, NoJson, read_json
from dravo.web.callers import place

SCIM_JSON = "application/scim+json"
PREFIX = "/scim/v2/<source>"
METHODS = ["GET", "POST", "PUT", "PATCH", "DELETE"]
ENDPOINTS = ("Users", "Groups", "Schemas", "ResourceTypes", "ServiceProviderConfig", "Bulk", "Me")
BOTH = ("User", "Group")

log = structlog.get_logger("push")


def make_blueprint(ctx: AppContext) -> Blueprint:
    """Return inbound SCIM's routes for one organization."""
    blueprint = Blueprint("push", __name__)
    pushing, traces = ScimHandler(ctx), ctx.traces
    observed = pushing.observed
    door = scim_auth.ScimAuthenticator(ctx)
    limiter = RateLimiter(200, 60)

    def route(path: str, method: str) -> Callable[[Callable[..., Response]], Callable[..., Response]]:
        """Register a route with and without a slash at its end; providers send both."""

        def register(view: Callable[..., Response]) -> Callable[..., Response]:
            for number, rule in enumerate((PREFIX + path, PREFIX + path + "/")):
                blueprint.add_url_rule(rule, f"{view.__name__}{number or ''}", view, methods=[method])
            return view

        return register

    @blueprint.before_request
    def admit() -> Response | None:
        key = (request.view_args or {})["source"]
        address, from_where = request.remote_addr or "", place()
        header = request.headers.get("Authorization", "")
        scheme, _, token = header.partition(" ")
        visitor = door.admit(key, token.strip() if scheme.lower() == "bearer" else None)
        if isinstance(visitor, ScimCaller):
            g.visitor = visitor
            g.draft = draft(visitor.source_id)
            observed.note(visitor.source_id, observations.CALL, token_id=visitor.token_id)
            check_size()
            return None
        # A token that is good always works, however many bad ones come from the same address.
        limiter.check(from_where)
        limiter.failed(from_where)
        observed.note_refusal(key, f"{request.method} {request.path} from {address}: {visitor}")
        source_id = pushing.source_id(key)
        if source_id:
            traces.add(draft(source_id).row(401, f"Rejected: {visitor}"))
        log.info("rejected", source=key, method=request.method, path=request.path, reason=visitor)
        answer = show(ScimError(401, visitor).body(), 401)
        answer.headers["WWW-Authenticate"] = (
            f'Bearer realm="dravo inbound SCIM {key}"' if lookups.KEY.fullmatch(key) else "Bearer"
        )
        return answer

    @blueprint.after_request
    def keep_trace(answer: Response) -> Response:
        kept: TraceDraft | None = g.get("draft")
        if kept is not None and not kept.written:
            try:
                traces.add(kept.row(answer.status_code, g.get("outcome") or _outcome(answer)))
            except Exception:
                # A trace never decides the answer.
                log.error("a request could not be traced", path=request.path[:500], exc_info=True)
        return answer

    def asked() -> ScimRequestDetail:
        condition = Condition(request.headers.get("If-Match"), request.headers.get("If-None-Match"))
        return ScimRequestDetail(g.visitor, base(), read_query(request.args), condition, g.draft)

    # Users and groups

    def resources(kind: str) -> None:
        endpoint, name = f"/{kind}s", kind.lower()

        def create(source: str) -> Response:
            return answered(pushing.write(asked(), "POST", kind, None, body()))

        def listing(source: str) -> Response:
            return answered(pushing.search(asked(), (kind,)))

        def search(source: str) -> Response:
            return answered(pushing.search(searching(), (kind,)))

        def one(source: str, identifier: str) -> Response:
            if request.method in ("GET", "HEAD"):
                return answered(pushing.read(asked(), kind, identifier))
            payload = body() if request.method != "DELETE" else None
            return answered(pushing.write(asked(), request.method, kind, identifier, payload))

        views = ((create, "POST", ""), (listing, "GET", ""), (search, "POST", "/.search"))
        for view, method, path in views:
            view.__name__ = f"{view.__name__}_{name}"
            route(endpoint + path, method)(view)
        for method in ("GET", "PUT", "PATCH", "DELETE"):
            one.__name__ = f"{method.lower()}_{name}"
            route(endpoint + "/<identifier>", method)(one)

    for each_kind in BOTH:
        resources(each_kind)

    def searching() -> ScimRequestDetail:
        payload = g.draft.payload = body()
        return ScimRequestDetail(g.visitor, base(), read_search_request(payload), Condition(), g.draft)

    @route("/.search", "POST")
    def search_all(source: str) -> Response:
        return answered(pushing.search(searching(), BOTH))

    @route("", "GET")
    def list_all(source: str) -> Response:
        return answered(pushing.search(asked(), BOTH))

    @route("/Bulk", "POST")
    def bulk(source: str) -> Response:
        if (request.content_length or 0) > LARGEST_PAYLOAD:
            raise ScimError(
                413, f"The body is larger than maxPayloadSize ({LARGEST_PAYLOAD} bytes). Split the request."
            )
        answer = pushing.bulk(asked(), body())
        results = (answer.body or {})["Operations"]
        failed = sum(1 for each in results if "response" in each)
        g.outcome = (
            f"{len(results)} operations, {failed} of them refused."
            if failed
            else f"{len(results)} operations."
        )
        return answered(answer)

    # What the service is (RFC 7644, section 4)

    @route("/ServiceProviderConfig", "GET")
    def config(source: str) -> Response:
        forbid_filter()
        return show(service_provider_config(f"{base()}/ServiceProviderConfig"))

    @route("/Schemas", "GET")
    def schemas(source: str) -> Response:
        forbid_filter()
        shown = [
            placed(each.document(), "Schema", f"/Schemas/{each.id}") for each in g.visitor.shapes.schemas
        ]
        return show(list_response(shown, len(shown), 1))

    @route("/Schemas/<identifier>", "GET")
    def schema(source: str, identifier: str) -> Response:
        for each in g.visitor.shapes.schemas:
            if each.id.lower() == identifier.lower():
                return show(placed(each.document(), "Schema", f"/Schemas/{each.id}"))
        raise ScimError(404, f"There is no schema '{identifier}'.")

    @route("/ResourceTypes", "GET")
    def resource_types(source: str) -> Response:
        forbid_filter()
        shown = [
            placed(each.document(), "ResourceType", f"/ResourceTypes/{each.name}")
            for each in g.visitor.shapes.types
        ]
        return show(list_response(shown, len(shown), 1))

    @route("/ResourceTypes/<identifier>", "GET")
    def resource_type(source: str, identifier: str) -> Response:
        for each in g.visitor.shapes.types:
            if each.name.lower() == identifier.lower():
                return show(placed(each.document(), "ResourceType", f"/ResourceTypes/{each.name}"))
        raise ScimError(404, f"There is no resource type '{identifier}'.")

    @blueprint.route(f"{PREFIX}/Me", methods=METHODS)
    @blueprint.route(f"{PREFIX}/Me/", methods=METHODS)
    def me(source: str) -> Response:
        raise ScimError(501, "The path /Me is not supported.")

    @blueprint.route(PREFIX, methods=METHODS[1:])
    @blueprint.route(f"{PREFIX}/", methods=METHODS[1:])
    @blueprint.route(f"{PREFIX}/<path:rest>", methods=METHODS)
    def elsewhere(source: str, rest: str = "") -> Response:
        if rest.strip("/") in ("", *ENDPOINTS) or rest.split("/", maxsplit=1)[0] in ENDPOINTS[:4]:
            raise ScimError(405, f"{request.method} is not supported at '/{rest.strip('/')}'.")
        detail = (
            f"There is no resource at '/{rest}'. Check the base URL: users are at /Users, groups at /Groups."
        )
        observed.note(g.visitor.source_id, observations.LOST, f"{request.method} {request.path}: {detail}")
        raise ScimError(404, detail)

    # Errors, all as RFC 7644, section 3.12

    @blueprint.errorhandler(ScimError)
    def refused(wrong: ScimError) -> Response:
        g.outcome = f"Refused{f' ({wrong.scim_type})' if wrong.scim_type else ''}: {wrong.detail}"
        if "visitor" in g and request.method != "GET" and wrong.status != 404:
            # Anyone who runs the other side often sees no more than that it failed; the checklist says why.
            observed.note(
                g.visitor.source_id,
                observations.WRONG,
                f"{request.method} {request.path} was refused ({wrong.status}): {wrong.detail}",
            )
        return show(wrong.body(), wrong.status)

    @blueprint.errorhandler(NotFound)
    def not_found(wrong: NotFound) -> Response:
        g.outcome = f"Not found: {wrong.message}"
        return show(ScimError(404, wrong.message).body(), 404)

    @blueprint.errorhandler(DravoError)
    def not_now(wrong: DravoError) -> Response:
        status = wrong.status if wrong.status in (429, 503) else 409 if wrong.status == 409 else 400
        g.outcome = f"Failed: {wrong}"
        answer = show(ScimError(status, str(wrong)).body(), status)
        if status in (429, 503):
            answer.headers["Retry-After"] = "2"
        return answer

    @blueprint.errorhandler(HTTPException)
    def by_flask(wrong: HTTPException) -> Response:
        status = wrong.code or 500
        return show(ScimError(status, wrong.description or wrong.name).body(), status)

    return blueprint


def draft(source_id: str) -> TraceDraft:
    """Return the beginning of this request's trace; its path is told from the connection type's own address
    on.
    """
    assert request.view_args is not None
    path = request.path.removeprefix(f"/scim/v2/{request.view_args['source']}") or "/"
    # As it reads, so that operators find a filter by its own words.
    return TraceDraft(
        source_id, request.method, path, unquote_plus(request.query_string.decode("utf-8", "replace")) or None
    )


def _outcome(answer: Response) -> str:
    if answer.status_code == 304:
        return "Read, unchanged."
    if (answer.status_code < 300 and request.method in ("GET", "HEAD")) or request.path.rstrip("/").endswith(
        "/.search"
    ):
        return "Read."
    return "No change." if answer.status_code < 300 else f"Refused ({answer.status_code})."


def body() -> Any:
    """Return the request's JSON.

    Raises:
        ScimError: 413 if it is too large, 415 if it says that it is something else than JSON, 400
            invalidSyntax if it is not JSON.
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
    """Refuse a body that is larger than such a resource is: parsing one of ten megabytes takes seconds (RFC
    7644, section 3.12).
    """
    endpoint = request.path.rstrip("/").split("/")[4:5]
    size, largest = (
        request.content_length or 0,
        LARGEST_BODY if endpoint in (["Groups"], ["Bulk"]) else LARGEST_SINGLE,
    )
    if size > largest:
        raise ScimError(413, f"The body has {size:,} bytes. The maximum is {largest:,}.")


def forbid_filter() -> None:
    """Turn away a filter where none is allowed (RFC 7644, section 4: 403)."""
    if request.args.get("filter"):
        raise ScimError(403, "Filters are not supported at this path.")


def base() -> str:
    """Return the address of inbound SCIM of the source, from the public address that is configured."""
    assert request.view_args is not None
    return f"{current_app.config['PUBLIC_URL']}/scim/v2/{request.view_args['source']}"


def placed(document: dict[str, Any], kind: str, path: str) -> dict[str, Any]:
    """Return a document with its meta."""
    return {**document, "meta": {"resourceType": kind, "location": base() + path}}


def answered(answer: ScimResponse) -> Response:
    """Return an answer over HTTP."""
    response = show(answer.body, answer.status) if answer.body is not None else Response(status=answer.status)
    response.headers.extend(answer.headers.items())
    return response


def show(message: dict[str, Any], status: int = 200) -> Response:
    """Return a SCIM answer."""
    return Response(orjson.dumps(message), status, content_type=SCIM_JSON)
