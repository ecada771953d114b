"""Applications, their roles, settings and connections."""

from __future__ import annotations

from flask import Response

from dravo.core.instants import Instant, parse_instant
from dravo.services.access import expression_tester
from dravo.services.access.expression_tester import ExpressionResult
from dravo.services.applications import (
    applications,
    available_roles,
    checklist,
    connections,
    icons,
    roles,
    status,
    templates,
)
from dravo.services.applications import settings as provisioning_settings
from dravo.services.applications.applications import ApplicationDetail, ApplicationLine
from dravo.services.applications.available_roles import AvailableRoles
from dravo.services.applications.checklist import ApplicationChecklist
from dravo.services.applications.connections import ConnectionCheck, ConnectionSettings
from dravo.services.applications.roles import RoleEdit
from dravo.services.applications.settings import SettingsPreview
from dravo.services.applications.status import StatusChange
from dravo.services.applications.templates import FromTemplate
from dravo.services.changes.effects import PreviewedEffects
from dravo.services.provisioning import groups as group_provisioning
from dravo.services.provisioning.groups import ProvisionedGroup
from dravo.services.uploads import file_content
from dravo.store.pagination import Page
from dravo.web.api.auth import ALL, PATH, api_blueprint, app_context, caller, needs, page_request
from dravo.web.api.downloads import png_response
from dravo.web.api.openapi import responses
from dravo.web.api.routes.assignments import sure_of
from dravo.web.api.schemas.applications.applications import (
    AddApplicationRequest,
    ChangeApplicationRequest,
    ChangeRoleRequest,
    CreateRoleRequest,
    IconQuery,
    IconRequest,
    ProvisioningStatusRequest,
    RolePath,
)
from dravo.web.api.schemas.applications.connections import CheckQuery, ConnectionRequest
from dravo.web.api.schemas.applications.provisioning_settings import ProvisioningSettingsRequest
from dravo.web.api.schemas.common import KeyPath, OfApplicationPath, PageQuery, RemovalQuery
from dravo.web.api.schemas.expressions import EvaluateExpressionRequest

routes = api_blueprint("applications")


@routes.get("/applications", responses=responses("applications.applications.PageOfApplications"))
@needs("applications.read", of=ALL)
def list_applications(query: PageQuery) -> Page[ApplicationLine]:
    """List applications.

    Applications with their status and numbers.
    """
    return applications.list_applications(app_context(), page_request(query), caller().applications)


@routes.post("/applications", responses=responses("applications.applications.Application", 201))
@needs("applications.change")
def add_application(body: AddApplicationRequest) -> tuple[ApplicationDetail, int]:
    """Add an application.

    The key must be unique and cannot be changed later.
    """
    if body.template:
        wish = FromTemplate(body.key, body.label, body.template, body.owner, body.answers)
        return templates.add(app_context(), caller(), wish), 201
    return applications.add(
        app_context(), caller(), body.key, body.label, body.owner, tracked_only=body.tracked_only
    ), 201


@routes.get("/applications/<key>/icon", responses={200: None})
@needs("applications.read", of=PATH)
def get_icon(path: KeyPath, query: IconQuery) -> Response:
    """Get the icon of an application.

    Returns a PNG image, or 404 without an icon.
    """
    return png_response(icons.read_icon(app_context(), path.key), cached=query.version is not None)


@routes.put("/applications/<key>/icon", responses=responses("applications.applications.Application"))
@needs("applications.change")
def set_icon(path: KeyPath, body: IconRequest) -> ApplicationDetail:
    """Upload the icon of an application.

    Takes PNG, JPEG, WebP or GIF. Dravo draws the image again as PNG.
    """
    return icons.set_icon(app_context(), caller(), path.key, file_content(body.image, "image"))


@routes.delete("/applications/<key>/icon", responses=responses("applications.applications.Application"))
@needs("applications.change")
def remove_icon(path: KeyPath) -> ApplicationDetail:
    """Delete the icon of an application.

    The console then shows the first letter of the label.
    """
    return icons.remove_icon(app_context(), caller(), path.key)


@routes.get("/applications/<key>", responses=responses("applications.applications.Application"))
@needs("applications.read", of=PATH)
def get_application(path: KeyPath) -> ApplicationDetail:
    """Get an application.

    Returns roles, settings, access policy, license plans and connection.
    """
    return applications.one(app_context(), path.key)


