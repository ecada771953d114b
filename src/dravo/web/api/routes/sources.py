"""Sources, their tokens and exchange checklists."""

from __future__ import annotations

from flask import Response, current_app

from dravo.core.instants import parse_instant
from dravo.services.changes.effects import PreviewedEffects
from dravo.services.policies import new_sources
from dravo.services.scim_server import request_log
from dravo.services.scim_server.request_log import ScimRequest, ScimRequestLine
from dravo.services.security.permissions import ATTRIBUTES, REQUESTS
from dravo.services.sources import hand_over, retirement, scim_checklist, sources, templates
from dravo.services.sources import schemas as source_schemas
from dravo.services.sources import tokens as scim_tokens
from dravo.services.sources.hand_over import HandOverState
from dravo.services.sources.hand_over_plan import HandOverImpact, HandOverWish
from dravo.services.sources.retirement import RetiredSource
from dravo.services.sources.schemas import SourceSchema
from dravo.services.sources.scim_checklist import SetupChecklist
from dravo.services.sources.sources import SourceChange, SourceLine
from dravo.services.sources.templates import SourceTemplate
from dravo.services.sources.tokens import NewScimToken, ScimToken
from dravo.store.pagination import ItemList, Page
from dravo.store.queries.scim_requests import RequestFilter
from dravo.web.api.auth import api_blueprint, app_context, caller, needs, page_request
from dravo.web.api.openapi import responses
from dravo.web.api.routes.assignments import sure_of
from dravo.web.api.schemas.common import ConfirmedRequest, KeyPath, PageQuery
from dravo.web.api.schemas.sources.sources import (
    AddSourceRequest,
    ChangeSourceRequest,
    CreateScimTokenRequest,
    HandOverRequest,
    SchemaPath,
    SchemaRequest,
    ScimRequestPath,
    ScimRequestsQuery,
    TokenPath,
)

routes = api_blueprint("sources")


@routes.get("/sources", responses=responses("sources.sources.PageOfSources"))
@needs("sources.read")
def list_sources(query: PageQuery) -> Page[SourceLine]:
    """List sources.

    Sources with the number of users and groups.
    """
    return sources.list_sources(app_context(), page_request(query))


@routes.post("/sources", responses=responses("sources.sources.Source", 201))
@needs("sources.change")
def add_source(body: AddSourceRequest) -> tuple[SourceLine, int]:
    """Add a source.

    The key must be unique and cannot be changed later. More connection types can be added later. A template
    decides the connection type, and presets settings and policy.
    """
    if body.template:
        return new_sources.add(app_context(), caller(), body.key, body.label, body.template), 201
    return sources.add(app_context(), caller(), body.key, body.label, body.connection_type), 201


@routes.get("/source-templates", responses=responses("sources.sources.SourceTemplates"))
@needs("sources.read")
def list_source_templates() -> ItemList[SourceTemplate]:
    """List source templates.

    Preset values for a new source. Everything can be changed later.
    """
    return templates.list_templates()


@routes.get("/sources/<key>", responses=responses("sources.sources.Source"))
@needs("sources.read")
def get_source(path: KeyPath) -> SourceLine:
    """Get a source.

    Returns the connection type, domains, numbers and warnings.
    """
    return sources.one(app_context(), path.key)


@routes.patch("/sources/<key>", responses=responses("sources.sources.Source"))
@needs("sources.change")
def change_source(path: KeyPath, body: ChangeSourceRequest) -> SourceLine:
    """Change a source.

    Changes the label, the email domains or the note.
    """
    wanted = SourceChange(body.label, body.domains, body.note)
    return sources.change(app_context(), caller(), path.key, wanted)


@routes.delete("/sources/<key>", responses={204: None})
@needs("sources.change")
def remove_source(path: KeyPath) -> Response:
    """Delete a source.

    The source must not have reported users or groups.
    """
    sources.remove(app_context(), caller(), path.key)
    return Response(status=204)


@routes.post("/sources/<key>/retire", responses=responses("sources.sources.RetiredSource"))
@needs("sources.change")
def retire_source(path: KeyPath, body: ConfirmedRequest) -> RetiredSource:
    """Retire a source.

    Its users become leavers unless other sources report them. Its tokens are revoked, and its connections
    disabled. Requires `confirm`.
    """
    return retirement.retire(app_context(), caller(), path.key, sure_of(body))


@routes.post("/sources/<key>/retire/preview", responses=responses("access.assignments.ChangeEffects"))
@needs("attributes.read")
def preview_retiring(path: KeyPath) -> PreviewedEffects:
    """Preview a retired source.

    Returns the leavers, and the roles that end. Changes nothing.
    """
    return retirement.preview(app_context(), path.key).shown()


@routes.post("/sources/<key>/restore", responses=responses("sources.sources.RetiredSource"))
@needs("sources.change")
def restore_source(path: KeyPath) -> RetiredSource:
    """Restore a retired source.

    Users, groups and memberships return. Connections stay disabled, and tokens revoked.
    """
    return retirement.restore(app_context(), caller(), path.key)


@routes.get("/sources/<key>/hand-over", responses=responses("sources.sources.HandOverState"))
@needs("sources.read")
def get_hand_over(path: KeyPath) -> HandOverState:
    """Get the hand-over of a source.

    Returns the last hand-over of its users to another source.
    """
    return hand_over.state(app_context(), path.key)


