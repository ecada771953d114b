"""Applications, their roles, settings and connections."""

from __future__ import annotations

from typing import Any

from flask import Response

from dravo.core.instants import Instant, parse_instant
from dravo.services import applications, delivery_settings, group_delivering, trying
from dravo.web.api import asked as q
from dravo.web.api.describing import answers
from dravo.web.api.door import ALL, PATH, ask, caller, house, needs, room

rooms = room("applications")


@rooms.get("/applications", responses=answers("models.PageOfApplications"))
@needs("applications.read", of=ALL)
def list_applications(query: q.PageQuery) -> dict[str, Any]:
    """Applications and how each is doing."""
    return applications.listing(house(), ask(query), caller().applications)


@rooms.post("/applications", responses=answers("application_models.Application", 201))
@needs("applications.change")
def add_application(body: q.ApplicationBody) -> tuple[dict[str, Any], int]:
    """Add an application."""
    return applications.add(house(), caller(), body.key, body.label, body.owner, tracked_only=body.tracked_only), 201


@rooms.get("/applications/<key>", responses=answers("application_models.Application"))
@needs("applications.read", of=PATH)
def get_application(path: q.KeyPath) -> dict[str, Any]:
    """One application: roles, settings, connection."""
    return applications.one(house(), path.key)


@rooms.patch("/applications/<key>", responses=answers("application_models.Application"))
@needs("applications.change")
def change_application(path: q.KeyPath, body: q.ApplicationChange) -> dict[str, Any]:
    """Change what is said of an application, or its settings."""
    about = {"label", "owner", "address", "hidden"}
    return applications.change(house(), caller(), path.key, body.model_dump(include=about), body.model_dump(exclude=about))


@rooms.delete("/applications/<key>", responses={204: None})
@needs("applications.change")
def remove_application(path: q.KeyPath, query: q.RemovalQuery) -> Response:
    """Remove an application that nobody has access to; its label confirms."""
    applications.remove(house(), caller(), path.key, query.confirm)
    return Response(status=204)


@rooms.post("/applications/<key>/roles", responses=answers("application_models.Application", 201))
@needs("applications.change")
def add_role(path: q.KeyPath, body: q.RoleBody) -> tuple[dict[str, Any], int]:
    """Add a role."""
    return applications.add_role(house(), caller(), path.key, body.key, body.label, body.rank), 201


@rooms.patch("/applications/<key>/roles/<role>", responses=answers("application_models.Application"))
@needs("applications.change")
def change_role(path: q.RolePath, body: q.RoleChange) -> dict[str, Any]:
    """Give a role another label or rank."""
    return applications.change_role(house(), caller(), path.key, path.role, body.label, body.rank)


@rooms.delete("/applications/<key>/roles/<role>", responses=answers("application_models.Application"))
@needs("applications.change")
def remove_role(path: q.RolePath) -> dict[str, Any]:
    """Remove a role that was never given."""
    return applications.remove_role(house(), caller(), path.key, path.role)


@rooms.put("/applications/<key>/connection", responses=answers("application_models.Application"))
@needs("applications.change")
def connect(path: q.KeyPath, body: q.ConnectionBody) -> dict[str, Any]:
    """Say where the application's SCIM service is, and the token for it."""
    auth = body.auth.model_dump() if body.auth else None
    return applications.connect(house(), caller(), path.key, body.base_url, body.token, auth, moment(body.expires_at, "expires_at"))


@rooms.post("/applications/<key>/connection/check", responses=answers("application_models.Check"))
@needs("applications.change")
def check(path: q.KeyPath, query: q.CheckQuery) -> dict[str, Any]:
    """Try the connection step by step; with a test person, if that is asked for, who is removed afterwards."""
    return applications.check(house(), caller(), path.key, writing=query.with_test_person)


@rooms.post("/applications/<key>/settings/preview", responses=answers("application_models.SettingsPreview"))
@needs("attributes.read")
def preview_settings(path: q.KeyPath, body: q.SettingsBody) -> dict[str, Any]:
    """What a change of settings would do to accounts; nothing is changed."""
    return delivery_settings.preview(house(), path.key, body.model_dump())


@rooms.get("/applications/<key>/groups", responses=answers("application_models.PageOfDeliveredGroups"))
@needs("applications.read")
def list_delivered_groups(path: q.KeyPath, query: q.PageQuery) -> dict[str, Any]:
    """The groups that go over to an application, each with its state."""
    return group_delivering.listing(house(), path.key, ask(query))


@rooms.post("/applications/<key>/groups/<id>/again", responses={204: None})
@needs("deliveries.again")
def group_again(path: q.OfApplicationPath) -> Response:
    """Try a delivered group again now."""
    group_delivering.again(house(), caller(), path.key, path.id)
    return Response(status=204)


@rooms.post("/expressions/try", responses=answers("application_models.Tried"))
@needs("attributes.read")
def try_expression(body: q.ExpressionBody) -> dict[str, Any]:
    """Work an expression out for a person; an error says at which character it lies."""
    if body.source:
        return trying.try_on_source(house(), body.expression, body.source, body.person, body.attribute)
    return trying.try_expression(house(), body.expression, body.person, body.attribute)


@rooms.post("/applications/<key>/pause", responses=answers("application_models.Application"))
@needs("deliveries.change")
def pause(path: q.KeyPath) -> dict[str, Any]:
    """Stop delivering to an application; what is due waits."""
    return applications.pause(house(), caller(), path.key, paused=True)


@rooms.post("/applications/<key>/resume", responses=answers("application_models.Application"))
@needs("deliveries.change")
def resume(path: q.KeyPath) -> dict[str, Any]:
    """Go on delivering to an application."""
    return applications.pause(house(), caller(), path.key, paused=False)


def moment(text: str | None, field: str) -> Instant | None:
    """Return an instant that may be left out."""
    return parse_instant(text, field) if text else None