@routes.patch("/applications/<key>", responses=responses("applications.applications.Application"))
@needs("applications.change")
def change_application(path: KeyPath, body: ChangeApplicationRequest) -> ApplicationDetail:
    """Change an application.

    Changes labels, owner, visibility or provisioning settings. Omitted fields keep their value.
    """
    about = {"label", "owner", "address", "hidden", "requestable", "note", "tracked_only"}
    return applications.change(
        app_context(), caller(), path.key, body.model_dump(include=about), body.model_dump(exclude=about)
    )


@routes.delete("/applications/<key>", responses={204: None})
@needs("applications.change")
def remove_application(path: KeyPath, query: RemovalQuery) -> Response:
    """Delete an application.

    The application must have no assignments and no open tasks. Requires the label in `confirm`.
    """
    applications.remove(app_context(), caller(), path.key, query.confirm)
    return Response(status=204)


@routes.get("/applications/<key>/removal", responses=responses("access.assignments.ChangeEffects"))
@needs("applications.read", of=PATH)
def preview_removal(path: KeyPath) -> PreviewedEffects:
    """Preview the deletion of an application.

    Returns the effects in sentences. Refused while the application has assignments or open tasks.
    """
    return applications.preview_removal(app_context(), path.key).shown()


@routes.put("/applications/<key>/status", responses=responses("applications.applications.Application"))
@needs("applications.change")
def set_status(path: KeyPath, body: ProvisioningStatusRequest) -> ApplicationDetail:
    """Change the provisioning status.

    In a pilot, only accounts of the group's members are created, changed or removed. Waiting tasks start.
    """
    return status.set_status(app_context(), caller(), path.key, StatusChange(**body.model_dump()))


@routes.post("/applications/<key>/status/preview", responses=responses("access.assignments.ChangeEffects"))
@needs("applications.read")
def preview_status(path: KeyPath, body: ProvisioningStatusRequest) -> PreviewedEffects:
    """Preview a provisioning status.

    Returns in sentences how many accounts Dravo would create, change and remove.
    """
    return status.preview_status(app_context(), path.key, StatusChange(**body.model_dump())).shown()


@routes.post("/applications/<key>/roles", responses=responses("applications.applications.Application", 201))
@needs("applications.change")
def add_role(path: KeyPath, body: CreateRoleRequest) -> tuple[ApplicationDetail, int]:
    """Create a role.

    The key and the value sent to the application must be unique in the application.
    """
    return roles.add_role(app_context(), caller(), path.key, body.key, _edit(body)), 201


@routes.patch(
    "/applications/<key>/roles/<role>", responses=responses("applications.applications.Application")
)
@needs("applications.change")
def change_role(path: RolePath, body: ChangeRoleRequest) -> ApplicationDetail:
    """Change a role.

    The key stays. A rank that changes the access of many users requires `confirm`.
    """
    return roles.change_role(app_context(), caller(), path.key, path.role, _edit(body), sure_of(body))


@routes.post(
    "/applications/<key>/roles/<role>/preview", responses=responses("access.assignments.ChangeEffects")
)
@needs("access.read", of=PATH)
def preview_role(path: RolePath, body: ChangeRoleRequest) -> PreviewedEffects:
    """Preview a changed role.

    Returns the users who would gain, lose or change roles. Changes nothing.
    """
    return roles.preview_change(app_context(), path.key, path.role, _edit(body)).shown()


def _edit(body: CreateRoleRequest | ChangeRoleRequest) -> RoleEdit:
    return RoleEdit(body.label, body.rank, body.sent_value, body.description)


@routes.delete(
    "/applications/<key>/roles/<role>", responses=responses("applications.applications.Application")
)
@needs("applications.change")
def remove_role(path: RolePath) -> ApplicationDetail:
    """Delete a role.

    The role must never have been assigned and must not be the fallback role.
    """
    return roles.remove_role(app_context(), caller(), path.key, path.role)


@routes.put("/applications/<key>/connection", responses=responses("applications.applications.Application"))
@needs("applications.change")
def connect(path: KeyPath, body: ConnectionRequest) -> ApplicationDetail:
    """Save the connection of an application.

    A new host needs the secret again. The secret is stored encrypted and never returned.
    """
    return connections.connect(app_context(), caller(), path.key, _connection(body))