@routes.post("/sources/<key>/hand-over", responses=responses("sources.sources.HandOverState"))
@needs("sources.change")
def hand_over_source(path: KeyPath, body: HandOverRequest) -> HandOverState:
    """Hand over the users of a source.

    With `group`, only members of that group are handed over. Without it, all users are, and the old source is
    retired. Assignments follow to groups of the same name. Requires `confirm`.
    """
    wish = HandOverWish(body.to, body.group)
    return hand_over.hand_over(app_context(), caller(), path.key, wish, sure_of(body))


@routes.post("/sources/<key>/hand-over/preview", responses=responses("sources.sources.HandOverImpact"))
@needs("attributes.read")
def preview_hand_over(path: KeyPath, body: HandOverRequest) -> HandOverImpact:
    """Preview a hand-over.

    Returns the impact list: users, groups, assignments, domains and access. Changes nothing.
    """
    return hand_over.preview(app_context(), path.key, HandOverWish(body.to, body.group))


@routes.post("/sources/<key>/hand-over/undo", responses=responses("sources.sources.HandOverState"))
@needs("sources.change")
def undo_hand_over(path: KeyPath) -> HandOverState:
    """Undo a hand-over.

    The records of the old source count again, and its import and sign-in are enabled as before. Its tokens
    stay revoked.
    """
    return hand_over.undo(app_context(), caller(), path.key)


@routes.get("/sources/<key>/checklist", responses=responses("sources.sources.SetupChecklist"))
@needs("sources.read")
def checklist(path: KeyPath) -> SetupChecklist:
    """Get the setup checklist.

    Values for inbound SCIM, and what real traffic has verified.
    """
    return scim_checklist.checklist(app_context(), path.key, current_app.config["PUBLIC_URL"])


@routes.get("/sources/<key>/tokens", responses=responses("sources.sources.PageOfScimTokens"))
@needs("sources.read")
def list_tokens(path: KeyPath, query: PageQuery) -> Page[ScimToken]:
    """List SCIM tokens.

    Tokens of the source, without their secrets.
    """
    return scim_tokens.tokens(app_context(), path.key, page_request(query))


@routes.post("/sources/<key>/tokens", responses=responses("sources.sources.NewScimToken", 201))
@needs("sources.change")
def add_token(path: KeyPath, body: CreateScimTokenRequest) -> tuple[NewScimToken, int]:
    """Create a SCIM token.

    Returns the token once.
    """
    expires = parse_instant(body.expires_at, "expires_at") if body.expires_at else None
    scope = scim_tokens.TokenScope(body.kinds, body.access)
    return scim_tokens.add_token(app_context(), caller(), path.key, body.label, expires, scope), 201


@routes.delete("/sources/<key>/tokens/<token_id>", responses={204: None})
@needs("sources.change")
def revoke_token(path: TokenPath) -> Response:
    """Revoke a SCIM token.

    Requests with the token are rejected immediately.
    """
    scim_tokens.revoke_token(app_context(), caller(), path.key, path.token_id)
    return Response(status=204)


@routes.get("/sources/<key>/schemas", responses=responses("sources.sources.SourceSchemas"))
@needs("sources.read")
def list_schemas(path: KeyPath) -> ItemList[SourceSchema]:
    """List schema extensions.

    SCIM schemas that operators added to the source.
    """
    return source_schemas.list_schemas(app_context(), path.key)


@routes.post("/sources/<key>/schemas", responses=responses("sources.sources.SourceSchemas", 201))
@needs("sources.change")
def add_schema(path: KeyPath, body: SchemaRequest) -> tuple[ItemList[SourceSchema], int]:
    """Add a schema extension.

    The schema must follow RFC 7643, section 7.
    """
    return source_schemas.add(app_context(), caller(), path.key, body.kind, body.document), 201


@routes.delete("/sources/<key>/schemas/<urn>", responses={204: None})
@needs("sources.change")
def remove_schema(path: SchemaPath) -> Response:
    """Remove a schema extension.

    A schema that a rule uses cannot be removed.
    """
    source_schemas.remove(app_context(), caller(), path.key, path.urn)
    return Response(status=204)


@routes.get("/sources/<key>/requests", responses=responses("sources.sources.PageOfScimRequests"))
@needs("requests.read")
def list_requests(path: KeyPath, query: ScimRequestsQuery) -> Page[ScimRequestLine]:
    """List inbound SCIM requests.

    Requests with their responses and results, newest first.
    """
    app_context().traces.flush()
    source_id = sources.id_of(app_context(), path.key)
    values = ATTRIBUTES in caller().permissions
    return request_log.list_requests(
        app_context().database,
        source_id,
        page_request(query),
        RequestFilter(words=query.q, outcome=query.outcome, method=query.method),
        values=values,
    )


@routes.get("/sources/<key>/requests/<id>", responses=responses("sources.sources.ScimRequestDetail"))
@needs("attributes.read")
def get_request(path: ScimRequestPath) -> ScimRequest:
    """Get an inbound SCIM request.

    Returns the request with its body, without secrets. Needs the permission `requests.read` too.
    """
    caller().require(REQUESTS)
    return request_log.one(app_context().database, sources.id_of(app_context(), path.key), path.id)
