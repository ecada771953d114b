"""Application templates, and applications from them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from flask import Response

from dravo.services.applications import templates
from dravo.services.applications.applications import ApplicationDetail
from dravo.services.applications.templates import AddedApplication, TemplateLine
from dravo.store.pagination import ItemList
from dravo.web.api.auth import api_blueprint, app_context, caller, needs
from dravo.web.api.openapi import responses
from dravo.web.api.schemas.applications.applications import AddSeveralRequest
from dravo.web.api.schemas.applications.templates import (
    CopyApplicationRequest,
    CreateTemplateRequest,
    SaveTemplateRequest,
    template_schema,
)
from dravo.web.api.schemas.common import KeyPath

routes = api_blueprint("templates")


@dataclass
class TemplateDocument:
    """An application template as a data file has it."""

    key: str
    document: dict[str, Any]


@dataclass
class TemplateSchema:
    """The JSON Schema of application templates."""

    json_schema: dict[str, Any]


@routes.post("/applications/several", responses=responses("applications.applications.AddedApplications", 201))
@needs("applications.change")
def add_several_applications(body: AddSeveralRequest) -> tuple[ItemList[AddedApplication], int]:
    """Add several applications.

    One for each template, with its key and label. One that cannot be added does not stop the others.
    """
    return templates.add_several(app_context(), caller(), body.templates, body.owner), 201


@routes.post("/applications/<key>/copy", responses=responses("applications.applications.Application", 201))
@needs("applications.change")
def copy_application(path: KeyPath, body: CopyApplicationRequest) -> tuple[ApplicationDetail, int]:
    """Copy an application.

    Copies roles, plans, settings and access policy. The address, the token and assignments are not copied.
    """
    return templates.copy(app_context(), caller(), path.key, body.key, body.label), 201


@routes.get("/application-templates", responses=responses("applications.templates.ApplicationTemplates"))
@needs("applications.read")
def list_application_templates() -> ItemList[TemplateLine]:
    """List application templates.

    Preset values for a new application. Everything can be changed later.
    """
    return templates.list_templates(app_context())


@routes.post("/application-templates", responses=responses("applications.templates.ApplicationTemplate", 201))
@needs("applications.change")
def create_application_template(body: CreateTemplateRequest) -> tuple[TemplateLine, int]:
    """Create a template from an application.

    The template has the roles, plans, settings and access policy, no address and no secret.
    """
    made = templates.save(app_context(), caller(), body.key, body.application, body.label, body.description)
    return made, 201


@routes.delete("/application-templates/<key>", responses={204: None})
@needs("applications.change")
def delete_application_template(path: KeyPath) -> Response:
    """Delete a template of your organization.

    Applications that were added from the template stay.
    """
    templates.delete(app_context(), caller(), path.key)
    return Response(status=204)


@routes.get("/application-templates/schema", responses=responses("applications.templates.TemplateSchema"))
@needs("applications.read")
def get_template_schema() -> TemplateSchema:
    """Get the schema of application templates.

    A JSON Schema for data files, which editors use.
    """
    return TemplateSchema(json_schema=template_schema())


@routes.get("/application-templates/<key>", responses=responses("applications.templates.TemplateDocument"))
@needs("applications.read")
def get_application_template(path: KeyPath) -> TemplateDocument:
    """Get an application template.

    Returns the template as a data file has it.
    """
    return TemplateDocument(key=path.key, document=templates.document(app_context(), path.key))


@routes.put("/application-templates/<key>", responses=responses("applications.templates.ApplicationTemplate"))
@needs("applications.change")
def save_application_template(path: KeyPath, body: SaveTemplateRequest) -> TemplateLine:
    """Save an application template.

    Creates or replaces a template of your organization from a data file.
    """
    return templates.load(app_context(), caller(), path.key, body.document)