def _connection(body: ConnectionRequest) -> ConnectionSettings:
    return ConnectionSettings(
        base_url=body.base_url,
        token=body.token,
        auth=body.auth.model_dump() if body.auth else None,
        expires_at=moment(body.expires_at, "expires_at"),
    )


@routes.get(
    "/applications/<key>/checklist", responses=responses("applications.connections.ApplicationChecklist")
)
@needs("applications.read", of=PATH)
def get_application_checklist(path: KeyPath) -> ApplicationChecklist:
    """Get the setup checklist of an application.

    What both sides need, what is missing, and what real traffic has verified.
    """
    return checklist.checklist(app_context(), path.key)


@routes.post("/applications/<key>/connection/test", responses=responses("applications.connections.Check"))
@needs("applications.change")
def check(path: KeyPath, query: CheckQuery) -> ConnectionCheck:
    """Check the connection of an application.

    Returns the result of each step. With `write`, Dravo creates, updates and deletes a test account.
    """
    return connections.check(app_context(), caller(), path.key, writing=query.with_test_user)


@routes.post("/applications/<key>/connection/preview", responses=responses("applications.connections.Check"))
@needs("applications.change")
def preview_connection(path: KeyPath, query: CheckQuery, body: ConnectionRequest) -> ConnectionCheck:
    """Check a connection before saving.

    Tests the given values and saves nothing. Without a token, Dravo uses the saved one if the host stays.
    """
    return connections.preview(app_context(), path.key, _connection(body), writing=query.with_test_user)


@routes.get(
    "/applications/<key>/available-roles", responses=responses("applications.connections.AvailableRoles")
)
@needs("applications.read")
def list_available_roles(path: KeyPath) -> AvailableRoles:
    """List the roles that the application has.

    Values of roles and entitlements, and group names, read by the last check or reconciliation.
    """
    return available_roles.list_available(app_context(), path.key)


@routes.post(
    "/applications/<key>/settings/preview",
    responses=responses("applications.provisioning_settings.SettingsPreview"),
)
@needs("attributes.read")
def preview_settings(path: KeyPath, body: ProvisioningSettingsRequest) -> SettingsPreview:
    """Preview provisioning settings.

    Returns the accounts that would change. Changes nothing.
    """
    return provisioning_settings.preview(app_context(), path.key, body.model_dump())


@routes.get(
    "/applications/<key>/groups", responses=responses("applications.applications.PageOfProvisionedGroups")
)
@needs("applications.read")
def list_provisioned_groups(path: KeyPath, query: PageQuery) -> Page[ProvisionedGroup]:
    """List provisioned groups.

    Groups that Dravo provisions to the application, with their status.
    """
    return group_provisioning.list_groups(app_context(), path.key, page_request(query))


@routes.post("/applications/<key>/groups/<id>/retry", responses={204: None})
@needs("tasks.retry")
def group_again(path: OfApplicationPath) -> Response:
    """Retry a provisioned group.

    Dravo tries the group again now.
    """
    group_provisioning.retry(app_context(), caller(), path.key, path.id)
    return Response(status=204)


@routes.post("/expressions/evaluate", responses=responses("expressions.ExpressionResult"))
@needs("attributes.read")
def try_expression(body: EvaluateExpressionRequest) -> ExpressionResult:
    """Evaluate an expression.

    Evaluates an expression for a user. An error names the position of the character.
    """
    if body.source:
        return expression_tester.try_on_source(
            app_context(), body.expression, body.source, body.user, body.attribute
        )
    return expression_tester.try_expression(app_context(), body.expression, body.user, body.attribute)


@routes.post("/applications/<key>/pause", responses=responses("applications.applications.Application"))
@needs("tasks.change")
def pause(path: KeyPath) -> ApplicationDetail:
    """Pause provisioning.

    Tasks of the application wait until it is resumed.
    """
    return connections.pause(app_context(), caller(), path.key, paused=True)


@routes.post("/applications/<key>/resume", responses=responses("applications.applications.Application"))
@needs("tasks.change")
def resume(path: KeyPath) -> ApplicationDetail:
    """Resume provisioning.

    Waiting tasks of the application continue.
    """
    return connections.pause(app_context(), caller(), path.key, paused=False)


def moment(text: str | None, field: str) -> Instant | None:
    """Return an instant that may be left out."""
    return parse_instant(text, field) if text else None
