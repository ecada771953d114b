"""Routes of the push channel at /scim/v2/{source}: reads the message, hands it to intake, shows the result.

RFC 7644, section 3. Only this module knows both Flask and SCIM.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

import orjson
import structlog
from flask import Blueprint, Response, current_app, g, request
from werkzeug.exceptions import HTTPException

from dravo.core.errors import DravoError, NotFound
from dravo.core.scim.errors import ScimError, invalid_syntax, invalid_value
from dravo.core.scim.messages import list_response, service_provider_config
from dravo.core.scim.patches import read_operations
from dravo.core.scim.resources import read_members, read_resource, select_attributes
from dravo.core.scim.schemas import GROUP, RESOURCE_TYPES, SCHEMAS, USER
from dravo.services import sources
from dravo.services.house import House
from dravo.services.intake import Intake, Taken
from dravo.services.operators import Limiter
from dravo.services.own_records import OwnRecords, Query, group_resource, person_resource
from dravo.services.sources import Sightings, Visitor

SCIM_JSON = "application/scim+json"
LARGEST_BODY = 10 * 1024 * 1024
PREFIX = "/scim/v2/<source>"
METHODS = ["GET", "POST", "PUT", "PATCH", "DELETE"]
ENDPOINTS = ("Users", "Groups", "Schemas", "ResourceTypes", "ServiceProviderConfig", "Me")

log = structlog.get_logger("push")


def make_blueprint(house: House) -> Blueprint:
    """Return the push channel's routes for one house."""
    blueprint = Blueprint("push", __name__)
    intake, own, sightings = Intake(house.database, house.catalogue), OwnRecords(house.database), Sightings(house)
    door = sources.Door(house)
    limiter = Limiter(200, 60)

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
        address = request.remote_addr or ""
        header = request.headers.get("Authorization", "")
        scheme, _, token = header.partition(" ")
        visitor = door.admit(key, token.strip() if scheme.lower() == "bearer" else None)
        if isinstance(visitor, Visitor):
            g.visitor = visitor
            sightings.note(visitor.source_id, sources.CALL, token_id=visitor.token_id)
            return None
        # A token that is good always works, however many bad ones come from the same address.
        limiter.check(address)
        limiter.failed(address)
        sightings.note_refusal(key, f"{request.method} {request.path} from {address}: {visitor}")
        log.info("turned away", source=key, method=request.method, path=request.path, reason=visitor)
        answer = show(ScimError(401, visitor).body(), 401)
        answer.headers["WWW-Authenticate"] = f'Bearer realm="dravo push channel {key}"' if sources.KEY.fullmatch(key) else "Bearer"
        return answer

    # People

    @route("/Users", "POST")
    def create_user(source: str) -> Response:
        taken = intake.create_person(g.visitor.source_id, read_resource(body(), USER))
        sightings.note(g.visitor.source_id, sources.USER)
        return shown_person(taken, 201)

    @route("/Users", "GET")
    def list_users(source: str) -> Response:
        return show(own.people(g.visitor.source_id, base(), query()))

    @route("/Users/<identifier>", "GET")
    def get_user(source: str, identifier: str) -> Response:
        return show(own.person(g.visitor.source_id, identifier, base(), query()))

    @route("/Users/<identifier>", "PUT")
    def replace_user(source: str, identifier: str) -> Response:
        return changed(intake.replace_person(g.visitor.source_id, identifier, read_resource(body(), USER)))

    @route("/Users/<identifier>", "PATCH")
    def patch_user(source: str, identifier: str) -> Response:
        return changed(intake.patch_person(g.visitor.source_id, identifier, read_operations(body(), USER)))

    @route("/Users/<identifier>", "DELETE")
    def delete_user(source: str, identifier: str) -> Response:
        intake.remove_person(g.visitor.source_id, identifier)
        return Response(status=204)

    def changed(taken: Taken) -> Response:
        deactivated = taken.data.get("active") is False
        sightings.note(g.visitor.source_id, sources.DEACTIVATION if deactivated else sources.CHANGE)
        return shown_person(taken, 200)

    def shown_person(taken: Taken, status: int) -> Response:
        asked = query()
        resource = person_resource(taken, base())
        answer = show(select_attributes(resource, USER, asked.attributes, asked.excluded), status)
        answer.headers["Location"] = resource["meta"]["location"]
        return answer

    # Groups

    @route("/Groups", "POST")
    def create_group(source: str) -> Response:
        data, members = group_body()
        taken = intake.create_group(g.visitor.source_id, data, members)
        sightings.note(g.visitor.source_id, sources.GROUP)
        if members:
            sightings.note(g.visitor.source_id, sources.MEMBERSHIP)
        answer = show(own.group(g.visitor.source_id, taken.id, base(), query()), 201)
        answer.headers["Location"] = f"{base()}/Groups/{taken.id}"
        return answer

    @route("/Groups", "GET")
    def list_groups(source: str) -> Response:
        return show(own.groups(g.visitor.source_id, base(), query()))

    @route("/Groups/<identifier>", "GET")
    def get_group(source: str, identifier: str) -> Response:
        return show(own.group(g.visitor.source_id, identifier, base(), query()))

    @route("/Groups/<identifier>", "PUT")
    def replace_group(source: str, identifier: str) -> Response:
        data, members = group_body()
        intake.replace_group(g.visitor.source_id, identifier, data, members)
        if members:
            sightings.note(g.visitor.source_id, sources.MEMBERSHIP)
        return show(own.group(g.visitor.source_id, identifier, base(), query()))

    @route("/Groups/<identifier>", "PATCH")
    def patch_group(source: str, identifier: str) -> Response:
        operations = read_operations(body(), GROUP)
        taken = intake.patch_group(g.visitor.source_id, identifier, operations)
        if any(each.kind == "add" for each in operations):
            sightings.note(g.visitor.source_id, sources.MEMBERSHIP)
        asked = query()
        if asked.attributes:
            # Asked for, so shown; else no body, for the members may be many (RFC 7644, section 3.5.2).
            return show(select_attributes(group_resource(taken, base(), ()), GROUP, asked.attributes, None))
        return Response(status=204)

    @route("/Groups/<identifier>", "DELETE")
    def delete_group(source: str, identifier: str) -> Response:
        intake.remove_group(g.visitor.source_id, identifier)
        return Response(status=204)

    def group_body() -> tuple[dict[str, Any], list[str]]:
        payload = body()
        data = read_resource(payload, GROUP)
        data.pop("members", None)
        given = next((value for key, value in payload.items() if key.lower() == "members"), None) if isinstance(payload, Mapping) else None
        return data, read_members(given)

    # What the service is (RFC 7644, section 4)

    @route("/ServiceProviderConfig", "GET")
    def config(source: str) -> Response:
        return show(service_provider_config(f"{base()}/ServiceProviderConfig"))

    @route("/Schemas", "GET")
    def schemas(source: str) -> Response:
        forbid_filter()
        return show(list_response([placed(schema.document(), "Schema", f"/Schemas/{schema.id}") for schema in SCHEMAS], len(SCHEMAS), 1))

    @route("/Schemas/<identifier>", "GET")
    def schema(source: str, identifier: str) -> Response:
        for each in SCHEMAS:
            if each.id.lower() == identifier.lower():
                return show(placed(each.document(), "Schema", f"/Schemas/{each.id}"))
        raise ScimError(404, f"There is no schema '{identifier}' here.")

    @route("/ResourceTypes", "GET")
    def resource_types(source: str) -> Response:
        forbid_filter()
        shown = [placed(each.document(), "ResourceType", f"/ResourceTypes/{each.name}") for each in RESOURCE_TYPES]
        return show(list_response(shown, len(shown), 1))

    @route("/ResourceTypes/<identifier>", "GET")
    def resource_type(source: str, identifier: str) -> Response:
        for each in RESOURCE_TYPES:
            if each.name.lower() == identifier.lower():
                return show(placed(each.document(), "ResourceType", f"/ResourceTypes/{each.name}"))
        raise ScimError(404, f"There is no resource type '{identifier}' here.")

    @route("/Me", "GET")
    def me(source: str) -> Response:
        raise ScimError(501, "A source is not a person, so there is no /Me here.")

    @blueprint.route(PREFIX, methods=METHODS)
    @blueprint.route(f"{PREFIX}/<path:rest>", methods=METHODS)
    def elsewhere(source: str, rest: str = "") -> Response:
        if rest.strip("/") in ENDPOINTS:
            raise ScimError(405, f"{request.method} is not offered at '/{rest.strip('/')}'.")
        detail = (
            f"There is nothing at '/{rest}' here; people are at /Users, groups at /Groups. Is the base address given twice, or with a part too many?"
        )
        sightings.note(g.visitor.source_id, sources.LOST, f"{request.method} {request.path}: {detail}")
        raise ScimError(404, detail)

    # Errors, all as RFC 7644, section 3.12

    @blueprint.errorhandler(ScimError)
    def refused(wrong: ScimError) -> Response:
        if "visitor" in g and request.method != "GET" and wrong.status != 404:
            # Whoever runs the other side often sees no more than that it failed; the sheet says why.
            sightings.note(g.visitor.source_id, sources.WRONG, f"{request.method} {request.path} was refused ({wrong.status}): {wrong.detail}")
        return show(wrong.body(), wrong.status)

    @blueprint.errorhandler(NotFound)
    def not_found(wrong: NotFound) -> Response:
        return show(ScimError(404, wrong.message).body(), 404)

    @blueprint.errorhandler(DravoError)
    def not_now(wrong: DravoError) -> Response:
        status = wrong.status if wrong.status in (429, 503) else 409 if wrong.status == 409 else 400
        answer = show(ScimError(status, str(wrong)).body(), status)
        if status in (429, 503):
            answer.headers["Retry-After"] = "2"
        return answer

    @blueprint.errorhandler(HTTPException)
    def by_flask(wrong: HTTPException) -> Response:
        status = wrong.code or 500
        return show(ScimError(status, wrong.description or wrong.name).body(), status)

    return blueprint


