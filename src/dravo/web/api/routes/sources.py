"""Sources, their tokens and exchange checklists."""

from __future__ import annotations

from typing import Any

from flask import Response, current_app

from dravo.core.instants import parse_instant
from dravo.services.scim_server import request_log
from dravo.services.security.permissions import ATTRIBUTES
from dravo.services.sources import schemas as source_schemas
from dravo.services.sources import scim_checklist, sources
from dravo.services.sources import tokens as scim_tokens
from dravo.web.api.auth import api_blueprint, app_context, ask, caller, needs
from dravo.web.api.openapi import responses
from dravo.web.api.schemas.common import KeyPath, PageQuery
from dravo.web.api.schemas.sources import (
    AddSourceRequest,
    ChangeSourceRequest,
    CreateScimTokenRequest,
    SchemaPath,
    SchemaRequest,
    TokenPath,
    TracePath,
    TracesQuery,
)

routes = api_blueprint("sources")


@routes.get("/sources", responses=responses("sources.PageOfSources"))
@needs("sources.read")
def list_sources(query: PageQuery) -> dict[str, Any]:
    """Sources, with how many users and groups each has."""
    return sources.list_sources(app_context(), ask(query))


@routes.post("/sources", responses=responses("sources.Source", 201))
@needs("sources.change")
def add_source(body: AddSourceRequest) -> tuple[dict[str, Any], int]:
    """Add a source that pushes."""
    return sources.add(app_context(), caller(), body.key, body.label), 201


@routes.get("/sources/<key>", responses=responses("sources.Source"))
@needs("sources.read")
def get_source(path: KeyPath) -> dict[str, Any]:
    """One source."""
    return sources.one(app_context(), path.key)


@routes.patch("/sources/<key>", responses=responses("sources.Source"))
@needs("sources.change")
def change_source(path: KeyPath, body: ChangeSourceRequest) -> dict[str, Any]:
    """Change a source's label or its email domains."""
    return sources.change(app_context(), caller(), path.key, body.label, body.domains)


@routes.delete("/sources/<key>", responses={204: None})
@needs("sources.change")
def remove_source(path: KeyPath) -> Response:
    """Remove a source that has brought nobody."""
    sources.remove(app_context(), caller(), path.key)
    return Response(status=204)


@routes.get("/sources/<key>/checklist", responses=responses("sources.SetupChecklist"))
@needs("sources.read")
def checklist(path: KeyPath) -> dict[str, Any]:
    """The setup checklist of a source's inbound SCIM."""
    return scim_checklist.checklist(app_context(), path.key, current_app.config["PUBLIC_URL"])


@routes.get("/sources/<key>/tokens", responses=responses("sources.PageOfTokens"))
@needs("sources.read")
def list_tokens(path: KeyPath, query: PageQuery) -> dict[str, Any]:
    """A source's push tokens, without their texts."""
    return scim_tokens.tokens(app_context(), path.key, ask(query))


@routes.post("/sources/<key>/tokens", responses=responses("sources.NewToken", 201))
@needs("sources.change")
def add_token(path: KeyPath, body: CreateScimTokenRequest) -> tuple[dict[str, Any], int]:
    """Make a push token; its text is in the answer, the only time."""
    expires = parse_instant(body.expires_at, "expires_at") if body.expires_at else None
    return scim_tokens.add_token(app_context(), caller(), path.key, body.label, expires, body.kinds, body.access), 201


@routes.delete("/sources/<key>/tokens/<token_id>", responses={204: None})
@needs("sources.change")
def revoke_token(path: TokenPath) -> Response:
    """Revoke a push token."""
    scim_tokens.revoke_token(app_context(), caller(), path.key, path.token_id)
    return Response(status=204)


@routes.get("/sources/<key>/schemas", responses=responses("sources.SourceSchemas"))
@needs("sources.read")
def list_schemas(path: KeyPath) -> dict[str, Any]:
    """The extension schemas that were added to a source."""
    return source_schemas.list_schemas(app_context(), path.key)


@routes.post("/sources/<key>/schemas", responses=responses("sources.SourceSchemas", 201))
@needs("sources.change")
def add_schema(path: KeyPath, body: SchemaRequest) -> tuple[dict[str, Any], int]:
    """Add an extension schema to a source."""
    return source_schemas.add(app_context(), caller(), path.key, body.kind, body.document), 201


@routes.delete("/sources/<key>/schemas/<urn>", responses={204: None})
@needs("sources.change")
def remove_schema(path: SchemaPath) -> Response:
    """Remove an extension schema from a source."""
    source_schemas.remove(app_context(), caller(), path.key, path.urn)
    return Response(status=204)


@routes.get("/sources/<key>/requests", responses=responses("sources.PageOfTraces"))
@needs("sources.read")
def list_requests(path: KeyPath, query: TracesQuery) -> dict[str, Any]:
    """The requests of a source, newest first: what came, what was answered, what it led to."""
    app_context().traces.flush()
    source_id = sources.id_of(app_context(), path.key)
    values = ATTRIBUTES in caller().permissions
    return request_log.list_requests(
        app_context().database, source_id, ask(query), words=query.q, outcome=query.outcome, method=query.method, values=values
    )


@routes.get("/sources/<key>/requests/<id>", responses=responses("sources.Trace"))
@needs("attributes.read")
def get_request(path: TracePath) -> dict[str, Any]:
    """One request of a source, with its body."""
    return request_log.one(app_context().database, sources.id_of(app_context(), path.key), path.id)
