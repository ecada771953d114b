"""Sources, their tokens and exchange sheets."""

from __future__ import annotations

from typing import Any

from flask import Response, current_app

from dravo.core.instants import parse_instant
from dravo.services import shapes, sources, tracing
from dravo.services.permissions import ATTRIBUTES
from dravo.web.api import asked as q
from dravo.web.api.describing import answers
from dravo.web.api.door import ask, caller, house, needs, room

rooms = room("sources")


@rooms.get("/sources", responses=answers("models.PageOfSources"))
@needs("sources.read")
def list_sources(query: q.PageQuery) -> dict[str, Any]:
    """Sources, with how many people and groups each has."""
    return sources.listing(house(), ask(query))


@rooms.post("/sources", responses=answers("models.Source", 201))
@needs("sources.change")
def add_source(body: q.SourceBody) -> tuple[dict[str, Any], int]:
    """Add a source that pushes."""
    return sources.add(house(), caller(), body.key, body.label), 201


@rooms.get("/sources/<key>", responses=answers("models.Source"))
@needs("sources.read")
def get_source(path: q.KeyPath) -> dict[str, Any]:
    """One source."""
    return sources.one(house(), path.key)


@rooms.patch("/sources/<key>", responses=answers("models.Source"))
@needs("sources.change")
def change_source(path: q.KeyPath, body: q.SourceChangeBody) -> dict[str, Any]:
    """Change a source's label or its email domains."""
    return sources.change(house(), caller(), path.key, body.label, body.domains)


@rooms.delete("/sources/<key>", responses={204: None})
@needs("sources.change")
def remove_source(path: q.KeyPath) -> Response:
    """Remove a source that has brought nobody."""
    sources.remove(house(), caller(), path.key)
    return Response(status=204)


@rooms.get("/sources/<key>/sheet", responses=answers("models.ExchangeSheet"))
@needs("sources.read")
def sheet(path: q.KeyPath) -> dict[str, Any]:
    """The exchange sheet of a source's push channel."""
    return sources.sheet(house(), path.key, current_app.config["PUBLIC_URL"])


@rooms.get("/sources/<key>/tokens", responses=answers("models.PageOfTokens"))
@needs("sources.read")
def list_tokens(path: q.KeyPath, query: q.PageQuery) -> dict[str, Any]:
    """A source's push tokens, without their texts."""
    return sources.tokens(house(), path.key, ask(query))


@rooms.post("/sources/<key>/tokens", responses=answers("models.NewToken", 201))
@needs("sources.change")
def add_token(path: q.KeyPath, body: q.PushTokenBody) -> tuple[dict[str, Any], int]:
    """Make a push token; its text is in the answer, the only time."""
    expires = parse_instant(body.expires_at, "expires_at") if body.expires_at else None
    return sources.add_token(house(), caller(), path.key, body.label, expires, body.kinds, body.access), 201


@rooms.delete("/sources/<key>/tokens/<token_id>", responses={204: None})
@needs("sources.change")
def revoke_token(path: q.TokenPath) -> Response:
    """Revoke a push token."""
    sources.revoke_token(house(), caller(), path.key, path.token_id)
    return Response(status=204)


@rooms.get("/sources/<key>/schemas", responses=answers("source_models.SourceSchemas"))
@needs("sources.read")
def list_schemas(path: q.KeyPath) -> dict[str, Any]:
    """The extension schemas that were added to a source."""
    return shapes.listing(house(), path.key)


@rooms.post("/sources/<key>/schemas", responses=answers("source_models.SourceSchemas", 201))
@needs("sources.change")
def add_schema(path: q.KeyPath, body: q.SchemaBody) -> tuple[dict[str, Any], int]:
    """Add an extension schema to a source."""
    return shapes.add(house(), caller(), path.key, body.kind, body.document), 201


@rooms.delete("/sources/<key>/schemas/<urn>", responses={204: None})
@needs("sources.change")
def remove_schema(path: q.SchemaPath) -> Response:
    """Remove an extension schema from a source."""
    shapes.remove(house(), caller(), path.key, path.urn)
    return Response(status=204)


@rooms.get("/sources/<key>/requests", responses=answers("source_models.PageOfTraces"))
@needs("sources.read")
def list_requests(path: q.KeyPath, query: q.TracesQuery) -> dict[str, Any]:
    """The requests of a source, newest first: what came, what was answered, what it led to."""
    house().traces.flush()
    source_id = sources.id_of(house(), path.key)
    values = ATTRIBUTES in caller().permissions
    return tracing.listing(house().database, source_id, ask(query), words=query.q, outcome=query.outcome, method=query.method, values=values)


@rooms.get("/sources/<key>/requests/<id>", responses=answers("source_models.Trace"))
@needs("attributes.read")
def get_request(path: q.TracePath) -> dict[str, Any]:
    """One request of a source, with its body."""
    return tracing.one(house().database, sources.id_of(house(), path.key), path.id)