def body() -> Any:
    """Return the request's JSON.

    Raises:
        ScimError: 413 if it is too large, 400 invalidSyntax if it is not JSON.
    """
    if (request.content_length or 0) > LARGEST_BODY:
        raise ScimError(413, f"The body is larger than {LARGEST_BODY // 1024 // 1024} MiB; send it in parts.")
    content = request.get_data(cache=False)
    if not content:
        raise invalid_syntax("The request has no body; send JSON.")
    try:
        return orjson.loads(content)
    except ValueError as wrong:
        raise invalid_syntax(f"The body is not JSON: {wrong}.") from None


def query() -> Query:
    """Return the request's query parameters (RFC 7644, sections 3.4.2 and 3.9)."""
    arguments = request.args
    if arguments.get("attributes") and arguments.get("excludedAttributes"):
        raise invalid_value("Give either attributes or excludedAttributes, not both.")
    return Query(
        arguments.get("filter") or None,
        _whole_number("startIndex", 1),
        _whole_number("count", 100),
        arguments.get("attributes") or None,
        arguments.get("excludedAttributes") or None,
    )


def _whole_number(name: str, otherwise: int) -> int:
    text = request.args.get(name)
    if not text:
        return otherwise
    try:
        return max(-(2**31), min(int(text), 2**31))
    except ValueError:
        raise invalid_value(f"'{name}' is '{text[:40]}'; it should be a whole number.") from None


def forbid_filter() -> None:
    """Turn away a filter where none is allowed (RFC 7644, section 4: 403)."""
    if request.args.get("filter"):
        raise ScimError(403, "Filters are not allowed here.")


def base() -> str:
    """Return the address of the source's channel, from the public address that is configured."""
    assert request.view_args is not None
    return f"{current_app.config['PUBLIC_URL']}/scim/v2/{request.view_args['source']}"


def placed(document: dict[str, Any], kind: str, path: str) -> dict[str, Any]:
    """Return a document with its meta."""
    return {**document, "meta": {"resourceType": kind, "location": base() + path}}


def show(message: dict[str, Any], status: int = 200) -> Response:
    """Return a SCIM answer."""
    return Response(orjson.dumps(message), status, content_type=SCIM_JSON)
